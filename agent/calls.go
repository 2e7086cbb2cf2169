package agent

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"net/http"
	"os"
	"strings"
	"sync"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/jwt"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/fetch"
)

// callTime bounds one call, answer included.
const callTime = 60 * time.Second

// maxAnswer bounds an answer in bytes; no sheet comes near it.
const maxAnswer = 16 << 20

// link is the agent's connection to the service.
type link struct {
	service string
	host    string
	key     ed25519.PrivateKey
	http    *http.Client
	mu      sync.Mutex // signs of life are given beside the work
	token   string
	renew   time.Time
	now     func() time.Time
	log     *slog.Logger       // nil: nobody reads it
	older   map[string]leftOut // by path: what an older service does not know
}

// errAway is the kind of error for a service that does not answer.
var errAway = errors.New("the service does not answer")

// callError is an answer that is no success.
type callError struct {
	status int
	detail string
}

func (e *callError) Error() string { return e.detail }

// bearer returns a token that proves who calls: a JWT that the agent signs.
func (l *link) bearer() (string, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	now := l.now()
	if l.token != "" && now.Before(l.renew) {
		return l.token, nil
	}
	s, err := jose.NewSigner(
		jose.SigningKey{Algorithm: jose.EdDSA, Key: jose.JSONWebKey{Key: l.key, KeyID: l.host}},
		(&jose.SignerOptions{}).WithType("JWT"),
	)
	if err != nil {
		return "", err
	}
	l.token, err = jwt.Signed(s).Claims(jwt.Claims{
		Issuer: l.host, Audience: jwt.Audience{api.AgentAudience},
		IssuedAt: jwt.NewNumericDate(now), Expiry: jwt.NewNumericDate(now.Add(5 * time.Minute)),
	}).Serialize()
	l.renew = now.Add(4 * time.Minute)
	return l.token, err
}

// call sends in as JSON and reads the answer into out, which may be a *[]byte
// for the bytes themselves or nil.
func (l *link) call(ctx context.Context, method, path string, in, out any) error {
	ctx, cancel := context.WithTimeout(ctx, callTime)
	defer cancel()
	var text []byte
	if in != nil {
		var err error
		if text, err = json.Marshal(in); err != nil {
			return err
		}
	}
	for try := 1; ; try++ {
		var body io.Reader
		if in != nil {
			body = bytes.NewReader(l.fit(path, text))
		}
		status, answer, err := l.send(ctx, method, path, body, out)
		if err == nil || in == nil || try > mostUnknown || !l.learn(path, status, answer) {
			return err
		}
	}
}

// send makes one call. status and answer are those of an answer that is no success.
func (l *link) send(ctx context.Context, method, path string, body io.Reader, out any) (status int, answer []byte, err error) {
	req, err := http.NewRequestWithContext(ctx, method, l.service+path, body)
	if err != nil {
		return 0, nil, err
	}
	req.Header.Set("Content-Type", "application/json")
	if l.key != nil {
		token, err := l.bearer()
		if err != nil {
			return 0, nil, err
		}
		req.Header.Set("Authorization", "Bearer "+token)
	}
	resp, err := l.http.Do(req)
	if err != nil {
		return 0, nil, fmt.Errorf("%w: %w", errAway, err)
	}
	defer resp.Body.Close()
	b, err := io.ReadAll(io.LimitReader(resp.Body, maxAnswer+1))
	if err != nil {
		return 0, nil, fmt.Errorf("%w: %w", errAway, err)
	}
	if len(b) > maxAnswer {
		return 0, nil, fmt.Errorf("the answer to %s is larger than %d bytes", path, maxAnswer)
	}
	if resp.StatusCode >= 300 {
		var p struct {
			Detail string `json:"detail"`
		}
		if json.Unmarshal(b, &p) != nil || p.Detail == "" {
			p.Detail = fmt.Sprintf("the service answered %s", resp.Status)
		}
		return resp.StatusCode, b, &callError{resp.StatusCode, p.Detail}
	}
	switch o := out.(type) {
	case nil:
	case *[]byte:
		*o = b
	default:
		if err := json.Unmarshal(b, out); err != nil {
			return 0, nil, fmt.Errorf("the answer to %s is not the JSON that is wanted: %w", path, err)
		}
	}
	return 0, nil, nil
}

// newHTTP makes a client that follows no redirection: the service is where the
// operator said it is.
func newHTTP() *http.Client {
	return &http.Client{Transport: fetch.Plain(), CheckRedirect: func(*http.Request, []*http.Request) error {
		return errors.New("the service redirects; give its real address")
	}}
}

// Join takes the host into the fleet. The service's key is pinned: its
// thumbprint stands in the token.
func (h *Host) Join(ctx context.Context, service, token string) (string, error) {
	service = strings.TrimRight(service, "/")
	_, thumb, ok := strings.Cut(token, ".")
	if !ok || !strings.HasPrefix(token, "plj_") {
		return "", errors.New("this is not an invitation's token; it begins with plj_ (lantern host invite NAME)")
	}
	probe := &link{service: service, http: newHTTP(), now: time.Now}
	if err := probe.call(ctx, http.MethodGet, "/healthz", nil, nil); errors.Is(err, errAway) {
		return "", fmt.Errorf("joining %s: %w; nothing was made", service, err) // before anything is
	}
	release, err := h.lock()
	if err != nil {
		return "", err
	}
	defer release()
	var old Enrolment
	if err := h.loadJSON("enrolment.json", &old); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return "", fmt.Errorf("%w; if this host is to begin anew: lantern-agent forget", err)
	}
	if old.Host != "" && checkThumb(old.Key, thumb) == nil {
		return "", fmt.Errorf(
			"this host has joined %s as %s already; start the agent (lantern-agent run), or let it begin anew first: lantern-agent forget",
			old.Service,
			old.Host,
		)
	}
	key, err := h.keyToJoin()
	if err != nil {
		return "", fmt.Errorf("the agent's key cannot be kept: %w", err)
	}
	jwk, err := (&jose.JSONWebKey{Key: key.Public()}).MarshalJSON()
	if err != nil {
		return "", err
	}
	l := &link{service: service, http: newHTTP(), now: time.Now}
	var out api.Joined
	if err := l.call(ctx, http.MethodPost, "/api/agent/join", api.Join{Token: token, Key: string(jwk)}, &out); err != nil {
		return "", fmt.Errorf("joining %s: %w", service, err)
	}
	if err := checkThumb([]byte(out.Service), thumb); err != nil {
		return "", fmt.Errorf("joining %s: %w", service, err)
	}
	if old.Host != "" { // another service: what the one before had carried out does not bind this one
		if err := h.forgetCarried(); err != nil {
			return "", fmt.Errorf("what the service before carried out cannot be forgotten: %w", err)
		}
	}
	if err := h.saveJSON("enrolment.json", Enrolment{Service: service, Host: out.Host, Key: json.RawMessage(out.Service)}); err != nil {
		return "", fmt.Errorf("the enrolment cannot be kept: %w", err)
	}
	return out.Host, nil
}

// forgetCarried forgets what was carried out: the next delivery is the first. Files stay
// as they are, and the agent still knows which access files are its own.
func (h *Host) forgetCarried() error {
	if open, err := h.journalOpen(); open || err != nil {
		return errors.Join(errOpen, err)
	}
	for _, name := range []string{"memory.json", "sheet.json", "kept.json", baseFile} {
		if err := os.Remove(h.statePath(name)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
}

// Forget makes the host begin anew: it forgets the service, its own key and what was
// carried out. Nothing below the root is changed but the agent's own folder.
func (h *Host) Forget() error {
	release, err := h.lock()
	if err != nil {
		return err
	}
	defer release()
	if _, err := h.Recover(); err != nil {
		return fmt.Errorf("%w: %w", errOpen, err)
	}
	if err := h.forgetCarried(); err != nil {
		return err
	}
	for _, name := range []string{"enrolment.json", "key.pem"} {
		if err := os.Remove(h.statePath(name)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
}
