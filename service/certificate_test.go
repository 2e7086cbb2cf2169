package service_test

import (
	"crypto/x509"
	"encoding/pem"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/client"
	"patientlantern.example/lantern/datafolder"
	"patientlantern.example/lantern/internal/rig"
)

// The service's own certificate is one of the things that end: every host is silent then.
func TestTheServicesCertificateIsADate(t *testing.T) {
	t.Parallel()
	any := httptest.NewTLSServer(http.NotFoundHandler())
	defer any.Close()
	pair := any.TLS.Certificates[0]
	key, err := x509.MarshalPKCS8PrivateKey(pair.PrivateKey)
	require.NoError(t, err)
	dir := t.TempDir()
	certFile, keyFile := filepath.Join(dir, "cert.pem"), filepath.Join(dir, "key.pem")
	require.NoError(t, os.WriteFile(certFile, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: pair.Certificate[0]}), 0o644))
	require.NoError(t, os.WriteFile(keyFile, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: key}), 0o600))
	c, err := datafolder.LoadCertificate(certFile, keyFile, slog.New(slog.DiscardHandler))
	require.NoError(t, err)

	r := rig.New(t, func(o *datafolder.Options) { o.Certificate = c })
	page, err := r.Operator.Dates(ctx, client.List{})
	require.NoError(t, err)
	require.Len(t, page.Dates, 1)
	assert.Equal(t, api.DueCertificate, page.Dates[0].Kind)
	assert.True(t, any.Certificate().NotAfter.Equal(page.Dates[0].Due))
	resp, err := http.Get(r.Server.URL + "/metrics")
	require.NoError(t, err)
	defer resp.Body.Close()
	text, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	assert.Contains(t, string(text), "\nlantern_certificate_end_timestamp_seconds ")

	without := rig.New(t)
	page, err = without.Operator.Dates(ctx, client.List{})
	require.NoError(t, err)
	assert.Empty(t, page.Dates)
}
