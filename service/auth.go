package service

import (
	"bytes"
	"context"
	"crypto"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
	"github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/jwt"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/store"
)

const cookieName = "lantern-session"

// sessionLife is how long a browser stays signed in.
const sessionLife = 12 * time.Hour

type authenticator struct {
	store *store.Store
	fleet *fleet
	now   func() time.Time

	mu     sync.RWMutex
	agents map[[sha256.Size]byte]agentProof // by the hash of a token that was verified
	people map[[32]byte]personProof
}

type agentProof struct {
	host    *host
	key     [ed25519.PublicKeySize]byte
	expires int64 // Unix milliseconds
}

type personProof struct {
	operator store.Operator
	until    time.Time
}

func newAuthenticator(st *store.Store, f *fleet, now func() time.Time) *authenticator {
	return &authenticator{store: st, fleet: f, now: now, agents: map[[sha256.Size]byte]agentProof{}, people: map[[32]byte]personProof{}}
}

// NewToken makes a secret with a prefix that tells what it is for.
func NewToken(prefix string) (token string, hash []byte) {
	var b [32]byte
	if _, err := rand.Read(b[:]); err != nil {
		panic(err) // crypto/rand never fails on Linux
	}
	token = prefix + base64.RawURLEncoding.EncodeToString(b[:])
	return token, hashToken(token)
}

func hashToken(token string) []byte {
	sum := sha256.Sum256([]byte(token))
	return sum[:]
}

type contextKey int

const (
	operatorKey contextKey = iota
	agentKey
)

func operatorFrom(ctx context.Context) store.Operator {
	o, _ := ctx.Value(operatorKey).(store.Operator)
	return o
}

// errSignIn is the answer to a caller who has not said who they are.
var errSignIn = errors.New("sign in first: send an operator's token as Authorization: Bearer …")

// errStore is the kind of error for a database that could not be asked: it says nothing
// about the caller.
var errStore = errors.New("looking who calls")

// operator finds out who calls, from a token or a session cookie.
func (a *authenticator) operator(r *http.Request) (store.Operator, error) {
	now := a.now()
	var secret string
	session := false
	if t, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer "); ok {
		secret = t
	} else if c, err := r.Cookie(cookieName); err == nil {
		secret, session = c.Value, true
	} else {
		return store.Operator{}, errSignIn
	}
	hash := sha256.Sum256([]byte(secret))
	a.mu.RLock()
	p, ok := a.people[hash]
	a.mu.RUnlock()
	if ok && now.Before(p.until) {
		return p.operator, nil
	}
	var o store.Operator
	var err error
	if session {
		o, err = a.store.OperatorBySession(r.Context(), hash[:], now)
	} else {
		o, err = a.store.OperatorByToken(r.Context(), hash[:])
	}
	if errors.Is(err, store.ErrNotFound) {
		return o, errors.New("the token or session is not known: sign in again, or ask another operator for a new token")
	}
	if err != nil {
		return o, fmt.Errorf("%w: %w", errStore, err)
	}
	a.mu.Lock()
	a.people[hash] = personProof{o, now.Add(5 * time.Second)}
	if len(a.people) > 10_000 {
		clear(a.people)
	}
	a.mu.Unlock()
	return o, nil
}

// forget drops what is remembered of people, after a change to one of them.
func (a *authenticator) forget() {
	a.mu.Lock()
	clear(a.people)
	a.mu.Unlock()
}

// agent verifies a token that an agent has signed with its own key (JWT, EdDSA).
// A verified token is remembered until it expires, so that a signature is
// checked once in minutes and not with every check-in.
func (a *authenticator) agent(r *http.Request) (*host, error) {
	token, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
	if !ok {
		return nil, errors.New("an agent signs its calls: Authorization: Bearer, a JWT")
	}
	now := a.now()
	hash := sha256.Sum256([]byte(token))
	a.mu.RLock()
	p, ok := a.agents[hash]
	a.mu.RUnlock()
	if ok && now.UnixMilli() < p.expires && !p.host.retired.Load() && bytes.Equal(p.host.row().Key, p.key[:]) {
		return p.host, nil
	}
	t, err := jwt.ParseSigned(token, []jose.SignatureAlgorithm{jose.EdDSA})
	if err != nil || len(t.Headers) != 1 {
		return nil, errors.New("the token is not a JWT signed with EdDSA")
	}
	a.fleet.mu.RLock()
	h := a.fleet.byName[t.Headers[0].KeyID]
	a.fleet.mu.RUnlock()
	if h == nil {
		return nil, errors.New("this host is not enrolled; let it join again")
	}
	key := h.row().Key
	var c jwt.Claims
	if err := t.Claims(key, &c); err != nil {
		return nil, errors.New("the token is not signed with the key of this host; let it join again")
	}
	if err := c.ValidateWithLeeway(
		jwt.Expected{Issuer: h.row().Name, AnyAudience: jwt.Audience{api.AgentAudience}, Time: now},
		time.Minute,
	); err != nil {
		if c.IssuedAt != nil && c.Issuer == h.row().Name {
			h.astray.note(c.IssuedAt.Time().Sub(now), now)
		}
		return nil, fmt.Errorf("the token does not count (is the clock of the host right?): %w", err)
	}
	if c.Expiry == nil || c.Expiry.Time().Sub(now) > 15*time.Minute {
		return nil, errors.New("the token is good for too long")
	}
	a.mu.Lock()
	if len(a.agents) > 400_000 {
		clear(a.agents)
	}
	a.agents[hash] = agentProof{h, [ed25519.PublicKeySize]byte(key), c.Expiry.Time().UnixMilli()}
	a.mu.Unlock()
	return h, nil
}

// problem writes problem details, RFC 9457.
func problem(w http.ResponseWriter, status int, detail string) {
	b, err := json.Marshal(&huma.ErrorModel{Status: status, Title: http.StatusText(status), Detail: detail})
	if err != nil {
		b = []byte("{}")
	}
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(status)
	_, _ = w.Write(b) // the caller has gone if this fails
}

// people lets those through who sign in. Which operations each may have is asked at the
// door.
func (s *Service) people(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method == http.MethodPost && r.URL.Path == "/api/session" {
			next.ServeHTTP(w, r)
			return
		}
		o, err := s.auth.operator(r)
		if errors.Is(err, errStore) {
			s.fault(w, r, err)
			return
		}
		if err != nil {
			problem(w, http.StatusUnauthorized, err.Error())
			return
		}
		next.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), operatorKey, o)))
	})
}

// atDoor asks for each operation whether the operator may have it.
func (s *Service) atDoor(ctx huma.Context, next func(huma.Context)) {
	operation := ctx.Operation().OperationID
	if operation != signInOperation {
		if err := may(operatorFrom(ctx.Context()), operation); err != nil {
			s.metrics.refused.WithLabelValues("operator").Inc()
			_, w := humachi.Unwrap(ctx)
			problem(w, http.StatusForbidden, err.Error())
			return
		}
	}
	s.inside.Add(1)
	defer s.inside.Add(-1)
	next(ctx)
}

// giveWay waits while somebody's call is under way, so that what is worked out ahead of time
// does not keep it waiting. left is how much longer it may wait in all: nothing waits for ever.
func (s *Service) giveWay(ctx context.Context, left *time.Duration) {
	const pause = 5 * time.Millisecond
	for s.inside.Load() > 0 && *left > 0 && ctx.Err() == nil {
		*left -= pause
		time.Sleep(pause)
	}
}

// signInOperation is the one that nobody has to be signed in for.
const signInOperation = "sign-in"

// signer signs deliveries.
type signer struct {
	jws    jose.Signer // of deliveries
	grants jose.Signer // of access
	public string      // JWK
	thumb  string
}

func newSigner(key ed25519.PrivateKey) (*signer, error) {
	if len(key) != ed25519.PrivateKeySize {
		return nil, errors.New("the service needs an Ed25519 key to sign with")
	}
	pub := jose.JSONWebKey{Key: key.Public(), Algorithm: string(jose.EdDSA), Use: "sig"}
	thumb, err := Thumbprint(pub)
	if err != nil {
		return nil, err
	}
	pub.KeyID = thumb
	jwk, err := pub.MarshalJSON()
	if err != nil {
		return nil, err
	}
	out := &signer{public: string(jwk), thumb: thumb}
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

// Thumbprint is a key's JWK thumbprint (RFC 7638), SHA-256, base64url.
func Thumbprint(k jose.JSONWebKey) (string, error) {
	sum, err := k.Thumbprint(crypto.SHA256)
	if err != nil {
		return "", err
	}
	return base64.RawURLEncoding.EncodeToString(sum), nil
}

// sign signs a delivery, or a grant of access. Each says in its header what it is.
func (s *signer) sign(v any) (string, error) {
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
