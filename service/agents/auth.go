package agents

import (
	"context"
	"crypto/ed25519"
	"crypto/sha256"
	"errors"
	"fmt"
	"sync"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/jwt"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/service/fleet"
	"patientlantern.example/lantern/service/journal"
	"patientlantern.example/lantern/service/refusal"
)

// authenticator knows hosts by the tokens that their agents sign.
type authenticator struct {
	fleet *fleet.Fleet
	now   func() time.Time

	mu     sync.RWMutex
	agents map[[sha256.Size]byte]agentProof // by the hash of a token that was verified
}

type agentProof struct {
	host    *fleet.Host
	key     *publicKey // that it was signed with: a host that joins anew has another, elsewhere
	expires int64      // Unix milliseconds
}

func newAuthenticator(f *fleet.Fleet, now func() time.Time) *authenticator {
	return &authenticator{fleet: f, now: now, agents: map[[sha256.Size]byte]agentProof{}}
}

// agent verifies a token that an agent has signed with its own key (JWT, EdDSA).
// A verified token is remembered until it expires, so that a signature is
// checked once in minutes and not with every check-in.
func (a *authenticator) agent(token string) (*fleet.Host, error) {
	now := a.now()
	hash := sha256.Sum256([]byte(token))
	a.mu.RLock()
	p, ok := a.agents[hash]
	a.mu.RUnlock()
	if ok && now.UnixMilli() < p.expires && !p.host.IsRetired() && p.key == keyOf(p.host) {
		return p.host, nil
	}
	t, err := jwt.ParseSigned(token, []jose.SignatureAlgorithm{jose.EdDSA})
	if err != nil || len(t.Headers) != 1 {
		return nil, errors.New("no JWT signed with EdDSA came with the call")
	}
	h := a.fleet.Named(t.Headers[0].KeyID)
	if h == nil {
		return nil, errors.New("this host is not enrolled; let it join again")
	}
	key := h.Row().Key
	var c jwt.Claims
	if err := t.Claims(key, &c); err != nil {
		return nil, errors.New("it is signed with another key than this host joined with; let it join again")
	}
	if err := c.ValidateWithLeeway(
		jwt.Expected{Issuer: h.Row().Name, AnyAudience: jwt.Audience{api.AgentAudience}, Time: now},
		time.Minute,
	); err != nil {
		if c.IssuedAt != nil && c.Issuer == h.Row().Name {
			h.NoteClock(c.IssuedAt.Time().Sub(now), now)
		}
		return nil, fmt.Errorf("the JWT of this host does not count (is the clock of the host right?): %w", err)
	}
	if c.Expiry == nil || c.Expiry.Time().Sub(now) > 15*time.Minute {
		return nil, errors.New("the JWT of this host would hold for longer than 15 minutes")
	}
	a.mu.Lock()
	if len(a.agents) > 400_000 {
		clear(a.agents)
	}
	a.agents[hash] = agentProof{h, (*publicKey)(key), c.Expiry.Time().UnixMilli()}
	a.mu.Unlock()
	return h, nil
}

type publicKey [ed25519.PublicKeySize]byte

// keyOf is the key of a host, where it stands. Rows that are replaced keep it there.
func keyOf(h *fleet.Host) *publicKey {
	if key := h.Row().Key; len(key) == ed25519.PublicKeySize {
		return (*publicKey)(key)
	}
	return nil
}

// Host finds out which host calls, from a token that its agent has signed. The context that
// comes back knows it.
func (s *Agents) Host(ctx context.Context, token string) (context.Context, error) {
	h, err := s.auth.agent(token)
	if err != nil {
		s.counts.Refused("agent")
		return nil, refusal.Of(refusal.Unknown, err.Error())
	}
	return journal.With(ctx, h), nil
}
