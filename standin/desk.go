package standin

import (
	"crypto/rand"
	"crypto/subtle"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/hex"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/go-chi/chi/v5"

	"patientlantern.example/lantern/core/credential"
	"patientlantern.example/lantern/core/subscription"
	"patientlantern.example/lantern/desk"
)

// Faults that a desk can be given.
const (
	DeskSlow     = "slow"     // answers after seconds
	DeskBroken   = "broken"   // answers 503
	DeskRefusing = "refusing" // takes no login
	DeskSkewed   = "skewed"   // its clock is three hours ahead
)

// Slow is how long a slow desk takes.
const slow = 3 * time.Second

// Vendors that have a desk, with the login of the observatory.
var deskLogins = map[string]string{"gannet": "brinewick", "plover": "brinewick"}

// DeskPassword is the observatory's password at every desk.
const DeskPassword = "tide-table-ebb"

// Desk plays the subscription desks of all vendors, each below its own name.
type Desk struct {
	waiting   atomic.Int64 // calls that a slow desk lets wait
	now       func() time.Time
	life      time.Duration // of access
	authority *Authority
	router    http.Handler
	// Secret makes passwords; tests put a mark into them.
	Secret func() string

	mu     sync.Mutex
	books  map[string]*book
	faults map[string]string
	issued int64
}

type book struct {
	contracts []subscription.Contract
	seats     []desk.Seat
	access    map[string]*grant // login → what it opens
}

type grant struct {
	host, contract, kind, password, serial string
	expires                                time.Time
}

// NewDesk opens the desks with the scenario's contracts. Access is good for life.
func NewDesk(now func() time.Time, life time.Duration) (*Desk, error) {
	authority, err := NewAuthority("Gannet")
	if err != nil {
		return nil, err
	}
	d := &Desk{now: now, life: life, authority: authority, books: map[string]*book{}, faults: map[string]string{}, Secret: randomSecret}
	for vendor := range deskLogins {
		d.books[vendor] = &book{contracts: contracts(vendor, now()), access: map[string]*grant{}}
	}
	r := chi.NewRouter()
	r.Post("/-/fault", d.setFault)
	r.Post("/-/contract", d.setContract)
	r.Route("/{vendor}"+desk.Prefix, func(r chi.Router) {
		r.Use(d.guard)
		r.Get("/book", d.book)
		r.Put("/contracts/{number}/seats/{host}", d.take)
		r.Delete("/contracts/{number}/seats/{host}", d.release)
		r.Post("/contracts/{number}/seats/{host}/access", d.issue)
	})
	d.router = r
	return d, nil
}

func randomSecret() string {
	b := make([]byte, 16)
	_, _ = rand.Read(b) // never fails
	return hex.EncodeToString(b)
}

// contracts are what the observatory has bought.
func contracts(vendor string, now time.Time) []subscription.Contract {
	day := func(n int) time.Time { return now.UTC().Truncate(24*time.Hour).AddDate(0, 0, n) }
	if vendor == "plover" {
		return []subscription.Contract{{
			Number:     "PL-TRIAL-77",
			Title:      "Plover telemetry, evaluation",
			Start:      day(-48),
			End:        day(12),
			Evaluation: true,
			Cover:      subscription.CoverSeats,
			Seats:      3,
			Currency:   "EUR",
			Support:    "none",
			Opens:      []subscription.Opening{{Name: "plover-pinned", Releases: []string{"skerry"}}},
		}}
	}
	return []subscription.Contract{
		{
			Number:   "GN-2026-014",
			Title:    "Gannet virtual machines, standard",
			Start:    day(-300),
			End:      day(65),
			Cover:    subscription.CoverSeats,
			Seats:    6,
			Price:    18000,
			Currency: "EUR",
			Support:  "office hours",
			Opens:    []subscription.Opening{{Name: "gannet-licensed"}},
		},
		{
			Number:   "GN-2026-031",
			Title:    "Gannet virtual machines, round the clock",
			Start:    day(-120),
			End:      day(245),
			Cover:    subscription.CoverSeats,
			Seats:    3,
			Price:    54000,
			Currency: "EUR",
			Support:  "round the clock",
			Opens:    []subscription.Opening{{Name: "gannet-licensed", Releases: []string{"skerry-12", "foreland-9"}}},
		},
	}
}

// Authority returns the authority that signs client certificates.
func (d *Desk) Authority() *Authority { return d.authority }

func (d *Desk) ServeHTTP(w http.ResponseWriter, r *http.Request) { d.router.ServeHTTP(w, r) }

// Logins returns the organisation's login at each vendor's desk.
func Logins() map[string]string { return deskLogins }

// Waiting counts the calls that a slow desk lets wait at this moment.
func (d *Desk) Waiting() int { return int(d.waiting.Load()) }

// guard checks the login and plays the faults.
func (d *Desk) guard(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		vendor := chi.URLParam(r, "vendor")
		d.mu.Lock()
		fault, known := d.faults[vendor], d.books[vendor] != nil
		d.mu.Unlock()
		login, password, _ := r.BasicAuth()
		switch {
		case !known:
			deny(w, http.StatusNotFound, desk.Unknown, "there is no such desk")
			return
		case fault == DeskBroken:
			deny(w, http.StatusServiceUnavailable, "", "the desk is being mended")
			return
		case fault == DeskRefusing || login != deskLogins[vendor] || subtle.ConstantTimeCompare([]byte(password), []byte(DeskPassword)) != 1:
			w.Header().Set("WWW-Authenticate", `Basic realm="desk"`)
			deny(w, http.StatusUnauthorized, "", "the login is not known")
			return
		case fault == DeskSlow:
			d.waiting.Add(1)
			defer d.waiting.Add(-1)
			select {
			case <-time.After(slow):
			case <-r.Context().Done():
				return
			}
		}
		next.ServeHTTP(w, r)
	})
}

func deny(w http.ResponseWriter, status int, reason, detail string) {
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).
		Encode(map[string]any{"type": "urn:desk:" + reason, "title": http.StatusText(status), "status": status, "detail": detail})
	// the caller has gone if this fails
}

func say(w http.ResponseWriter, status int, v any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(v) // the caller has gone if this fails
}

// clock is the desk's own time.
func (d *Desk) clock(vendor string) time.Time {
	if d.faults[vendor] == DeskSkewed {
		return d.now().Add(3 * time.Hour)
	}
	return d.now()
}

func (d *Desk) book(w http.ResponseWriter, r *http.Request) {
	vendor := chi.URLParam(r, "vendor")
	d.mu.Lock()
	b := d.books[vendor]
	out := desk.Book{Time: d.clock(vendor).UTC(), Contracts: slices.Clone(b.contracts), Seats: append([]desk.Seat{}, b.seats...)}
	d.mu.Unlock()
	say(w, http.StatusOK, out)
}

// find returns the contract that a call names, and whether it is good; it answers
// where it is not there.
func (d *Desk) find(w http.ResponseWriter, r *http.Request, b *book, vendor string) (*subscription.Contract, bool) {
	number := chi.URLParam(r, "number")
	i := slices.IndexFunc(b.contracts, func(c subscription.Contract) bool { return c.Number == number })
	if i < 0 {
		deny(w, http.StatusNotFound, desk.Unknown, "there is no contract "+number)
		return nil, false
	}
	c := &b.contracts[i]
	if ok, why := c.Good(d.clock(vendor)); !ok {
		reason := desk.Ended
		if c.Withdrawn {
			reason = desk.Withdrawn
		}
		deny(w, http.StatusConflict, reason, "the contract "+number+" opens nothing: "+why)
		return c, false
	}
	return c, true
}

func (b *book) seat(number, host string) int {
	return slices.IndexFunc(b.seats, func(s desk.Seat) bool { return s.Contract == number && s.Host == host })
}

func (d *Desk) take(w http.ResponseWriter, r *http.Request) {
	vendor, host := chi.URLParam(r, "vendor"), chi.URLParam(r, "host")
	d.mu.Lock()
	defer d.mu.Unlock()
	b := d.books[vendor]
	c, ok := d.find(w, r, b, vendor)
	if !ok {
		return
	}
	if i := b.seat(c.Number, host); i >= 0 {
		say(w, http.StatusOK, b.seats[i])
		return
	}
	taken := 0
	for _, s := range b.seats {
		if s.Contract == c.Number {
			taken++
		}
	}
	if c.Cover == subscription.CoverSeats && taken >= c.Seats {
		deny(w, http.StatusConflict, desk.Full, fmt.Sprintf("all %d seats of %s are taken", c.Seats, c.Number))
		return
	}
	s := desk.Seat{Host: host, Contract: c.Number, Taken: d.clock(vendor).UTC().Truncate(time.Second)}
	b.seats = append(b.seats, s)
	say(w, http.StatusCreated, s)
}

func (d *Desk) release(w http.ResponseWriter, r *http.Request) {
	vendor, number, host := chi.URLParam(r, "vendor"), chi.URLParam(r, "number"), chi.URLParam(r, "host")
	d.mu.Lock()
	defer d.mu.Unlock()
	b := d.books[vendor]
	i := b.seat(number, host)
	if i < 0 {
		deny(w, http.StatusNotFound, desk.NoSeat, host+" has no seat in "+number)
		return
	}
	b.seats = slices.Delete(b.seats, i, i+1)
	for login, g := range b.access { // what it opened is closed
		if g.host == host && g.contract == number {
			delete(b.access, login)
		}
	}
	w.WriteHeader(http.StatusNoContent)
}

func (d *Desk) issue(w http.ResponseWriter, r *http.Request) {
	vendor, host := chi.URLParam(r, "vendor"), chi.URLParam(r, "host")
	var in desk.Order
	if json.NewDecoder(http.MaxBytesReader(w, r.Body, 1<<16)).Decode(&in) != nil {
		deny(w, http.StatusBadRequest, "", "the body is not JSON")
		return
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	b := d.books[vendor]
	c, ok := d.find(w, r, b, vendor)
	if !ok {
		return
	}
	i := b.seat(c.Number, host)
	if i < 0 {
		deny(w, http.StatusConflict, desk.NoSeat, host+" has no seat in "+c.Number)
		return
	}
	before := 0
	for _, s := range b.seats[:i] {
		if s.Contract == c.Number {
			before++
		}
	}
	if c.Cover == subscription.CoverSeats && before >= c.Seats { // the contract shrank: the oldest seats stay
		deny(w, http.StatusConflict, desk.Full, fmt.Sprintf("%s has %d seats, and %s sits beyond them", c.Number, c.Seats, host))
		return
	}
	now := d.clock(vendor).UTC().Truncate(time.Second)
	expires := now.Add(d.life)
	if c.End.Before(expires) {
		expires = c.End
	}
	d.issued++
	out := credential.Secret{Kind: in.Kind, Expires: expires}
	g := &grant{host: host, contract: c.Number, kind: in.Kind, expires: expires}
	name := fmt.Sprintf("%s-%d", host, d.issued)
	switch in.Kind {
	case credential.Basic:
		out.Login, out.Password = name, d.Secret()
		g.password = out.Password
	case credential.TokenURL:
		out.Token = d.Secret()
		name = out.Token
	case credential.Certificate:
		from := now
		if d.faults[vendor] != DeskSkewed {
			from = now.Add(-time.Hour)
		}
		der, key, err := d.authority.issue(
			pkix.Name{CommonName: host, SerialNumber: strconv.FormatInt(d.issued, 10)},
			from,
			expires,
			x509.ExtKeyUsageClientAuth,
			d.issued+1,
		)
		if err != nil {
			deny(w, http.StatusInternalServerError, "", "no certificate could be made")
			return
		}
		pkcs, err := x509.MarshalPKCS8PrivateKey(key)
		if err != nil {
			deny(w, http.StatusInternalServerError, "", "no key could be made")
			return
		}
		out.Certificate, out.Key = certPEM(der), string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: pkcs}))
		g.serial = strconv.FormatInt(d.issued, 10)
	default:
		deny(w, http.StatusUnprocessableEntity, "", "access of kind "+in.Kind+" is not sold here")
		return
	}
	b.access[name] = g
	say(w, http.StatusOK, out)
}

// Admits reports whether a caller may have what a vendor sells under a name: by the
// login and password of a host, by its certificate, or by a token in the path.
func (d *Desk) Admits(vendor, opens string, r *http.Request) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	b := d.books[vendor]
	if b == nil {
		return false
	}
	var g *grant
	if login, password, ok := r.BasicAuth(); ok {
		g = b.access[login]
		if g == nil || g.kind != credential.Basic || subtle.ConstantTimeCompare([]byte(g.password), []byte(password)) != 1 {
			return false
		}
	} else if r.TLS != nil && len(r.TLS.VerifiedChains) > 0 {
		subject := r.TLS.PeerCertificates[0].Subject
		g = b.access[subject.CommonName+"-"+subject.SerialNumber]
	} else { // a token in the path
		for part := range strings.SplitSeq(r.URL.Path, "/") {
			if x := b.access[part]; x != nil && x.kind == credential.TokenURL {
				g = x
			}
		}
	}
	now := d.now()
	if g == nil || !g.expires.After(now) || b.seat(g.contract, g.host) < 0 {
		return false
	}
	i := slices.IndexFunc(b.contracts, func(c subscription.Contract) bool { return c.Number == g.contract })
	if i < 0 {
		return false
	}
	good, _ := b.contracts[i].Good(now)
	return good && slices.ContainsFunc(b.contracts[i].Opens, func(o subscription.Opening) bool { return o.Name == opens })
}

// SetFault gives a vendor's desk a fault; "" takes it away.
func (d *Desk) SetFault(vendor, fault string) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.books[vendor] == nil {
		return fmt.Errorf("there is no desk of %q", vendor)
	}
	if !slices.Contains([]string{"", DeskSlow, DeskBroken, DeskRefusing, DeskSkewed}, fault) {
		return fmt.Errorf("there is no fault %q; faults are slow, broken, refusing, skewed", fault)
	}
	d.faults[vendor] = fault
	return nil
}

// Change changes a contract.
func (d *Desk) Change(vendor, number string, change func(*subscription.Contract)) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	if b := d.books[vendor]; b != nil {
		for i := range b.contracts {
			if b.contracts[i].Number == number {
				change(&b.contracts[i])
				return nil
			}
		}
	}
	return fmt.Errorf("%q has no contract %q", vendor, number)
}

// setFault serves POST /-/fault?vendor=…&fault=….
func (d *Desk) setFault(w http.ResponseWriter, r *http.Request) {
	if err := d.SetFault(r.URL.Query().Get("vendor"), r.URL.Query().Get("fault")); err != nil {
		deny(w, http.StatusUnprocessableEntity, "", err.Error())
		return
	}
	w.WriteHeader(http.StatusNoContent)
}

// setContract serves POST /-/contract?vendor=…&number=…&seats=…&withdrawn=…&end=….
func (d *Desk) setContract(w http.ResponseWriter, r *http.Request) {
	q := r.URL.Query()
	seats, seatsErr := strconv.Atoi(q.Get("seats"))
	end, endErr := time.Parse(time.DateOnly, q.Get("end"))
	for name, err := range map[string]error{"seats": seatsErr, "end": endErr} {
		if q.Has(name) && err != nil {
			deny(w, http.StatusUnprocessableEntity, "", name+" cannot be read")
			return
		}
	}
	err := d.Change(q.Get("vendor"), q.Get("number"), func(c *subscription.Contract) {
		if q.Has("seats") {
			c.Seats = seats
		}
		if q.Has("end") {
			c.End = end
		}
		if q.Has("withdrawn") {
			c.Withdrawn = q.Get("withdrawn") == "true"
		}
	})
	if err != nil {
		deny(w, http.StatusUnprocessableEntity, "", err.Error())
		return
	}
	w.WriteHeader(http.StatusNoContent)
}
