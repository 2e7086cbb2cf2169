package standin

import (
	"crypto"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"math/big"
	"net"
	"time"
)

// Authority is a made-up vendor's own certificate authority. Like the signing
// keys it is derived from a name, and protects nothing.
type Authority struct {
	cert *x509.Certificate
	key  ed25519.PrivateKey
}

// NewAuthority derives an authority.
func NewAuthority(name string) (*Authority, error) {
	seed := sha256.Sum256([]byte("patient-lantern stand-in authority " + name))
	key := ed25519.NewKeyFromSeed(seed[:])
	tmpl := &x509.Certificate{
		SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: name + " authority", Organization: []string{name}},
		NotBefore: time.Date(2025, 1, 1, 0, 0, 0, 0, time.UTC), NotAfter: time.Date(2045, 1, 1, 0, 0, 0, 0, time.UTC),
		IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign | x509.KeyUsageDigitalSignature,
	}
	der, err := x509.CreateCertificate(nil, tmpl, tmpl, key.Public(), key)
	if err != nil {
		return nil, err
	}
	cert, err := x509.ParseCertificate(der)
	return &Authority{cert, key}, err
}

// PEM returns the authority's certificate.
func (a *Authority) PEM() string { return certPEM(a.cert.Raw) }

func certPEM(der []byte) string {
	return string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}))
}

// Pool returns the authority as what others are checked against.
func (a *Authority) Pool() *x509.CertPool {
	p := x509.NewCertPool()
	p.AddCert(a.cert)
	return p
}

// issue signs a certificate with a new key.
func (a *Authority) issue(subject pkix.Name, from, to time.Time, usage x509.ExtKeyUsage, serial int64) ([]byte, crypto.PrivateKey, error) {
	pub, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return nil, nil, err
	}
	tmpl := &x509.Certificate{
		SerialNumber: big.NewInt(serial), Subject: subject, NotBefore: from, NotAfter: to,
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{usage},
		DNSNames: []string{"localhost"}, IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)},
	}
	if usage == x509.ExtKeyUsageClientAuth {
		tmpl.DNSNames, tmpl.IPAddresses = nil, nil
	}
	der, err := x509.CreateCertificate(rand.Reader, tmpl, a.cert, pub, a.key)
	return der, key, err
}

// Server returns the settings of a TLS server on loopback that asks for client
// certificates of this authority and takes callers without one.
func (a *Authority) Server(now time.Time) (*tls.Config, error) {
	der, key, err := a.issue(
		pkix.Name{CommonName: "127.0.0.1"},
		now.Add(-time.Hour),
		now.AddDate(1, 0, 0),
		x509.ExtKeyUsageServerAuth,
		now.UnixNano(),
	)
	if err != nil {
		return nil, err
	}
	return &tls.Config{
		MinVersion:   tls.VersionTLS12,
		Certificates: []tls.Certificate{{Certificate: [][]byte{der}, PrivateKey: key}},
		ClientAuth:   tls.VerifyClientCertIfGiven, ClientCAs: a.Pool(),
	}, nil
}
