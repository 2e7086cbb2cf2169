// Package desk speaks with vendors' subscription desks over the small protocol of
// docs/desk.md.
package desk

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"

	"patientlantern.example/lantern/core/credential"
	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/subscription"
	"patientlantern.example/lantern/fetch"
)

// Prefix stands before every path of the protocol; it holds the version.
const Prefix = "/desk/1"

// Book is everything that an account has, and the desk's own time.
type Book struct {
	Time      time.Time               `json:"time"`
	Contracts []subscription.Contract `json:"contracts"`
	Seats     []Seat                  `json:"seats"`
}

// Seat is a seat as the desk knows it.
type Seat struct {
	Host     string    `json:"host"`
	Contract string    `json:"contract"`
	Taken    time.Time `json:"taken"`
}

// Order asks for access.
type Order struct {
	Kind string `json:"kind"` // basic, client-certificate or token-url
}

// Reasons for which a desk says no; they stand in the problem's type.
const (
	Full      = "full"
	Ended     = "ended"
	Withdrawn = "withdrawn"
	Unknown   = "unknown"
	NoSeat    = "no-seat"
)

// Refusal is a desk that answers and says no.
type Refusal struct {
	Status int
	Reason string // one of the reasons, or empty
	Detail string
}

func (e *Refusal) Error() string { return e.Detail }

// LoginRefused reports whether the desk does not take the organisation's login.
func (e *Refusal) LoginRefused() bool { return e.Status == http.StatusUnauthorized }

// Line is what desks are called through.
type Line = http.Client

// ErrAway is the kind of error for a desk that does not answer, or answers that it
// cannot.
var ErrAway = errors.New("the desk does not answer")

// maxAnswer bounds an answer in bytes.
const maxAnswer = 16 << 20

// mostContracts and mostSeats bound a book.
const (
	mostContracts = 10_000
	mostSeats     = 200_000
)

// Account is a desk with the organisation's login. Its login is never in an error.
type Account struct {
	URL      string
	Login    string
	Password string
	HTTP     *http.Client
}

// NewHTTP makes a client that follows no redirection, which would carry the login
// elsewhere.
func NewHTTP(timeout time.Duration) *Line {
	return &http.Client{Timeout: timeout, Transport: fetch.Plain(), CheckRedirect: func(*http.Request, []*http.Request) error {
		return errors.New("the desk redirects; give its real address")
	}}
}

// Book lists contracts and seats.
func (a *Account) Book(ctx context.Context) (Book, error) {
	var b Book
	err := a.call(ctx, http.MethodGet, "/book", nil, &b)
	if err == nil && (len(b.Contracts) > mostContracts || len(b.Seats) > mostSeats) {
		return Book{}, fmt.Errorf(
			"%w: it lists %d contracts and %d seats, and no organisation has more than %d and %d",
			ErrAway,
			len(b.Contracts),
			len(b.Seats),
			mostContracts,
			mostSeats,
		)
	}
	for i := range b.Contracts {
		if c := &b.Contracts[i]; err == nil &&
			(c.Number == "" || c.Cover != subscription.CoverSeats && c.Cover != subscription.CoverOrganisation || c.Seats < 0) {
			err = fmt.Errorf("%w: contract %q cannot be understood", ErrAway, c.Number)
		}
	}
	return b, err
}

// Take takes a seat. A host that has it already keeps it.
func (a *Account) Take(ctx context.Context, contract, host string) (Seat, error) {
	var s Seat
	return s, a.call(ctx, http.MethodPut, seatPath(contract, host), nil, &s)
}

// Release gives a seat back. A seat that is not there is no error.
func (a *Account) Release(ctx context.Context, contract, host string) error {
	err := a.call(ctx, http.MethodDelete, seatPath(contract, host), nil, nil)
	var no *Refusal
	if errors.As(err, &no) && no.Status == http.StatusNotFound {
		return nil
	}
	return err
}

// Access issues what opens the sources for a host in its seat.
func (a *Account) Access(ctx context.Context, contract, host, kind string) (credential.Secret, error) {
	var s credential.Secret
	return s, a.call(ctx, http.MethodPost, seatPath(contract, host)+"/access", Order{kind}, &s)
}

func seatPath(contract, host string) string {
	return "/contracts/" + url.PathEscape(contract) + "/seats/" + url.PathEscape(host)
}

func (a *Account) call(ctx context.Context, method, path string, in, out any) error {
	var body io.Reader
	if in != nil {
		b, err := json.Marshal(in)
		if err != nil {
			return err
		}
		body = bytes.NewReader(b)
	}
	req, err := http.NewRequestWithContext(ctx, method, strings.TrimRight(a.URL, "/")+Prefix+path, body)
	if err != nil {
		return fmt.Errorf("the address of the desk cannot be used: %w", err)
	}
	req.Header.Set("Accept", "application/json")
	if in != nil {
		req.Header.Set("Content-Type", "application/json")
	}
	req.SetBasicAuth(a.Login, a.Password)
	resp, err := a.HTTP.Do(req)
	if err != nil {
		return fmt.Errorf("%w: %w", ErrAway, plain(err))
	}
	defer resp.Body.Close()
	b, err := io.ReadAll(io.LimitReader(resp.Body, maxAnswer+1))
	switch {
	case err != nil:
		return fmt.Errorf("%w: %w", ErrAway, plain(err))
	case len(b) > maxAnswer:
		return fmt.Errorf("%w: its answer is larger than %d bytes", ErrAway, maxAnswer)
	case resp.StatusCode >= 500:
		return fmt.Errorf("%w: it answered %s", ErrAway, resp.Status)
	case resp.StatusCode == http.StatusUnauthorized:
		return &Refusal{resp.StatusCode, "", "the desk does not take the organisation's login; give the right one: lantern account add"}
	case resp.StatusCode >= 300:
		var p struct{ Type, Detail string }
		if json.Unmarshal(b, &p) != nil || p.Detail == "" {
			p.Detail = "the desk answered " + resp.Status
		}
		// What a desk repeats of what it was sent is nobody else's to read.
		detail := family.HideWords(p.Detail, family.AddSecrets(nil, a.Password))
		return &Refusal{resp.StatusCode, strings.TrimPrefix(p.Type, "urn:desk:"), detail}
	}
	if out == nil {
		return nil
	}
	if err := json.Unmarshal(b, out); err != nil {
		return fmt.Errorf("%w: its answer is not the JSON that is wanted", ErrAway) // what it holds may be a secret
	}
	return nil
}

// errLate is why a desk that is waited for does not answer.
var errLate = errors.New("it takes too long")

// plain takes the address off an error: what stands in it is known, and it could
// hold a login.
func plain(err error) error {
	var u *url.Error
	if errors.Is(err, context.DeadlineExceeded) { // which net/http says in more than one way
		return errLate
	}
	if errors.As(err, &u) {
		return u.Err
	}
	return err
}
