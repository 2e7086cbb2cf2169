package ground

import (
	"crypto"
	"crypto/ed25519"
	"encoding/base64"
	"encoding/json"
	"errors"

	"github.com/go-jose/go-jose/v4"

	"patientlantern.example/lantern/api"
)

// Signer signs deliveries.
type Signer struct {
	jws    jose.Signer // of deliveries
	grants jose.Signer // of access
	Public string      // JWK
	Thumb  string
}

func newSigner(key ed25519.PrivateKey) (*Signer, error) {
	if len(key) != ed25519.PrivateKeySize {
		return nil, errors.New("the service needs an Ed25519 key to sign with")
	}
	pub := jose.JSONWebKey{Key: key.Public(), Algorithm: string(jose.EdDSA), Use: "sig"}
	thumb, err := thumbprint(pub)
	if err != nil {
		return nil, err
	}
	pub.KeyID = thumb
	jwk, err := pub.MarshalJSON()
	if err != nil {
		return nil, err
	}
	out := &Signer{Public: string(jwk), Thumb: thumb}
	for _, x := range []struct {
		to  *jose.Signer
		typ jose.ContentType
	}{{&out.jws, api.TypeDelivery}, {&out.grants, api.TypeGrant}} {
		if *x.to, err = jose.NewSigner(
			jose.SigningKey{Algorithm: jose.EdDSA, Key: jose.JSONWebKey{Key: key, KeyID: thumb}},
			(&jose.SignerOptions{}).WithType(x.typ),
		); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// thumbprint is a key's JWK thumbprint (RFC 7638), SHA-256, base64url.
func thumbprint(k jose.JSONWebKey) (string, error) {
	sum, err := k.Thumbprint(crypto.SHA256)
	if err != nil {
		return "", err
	}
	return base64.RawURLEncoding.EncodeToString(sum), nil
}

// Sign signs a delivery, or a grant of access. Each says in its header what it is.
func (s *Signer) Sign(v any) (string, error) {
	by := s.jws
	if _, ok := v.(api.AccessGrant); ok {
		by = s.grants
	}
	b, err := json.Marshal(v)
	if err != nil {
		return "", err
	}
	defer clear(b)
	obj, err := by.Sign(b)
	if err != nil {
		return "", err
	}
	return obj.CompactSerialize()
}
