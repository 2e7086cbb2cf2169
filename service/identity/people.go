// Package identity knows the people who use the service: their tokens, their sessions, and what each may
// ask for.
package identity

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"log/slog"
	"strings"
	"sync"
	"time"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/service/journal"
	"patientlantern.example/lantern/service/refusal"
	"patientlantern.example/lantern/store"
)

// SessionLife is how long a browser stays signed in.
const SessionLife = 12 * time.Hour

// Options say what the people of a service go with.
type Options struct {
	Store   *store.Store
	Log     *slog.Logger
	Now     func() time.Time
	Version string            // of the service, as sessions tell it
	Refused func(who string)  // counts calls that were refused
	Left    func(name string) // ends what is under way for somebody
}

// People are the operators of a service.
type People struct {
	opts  Options
	store *store.Store
	now   func() time.Time

	mu     sync.RWMutex
	proven map[[sha256.Size]byte]proof // by the hash of a token, or of a session's secret
	turn   int                         // how often something was forgotten
}

// proof is somebody who was looked up lately.
type proof struct {
	operator store.Operator
	until    time.Time
}

// New are the people that a store knows.
func New(o Options) *People {
	return &People{opts: o, store: o.Store, now: o.Now, proven: map[[sha256.Size]byte]proof{}}
}

// NewToken makes a secret with a prefix that tells what it is for.
func NewToken(prefix string) (token string, hash []byte) {
	var b [32]byte
	if _, err := rand.Read(b[:]); err != nil {
		panic(err) // crypto/rand never fails on Linux
	}
	token = prefix + base64.RawURLEncoding.EncodeToString(b[:])
	return token, HashToken(token)
}

// HashToken is what is stored of a token.
func HashToken(token string) []byte {
	sum := sha256.Sum256([]byte(token))
	return sum[:]
}

// person is an operator who calls.
type person struct{ store.Operator }

// Actor is the operator in the journal.
func (p *person) Actor() journal.Actor {
	return journal.Actor{Kind: journal.ActorOperator, Name: p.Name}
}

// Operator is the operator who calls; nobody where none does.
func Operator(ctx context.Context) store.Operator {
	if p, is := journal.Who(ctx).(*person); is {
		return p.Operator
	}
	return store.Operator{}
}

// operator finds out who calls, from a token or the secret of a session.
func (p *People) operator(ctx context.Context, secret string, session bool) (store.Operator, error) {
	now := p.now()
	hash := sha256.Sum256([]byte(secret))
	p.mu.RLock()
	known, ok := p.proven[hash]
	turn := p.turn
	p.mu.RUnlock()
	if ok && now.Before(known.until) {
		return known.operator, nil
	}
	var o store.Operator
	var err error
	if session {
		o, err = p.store.OperatorBySession(ctx, hash[:], now)
	} else {
		o, err = p.store.OperatorByToken(ctx, hash[:])
	}
	if errors.Is(err, store.ErrNotFound) {
		return o, refusal.Of(refusal.Unknown, "the token or session is not known: sign in again, or ask another operator for a new token")
	}
	if err != nil {
		return o, fmt.Errorf("looking who calls: %w", err)
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.turn != turn { // they may have been removed since the store was asked
		return o, nil
	}
	p.proven[hash] = proof{o, now.Add(5 * time.Second)}
	if len(p.proven) > 10_000 {
		clear(p.proven)
	}
	return o, nil
}

// forget drops what is remembered of people, after a change to one of them.
func (p *People) forget() {
	p.mu.Lock()
	defer p.mu.Unlock()
	clear(p.proven)
	p.turn++
}

// Person finds out which operator calls, from a token, or from the secret of a session. The
// context that comes back knows them.
func (p *People) Person(ctx context.Context, secret string, session bool) (context.Context, error) {
	o, err := p.operator(ctx, secret, session)
	if err != nil {
		return nil, err
	}
	if session {
		o.Session = HashToken(secret)
	}
	return journal.With(ctx, &person{o}), nil
}

// May refuses where whoever calls may not have an operation.
func (p *People) May(ctx context.Context, operation string) error {
	if err := may(Operator(ctx), operation); err != nil {
		p.opts.Refused("operator")
		return refusal.Of(refusal.Forbidden, err.Error())
	}
	return nil
}

// SignIn begins a session for whoever has an operator's token. The secret is the session's.
func (p *People) SignIn(ctx context.Context, token string) (secret string, out *api.Session, err error) {
	o, err := p.store.OperatorByToken(ctx, HashToken(strings.TrimSpace(token)))
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return "", nil, err
	}
	if err != nil {
		p.opts.Refused("operator")
		return "", nil, refusal.Of(refusal.Unknown, "no operator has this token; copy it whole, it begins with plo_")
	}
	secret, hash := NewToken("pls_")
	now := p.now()
	if err := p.store.AddSession(ctx, hash, o.Name, now, now.Add(SessionLife)); err != nil {
		return "", nil, err
	}
	return secret, p.session(o), nil
}

func (p *People) session(o store.Operator) *api.Session {
	return &api.Session{Operator: o.Name, Role: o.Role, Service: p.opts.Version}
}

// Session says who is signed in.
func (p *People) Session(ctx context.Context, _ *struct{}) (*api.Session, error) {
	return p.session(Operator(ctx)), nil
}

// SignOut ends a session.
func (p *People) SignOut(ctx context.Context, secret string) error {
	if secret == "" {
		return nil
	}
	if err := p.store.EndSession(ctx, HashToken(secret)); err != nil {
		return err
	}
	p.forget()
	return nil
}
