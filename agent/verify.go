package agent

import (
	"crypto"
	"crypto/subtle"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/go-jose/go-jose/v4"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/source"
)

// skew is how far the clocks of host and service may be apart.
const skew = 2 * time.Minute

func checkThumb(jwk []byte, want string) error {
	var k jose.JSONWebKey
	if err := k.UnmarshalJSON(jwk); err != nil {
		return errors.New("the service's key is not a JWK")
	}
	sum, err := k.Thumbprint(crypto.SHA256)
	if err != nil {
		return err
	}
	if subtle.ConstantTimeCompare([]byte(base64.RawURLEncoding.EncodeToString(sum)), []byte(want)) != 1 {
		return errors.New("the service has another key than the invitation says: somebody may stand between; nothing was kept")
	}
	return nil
}

// verifySigned checks that a JWS is signed by the pinned service and is what it
// says it is. It returns the payload.
func verifySigned(text []byte, e *Enrolment, typ jose.ContentType) ([]byte, error) {
	var key jose.JSONWebKey
	if err := key.UnmarshalJSON(e.Key); err != nil {
		return nil, errors.New("cannot be checked: the pinned key of the service is damaged; let the host join again")
	}
	obj, err := jose.ParseSignedCompact(string(text), []jose.SignatureAlgorithm{jose.EdDSA})
	if err != nil {
		return nil, errors.New("is not a JWS signed with EdDSA")
	}
	payload, err := obj.Verify(key.Key)
	if err != nil {
		return nil, errors.New("is not signed by the pinned key of the service, or was altered")
	}
	if got := obj.Signatures[0].Protected.ExtraHeaders[jose.HeaderType]; got != string(typ) {
		return nil, fmt.Errorf("is signed as %v, not as %s", got, typ)
	}
	return payload, nil
}

// inTime checks that something signed is neither old nor from the future.
func inTime(what string, issued, expires, now time.Time) error {
	switch {
	case !now.Before(expires.Add(skew)):
		return fmt.Errorf("refused: %s expired at %s (is the clock of this host right?)", what, expires.Format(time.RFC3339))
	case issued.Sub(now) > skew:
		return fmt.Errorf("refused: %s is from the future, %s (is the clock of this host right?)", what, issued.Format(time.RFC3339))
	}
	return nil
}

// verifyDelivery checks a signed delivery: it is of the pinned service, for this
// host, in time, and no step back.
func verifyDelivery(jws []byte, e *Enrolment, last memory, now time.Time) (api.Delivery, error) {
	var d api.Delivery
	payload, err := verifySigned(jws, e, api.TypeDelivery)
	if err != nil {
		return d, fmt.Errorf("refused: the delivery %w", err)
	}
	if err := json.Unmarshal(payload, &d); err != nil {
		return d, errors.New("refused: the delivery cannot be read")
	}
	if d.Host != e.Host {
		return d, fmt.Errorf("refused: the delivery is for %s, and this is %s", d.Host, e.Host)
	}
	if err := inTime("the delivery", d.Issued, d.Expires, now); err != nil {
		return d, err
	}
	switch {
	case d.Revision < last.Revision && d.BackOut == 0:
		return d, fmt.Errorf("refused: the delivery carries revision %d, and this host has %d already; "+
			"a revision that is published anew is above it", d.Revision, last.Revision)
	// Of a time that is still to come nothing follows: the clocks were wrong once.
	case d.Issued.Before(last.Issued) && !last.Issued.After(now.Add(skew)):
		return d, errors.New("refused: the delivery is older than one that was carried out already")
	}
	return d, nil
}

// verifySheet checks that a sheet is the one that the delivery names.
func verifySheet(text []byte, d api.Delivery) (*source.Sheet, error) {
	if source.Digest(text) != d.Sheet {
		return nil, errors.New("refused: the sheet is not the one that the delivery names")
	}
	var s source.Sheet
	if err := json.Unmarshal(text, &s); err != nil {
		return nil, errors.New("refused: the sheet cannot be read")
	}
	for form := 1; s.Format != source.FormName(form); form++ {
		if form == source.NewestForm {
			return nil, fmt.Errorf("refused: the sheet is in the format %q, and this agent reads %s; bring the agent up to date",
				s.Format, source.FormName(source.NewestForm))
		}
	}
	return &s, nil
}
