package datafolder

import (
	"bytes"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"log/slog"
	"math/big"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// pairOf makes a certificate that lasts for some days, and its key.
func pairOf(t *testing.T, days int) (cert, key []byte) {
	t.Helper()
	_, private, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	template := &x509.Certificate{
		SerialNumber: big.NewInt(int64(days)), Subject: pkix.Name{CommonName: "lantern.brinewick.test"},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().AddDate(0, 0, days), IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)},
	}
	der, err := x509.CreateCertificate(nil, template, template, private.Public(), private)
	require.NoError(t, err)
	pkcs8, err := x509.MarshalPKCS8PrivateKey(private)
	require.NoError(t, err)
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: pkcs8})
}

// A certificate that is renewed on the disk is the one that hosts see, without a new start; one that cannot be used is not.
func TestARenewedCertificateIsTaken(t *testing.T) {
	dir := t.TempDir()
	certFile, keyFile := filepath.Join(dir, "cert.pem"), filepath.Join(dir, "key.pem")
	put := func(cert, key []byte) {
		if cert != nil {
			require.NoError(t, os.WriteFile(certFile, cert, 0o644))
		}
		if key != nil {
			require.NoError(t, os.WriteFile(keyFile, key, 0o600))
		}
		later := time.Now().Add(time.Duration(time.Now().UnixNano()%1_000_000) * time.Millisecond) // two within a tick of the file system
		require.NoError(t, os.Chtimes(certFile, later, later))
	}
	first, firstKey := pairOf(t, 1)
	put(first, firstKey)
	var said bytes.Buffer
	c, err := LoadCertificate(certFile, keyFile, slog.New(slog.NewJSONHandler(&said, nil)))
	require.NoError(t, err)
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	srv := &http.Server{Handler: http.NotFoundHandler()}
	done := make(chan error, 1)
	go func() { done <- Until(t.Context(), srv, ln, c) }()
	seen := func() int64 {
		c.mu.Lock()
		c.looked = time.Time{} // as if it were some seconds later
		c.mu.Unlock()
		conn, err := tls.Dial("tcp", ln.Addr().String(), &tls.Config{InsecureSkipVerify: true})
		require.NoError(t, err)
		defer conn.Close()
		return conn.ConnectionState().PeerCertificates[0].SerialNumber.Int64()
	}
	require.EqualValues(t, 1, seen())

	second, secondKey := pairOf(t, 90)
	put(second, nil) // the key is not written yet
	assert.EqualValues(t, 1, seen())
	assert.Contains(t, said.String(), "the new certificate cannot be used; the one before is")
	put(nil, secondKey)
	assert.EqualValues(t, 90, seen())
	assert.WithinDuration(t, time.Now().AddDate(0, 0, 90), c.Ends(), time.Minute)
	put([]byte("nothing"), nil)
	assert.EqualValues(t, 90, seen())
	require.NoError(t, os.Remove(certFile))
	assert.EqualValues(t, 90, seen())
	put(first, firstKey)
	assert.EqualValues(t, 1, seen())

	var none *Certificate
	assert.True(t, none.Ends().IsZero())
	require.NoError(t, srv.Close())
	assert.ErrorIs(t, <-done, http.ErrServerClosed)
}
