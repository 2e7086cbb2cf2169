package client_test

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"math/big"
	"net"
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/client"
)

// Why a service that answers is not believed is said in words, and not that none answers.
func TestWhyAServiceIsNotBelieved(t *testing.T) {
	serve := func(from, to time.Time, ip net.IP, believed bool) *client.Client {
		_, key, err := ed25519.GenerateKey(rand.Reader)
		require.NoError(t, err)
		template := &x509.Certificate{SerialNumber: big.NewInt(1), NotBefore: from, NotAfter: to, IPAddresses: []net.IP{ip}}
		der, err := x509.CreateCertificate(nil, template, template, key.Public(), key)
		require.NoError(t, err)
		leaf, err := x509.ParseCertificate(der)
		require.NoError(t, err)
		srv := httptest.NewUnstartedServer(http.NotFoundHandler())
		srv.TLS = &tls.Config{Certificates: []tls.Certificate{{Certificate: [][]byte{der}, PrivateKey: key}}}
		srv.StartTLS()
		t.Cleanup(srv.Close)
		pool := x509.NewCertPool()
		if believed {
			pool.AddCert(leaf)
		}
		c := client.New(srv.URL, "")
		c.HTTP = &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: pool}}}
		return c
	}
	now, day, here := time.Now(), 24*time.Hour, net.IPv4(127, 0, 0, 1)
	for says, c := range map[string]*client.Client{
		"its certificate has ended on ":                                  serve(now.Add(-2*day), now.Add(-day), here, true),
		"its certificate is good from ":                                  serve(now.Add(day), now.Add(2*day), here, true),
		"its certificate is signed by nobody whom this machine believes": serve(now.Add(-day), now.Add(day), here, false),
		"its certificate is that of another name: ":                      serve(now.Add(-day), now.Add(day), net.IPv4(192, 0, 2, 1), true),
	} {
		_, err := c.Operators(context.Background())
		var away *client.Unreachable
		require.ErrorAs(t, err, &away)
		assert.Contains(t, away.Disbelieved(), says)
		assert.ErrorContains(t, err, "the service at "+c.Service+" cannot be believed: "+says)
	}

	c := serve(now.Add(-day), now.Add(day), here, true)
	c.Service = "http" + c.Service[len("https"):]
	_, err := c.Operators(context.Background())
	assert.EqualError(t, err, "the service speaks TLS: give its address as https"+c.Service[len("http"):])

	c.Service = "http://127.0.0.1:1"
	_, err = c.Operators(context.Background())
	assert.ErrorContains(t, err, "no service answers at http://127.0.0.1:1: nothing listens there")
}
