package agent

import (
	"crypto/ed25519"
	"encoding/base64"
	"encoding/json"
	"strings"
	"testing"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/source"
)

var now = time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)

func sign(t *testing.T, key ed25519.PrivateKey, d api.Delivery) []byte {
	t.Helper()
	s, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.EdDSA, Key: key}, (&jose.SignerOptions{}).WithType(api.TypeDelivery))
	require.NoError(t, err)
	b, err := json.Marshal(d)
	require.NoError(t, err)
	obj, err := s.Sign(b)
	require.NoError(t, err)
	text, err := obj.CompactSerialize()
	require.NoError(t, err)
	return []byte(text)
}

func TestAttacksOnDeliveryAreRefused(t *testing.T) {
	pub, key, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	_, other, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	jwk, err := (&jose.JSONWebKey{Key: pub}).MarshalJSON()
	require.NoError(t, err)
	enrol := &Enrolment{Host: "gw-01.brinewick.test", Key: jwk}
	last := memory{Revision: 4, Issued: now.Add(-time.Hour)}
	good := api.Delivery{Host: enrol.Host, Revision: 5, Sheet: strings.Repeat("a", 64), Rollout: 7, Issued: now, Expires: now.Add(10 * time.Minute)}
	with := func(f func(*api.Delivery)) []byte { d := good; f(&d); return sign(t, key, d) }
	altered := sign(t, key, good)
	parts := strings.Split(string(altered), ".")
	forged, err := json.Marshal(api.Delivery{Host: enrol.Host, Revision: 5, Sheet: strings.Repeat("b", 64), Expires: good.Expires, Issued: now})
	require.NoError(t, err)
	for _, c := range []struct {
		name string
		jws  []byte
		want string
	}{
		{"good", sign(t, key, good), ""},
		{"the same revision again", with(func(d *api.Delivery) { d.Revision = 4 }), ""},
		{"another key", sign(t, other, good), "refused: the delivery is not signed by the pinned key of the service, or was altered"},
		{"another payload", []byte(parts[0] + "." + encode(forged) + "." + parts[2]), "refused: the delivery is not signed by the pinned key of the service, or was altered"},
		{"no JWS", []byte("hello"), "refused: the delivery is not a JWS signed with EdDSA"},
		{"no signature", []byte(encode([]byte(`{"alg":"none"}`)) + "." + parts[1] + "."), "refused: the delivery is not a JWS signed with EdDSA"},
		{"another algorithm", []byte(encode([]byte(`{"alg":"HS256"}`)) + "." + parts[1] + "." + parts[2]), "refused: the delivery is not a JWS signed with EdDSA"},
		{"another host", with(func(d *api.Delivery) { d.Host = "gw-02.brinewick.test" }), "refused: the delivery is for gw-02.brinewick.test, and this is gw-01.brinewick.test"},
		{"an older revision", with(func(d *api.Delivery) { d.Revision = 3 }), "refused: the delivery carries revision 3, and this host has 4 already; a revision that is published anew is above it"},
		{"an earlier delivery", with(func(d *api.Delivery) { d.Issued = now.Add(-2 * time.Hour) }), "refused: the delivery is older than one that was carried out already"},
		{"expired", with(func(d *api.Delivery) { d.Issued, d.Expires = now.Add(-time.Hour), now.Add(-skew) }), "refused: the delivery expired at 2026-11-23T07:58:00Z (is the clock of this host right?)"},
		{"from the future", with(func(d *api.Delivery) { d.Issued = now.Add(time.Hour) }), "refused: the delivery is from the future, 2026-11-23T09:00:00Z (is the clock of this host right?)"},
	} {
		t.Run(c.name, func(t *testing.T) {
			d, err := verifyDelivery(c.jws, enrol, last, now)
			if c.want == "" {
				require.NoError(t, err)
				assert.Equal(t, good.Sheet, d.Sheet)
				return
			}
			assert.EqualError(t, err, c.want)
		})
	}
}

func encode(b []byte) string {
	return base64.RawURLEncoding.EncodeToString(b)
}

func TestASheetMustBeTheOneThatWasNamed(t *testing.T) {
	text := []byte(`{"format":"patient-lantern/sheet/1"}`)
	d := api.Delivery{Sheet: source.Digest(text)}
	_, err := verifySheet(text, d)
	assert.NoError(t, err)
	_, err = verifySheet(append(text, ' '), d)
	assert.EqualError(t, err, "refused: the sheet is not the one that the delivery names")
	newer := []byte(`{"format":"patient-lantern/sheet/9"}`)
	_, err = verifySheet(newer, api.Delivery{Sheet: source.Digest(newer)})
	assert.ErrorContains(t, err, "bring the agent up to date")
}

func TestJoiningPinsTheServicesKey(t *testing.T) {
	pub, _, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	jwk, err := (&jose.JSONWebKey{Key: pub}).MarshalJSON()
	require.NoError(t, err)
	assert.ErrorContains(t, checkThumb(jwk, "another"), "somebody may stand between")
}
