package contracts

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/go-jose/go-jose/v4"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/credential"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/desk"
	"patientlantern.example/lantern/service/fleet"
	"patientlantern.example/lantern/service/refusal"
	"patientlantern.example/lantern/service/seats"
	"patientlantern.example/lantern/store"
)

// grantLife is how long a grant of access may be under way.
const grantLife = 10 * time.Minute

// grantSkew is how far the clocks of host and service may be apart.
const grantSkew = 2 * time.Minute

// Access gives a host what opens its licensed sources: signed by the service and
// encrypted to the key that the host has signed, so that nothing in between can read
// or keep it.
func (s *Contracts) Access(ctx context.Context, in *api.AccessOrder) (*api.AccessAnswer, error) {
	v := fleet.Caller(ctx).Row()
	claim, key, err := readClaim(in.Claim, v, s.Now())
	if err != nil {
		return nil, refusal.Of(refusal.Forbidden, err.Error())
	}
	grant, err := s.grant(ctx, v, claim.Wants)
	var no *desk.Refusal
	if errors.Is(err, desk.ErrAway) || errors.As(err, &no) {
		return nil, refusal.Of(refusal.Unavailable, err.Error())
	}
	if err != nil {
		return nil, err
	}
	sealed, err := s.sealGrant(grant, key)
	if err != nil {
		return nil, err
	}
	return &api.AccessAnswer{Sealed: sealed}, nil
}

// readClaim checks that the host itself asks, and now.
func readClaim(text string, v *fleet.View, now time.Time) (claim api.AccessClaim, key jose.JSONWebKey, err error) {
	obj, err := jose.ParseSignedCompact(text, []jose.SignatureAlgorithm{jose.EdDSA})
	if err != nil {
		return claim, key, errors.New("the claim is not a JWS signed with EdDSA")
	}
	payload, err := obj.Verify(v.Key)
	if err != nil {
		return claim, key, errors.New("the claim is not signed by this host's key")
	}
	if err := json.Unmarshal(payload, &claim); err != nil {
		return claim, key, errors.New("the claim cannot be read")
	}
	switch d := now.Sub(claim.Issued); {
	case claim.Host != v.Name:
		return claim, key, fmt.Errorf("the claim is of %s, and this is %s", claim.Host, v.Name)
	case d > grantSkew || d < -grantSkew:
		return claim, key, fmt.Errorf(
			"the claim is of %s; is the clock of the host right? It differs by %s",
			claim.Issued.UTC().Format(time.RFC3339),
			d.Abs().Round(time.Second),
		)
	}
	if err := key.UnmarshalJSON([]byte(claim.Key)); err != nil || !key.IsPublic() {
		return claim, key, errors.New("the key in the claim is not a public JWK")
	}
	if pub, ok := key.Key.(*ecdsa.PublicKey); !ok || pub.Curve != elliptic.P256() {
		return claim, key, errors.New("the key in the claim is not a P-256 key")
	}
	return claim, key, nil
}

// grant gathers the access that a host wants and is entitled to.
func (s *Contracts) grant(ctx context.Context, v *fleet.View, wants []api.AccessWant) (api.AccessGrant, error) {
	out := api.AccessGrant{Host: v.Name, Items: []api.AccessItem{}}
	named, err := s.named(ctx, v)
	if err != nil {
		return out, err
	}
	for _, want := range wants {
		if !slices.Contains([]string{credential.Basic, credential.Certificate, credential.TokenURL}, want.Kind) {
			continue
		}
		if !named[want] {
			out.Items = append(out.Items, api.AccessItem{Account: want.Account, Missing: "no sheet of this host names such access"})
			continue
		}
		item := api.AccessItem{Account: want.Account}
		if _, has := s.Keeper.Seat(v.Name, want.Account); !has {
			item.Missing = "this host has no seat in a contract of the account " + want.Account
			out.Items = append(out.Items, item)
			continue
		}
		secret, err := s.Keeper.Secret(ctx, v.Name, want.Account, want.Kind)
		var none seats.NoAccess
		switch {
		case errors.As(err, &none):
			item.Missing = err.Error()
		case err != nil: // the host keeps what it has
			return out, fmt.Errorf("the access of the account %s cannot be had now: %w", want.Account, err)
		default:
			item.Secret = secret
		}
		out.Items = append(out.Items, item)
	}
	now := s.Now().UTC()
	out.Stamp, out.Issued, out.Expires = s.Keeper.Stamp(v.Name), now, now.Add(grantLife)
	return out, nil
}

// named is the access that the host's sheets name: of the one that it has, the one that it
// carried out last, and the one that waits for it. A host is given nothing else.
func (s *Contracts) named(ctx context.Context, v *fleet.View) (map[api.AccessWant]bool, error) {
	out := map[api.AccessWant]bool{}
	note := func(sheet *source.Sheet) {
		for _, a := range sheet.Access {
			out[api.AccessWant{Account: a.Account, Kind: a.Kind}] = true
		}
	}
	for _, digest := range []string{v.Sheet, v.Carried.Sheet} {
		if digest == "" {
			continue
		}
		sheet, err := s.Compute.SheetOf(ctx, digest)
		if err != nil {
			return nil, err
		}
		note(sheet)
	}
	if v.Task == 0 {
		return out, nil
	}
	ro, err := s.Store.Rollout(ctx, v.Task)
	if err != nil {
		return nil, err
	}
	if ro.Kind == store.KindBackOut {
		b, err := s.Store.BeforeOf(ctx, ro.Of, v.Name)
		if err != nil || b.Carried.Sheet == "" {
			return out, err
		}
		sheet, err := s.Compute.SheetOf(ctx, b.Carried.Sheet)
		if err == nil {
			note(sheet)
		}
		return out, err
	}
	rs, err := s.Compute.Revision(ctx, ro.Carries(&v.Host))
	if err != nil {
		return nil, err
	}
	res, err := s.Compute.Resolve(ctx, rs, v)
	if err != nil {
		return nil, err
	}
	note(res.Sheet)
	return out, nil
}

// sealGrant signs a grant and encrypts it to a host.
func (s *Contracts) sealGrant(g api.AccessGrant, to jose.JSONWebKey) (string, error) {
	signed, err := s.Key.Sign(g)
	if err != nil {
		return "", err
	}
	enc, err := jose.NewEncrypter(
		jose.A256GCM,
		jose.Recipient{Algorithm: jose.ECDH_ES_A256KW, Key: to.Key},
		(&jose.EncrypterOptions{}).WithContentType("JWT"),
	)
	if err != nil {
		return "", err
	}
	obj, err := enc.Encrypt([]byte(signed))
	if err != nil {
		return "", err
	}
	return obj.CompactSerialize()
}
