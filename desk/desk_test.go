package desk_test

import (
	"context"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/credential"
	"patientlantern.example/lantern/core/subscription"
	"patientlantern.example/lantern/desk"
	"patientlantern.example/lantern/standin"
)

var ctx = context.Background()

func open(t *testing.T) (*standin.Desk, *desk.Account) {
	d, err := standin.NewDesk(time.Now, 72*time.Hour)
	require.NoError(t, err)
	srv := httptest.NewServer(d)
	t.Cleanup(srv.Close)
	return d, &desk.Account{URL: srv.URL + "/gannet", Login: "brinewick", Password: standin.DeskPassword, HTTP: desk.NewHTTP(5 * time.Second)}
}

func TestTheLifeOfASeat(t *testing.T) {
	_, a := open(t)
	book, err := a.Book(ctx)
	require.NoError(t, err)
	assert.Len(t, book.Contracts, 2)
	assert.Empty(t, book.Seats)
	assert.WithinDuration(t, time.Now(), book.Time, time.Minute)

	s, err := a.Take(ctx, "GN-2026-014", "gw-01")
	require.NoError(t, err)
	again, err := a.Take(ctx, "GN-2026-014", "gw-01")
	require.NoError(t, err, "a host that has the seat keeps it")
	assert.Equal(t, s, again)
	for _, kind := range []string{credential.Basic, credential.Certificate, credential.TokenURL} {
		x, err := a.Access(ctx, "GN-2026-014", "gw-01", kind)
		require.NoError(t, err)
		assert.Equal(t, kind, x.Kind)
		assert.NoError(t, x.Check(time.Now()))
	}
	require.NoError(t, a.Release(ctx, "GN-2026-014", "gw-01"))
	require.NoError(t, a.Release(ctx, "GN-2026-014", "gw-01"), "twice is no error")
	book, err = a.Book(ctx)
	require.NoError(t, err)
	assert.Empty(t, book.Seats)
}

func TestWhatTheDeskRefuses(t *testing.T) {
	d, a := open(t)
	require.NoError(t, d.Change("gannet", "GN-2026-031", func(c *subscription.Contract) { c.Seats = 1 }))
	_, err := a.Take(ctx, "GN-2026-031", "gw-01")
	require.NoError(t, err)
	for name, c := range map[string]struct {
		reason string
		do     func() error
	}{
		"full":     {desk.Full, func() error { _, err := a.Take(ctx, "GN-2026-031", "gw-02"); return err }},
		"unknown":  {desk.Unknown, func() error { _, err := a.Take(ctx, "GN-1", "gw-02"); return err }},
		"no seat":  {desk.NoSeat, func() error { _, err := a.Access(ctx, "GN-2026-031", "gw-02", "basic"); return err }},
		"password": {"", func() error { _, err := a.Access(ctx, "GN-2026-031", "gw-01", "handshake"); return err }},
		"withdrawn": {desk.Withdrawn, func() error {
			require.NoError(t, d.Change("gannet", "GN-2026-014", func(c *subscription.Contract) { c.Withdrawn = true }))
			_, err := a.Take(ctx, "GN-2026-014", "gw-02")
			return err
		}},
	} {
		err := c.do()
		var no *desk.Refusal
		require.ErrorAs(t, err, &no, name)
		assert.Equal(t, c.reason, no.Reason, name)
		assert.NotEmpty(t, no.Detail, name)
	}
}

func TestAccessThatIsClosed(t *testing.T) {
	d, a := open(t)
	_, err := a.Take(ctx, "GN-2026-014", "gw-01")
	require.NoError(t, err)
	x, err := a.Access(ctx, "GN-2026-014", "gw-01", credential.Basic)
	require.NoError(t, err)
	let := func(password string) bool {
		req := httptest.NewRequest(http.MethodGet, "/apt.gannet.example/licensed/x", nil)
		req.SetBasicAuth(x.Login, password)
		return d.Admits("gannet", "gannet-licensed", req)
	}
	assert.True(t, let(x.Password))
	assert.False(t, let("guessed"))
	assert.False(t, d.Admits("gannet", "gannet-licensed", httptest.NewRequest(http.MethodGet, "/x", nil)))
	require.NoError(t, d.Change("gannet", "GN-2026-014", func(c *subscription.Contract) { c.End = time.Now().Add(-time.Hour) }))
	assert.False(t, let(x.Password), "the contract ended")
	require.NoError(t, d.Change("gannet", "GN-2026-014", func(c *subscription.Contract) { c.End = time.Now().Add(time.Hour) }))
	require.NoError(t, a.Release(ctx, "GN-2026-014", "gw-01"))
	assert.False(t, let(x.Password), "the seat is gone")
}

func TestFaultsOnASwitch(t *testing.T) {
	d, a := open(t)
	a.HTTP.Timeout = 300 * time.Millisecond
	for fault, want := range map[string]string{
		standin.DeskBroken:   "the desk does not answer: it answered 503 Service Unavailable",
		standin.DeskRefusing: "the desk does not take the organisation's login; give the right one: lantern account add",
		standin.DeskSlow:     "the desk does not answer: it takes too long",
	} {
		require.NoError(t, d.SetFault("gannet", fault))
		_, err := a.Book(ctx)
		require.Error(t, err, fault)
		assert.Contains(t, err.Error(), want)
	}
	require.NoError(t, d.SetFault("gannet", standin.DeskSkewed))
	book, err := a.Book(ctx)
	require.NoError(t, err)
	assert.WithinDuration(t, time.Now().Add(3*time.Hour), book.Time, time.Minute)
	assert.EqualError(t, d.SetFault("gannet", "asleep"), `there is no fault "asleep"; faults are slow, broken, refusing, skewed`)
	assert.Error(t, d.SetFault("nobody", ""))
}

func TestTheSwitchesOverHTTP(t *testing.T) {
	_, a := open(t)
	base := strings.TrimSuffix(a.URL, "/gannet")
	post := func(path string) int {
		resp, err := http.Post(base+path, "", nil)
		require.NoError(t, err)
		resp.Body.Close()
		return resp.StatusCode
	}
	assert.Equal(t, http.StatusNoContent, post("/-/contract?vendor=gannet&number=GN-2026-014&seats=2&end=2030-01-31&withdrawn=true"))
	book, err := a.Book(ctx)
	require.NoError(t, err)
	assert.Equal(t, 2, book.Contracts[0].Seats)
	assert.True(t, book.Contracts[0].Withdrawn)
	assert.Equal(t, "2030-01-31", book.Contracts[0].End.Format(time.DateOnly))
	assert.Equal(t, http.StatusUnprocessableEntity, post("/-/contract?vendor=gannet&number=GN-2026-014&seats=many"))
	assert.Equal(t, http.StatusUnprocessableEntity, post("/-/contract?vendor=gannet&number=GN-1&seats=2"))
	assert.Equal(t, http.StatusNoContent, post("/-/fault?vendor=gannet&fault=broken"))
	_, err = a.Book(ctx)
	assert.ErrorIs(t, err, desk.ErrAway)
}

func TestDesksThatMisbehave(t *testing.T) {
	elsewhere := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) { t.Error("the login went elsewhere") }))
	defer elsewhere.Close()
	for name, c := range map[string]struct {
		answer http.HandlerFunc
		want   string
	}{
		"redirects":   {func(w http.ResponseWriter, r *http.Request) { http.Redirect(w, r, elsewhere.URL, http.StatusFound) }, "the desk redirects; give its real address"},
		"no JSON":     {func(w http.ResponseWriter, _ *http.Request) { _, _ = io.WriteString(w, "hunter2 <html>") }, "its answer is not the JSON that is wanted"},
		"without end": {func(w http.ResponseWriter, _ *http.Request) { endless(w) }, "its answer is larger than 16777216 bytes"},
		"cut": {func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Length", "99")
			_, _ = io.WriteString(w, "{")
		}, "the desk does not answer"},
		"a strange cover": {func(w http.ResponseWriter, _ *http.Request) {
			_, _ = io.WriteString(w, `{"contracts":[{"number":"A","cover":"moon"}]}`)
		}, `contract "A" cannot be understood`},
		"no number": {func(w http.ResponseWriter, _ *http.Request) {
			_, _ = io.WriteString(w, `{"contracts":[{"cover":"seats"}]}`)
		}, `contract "" cannot be understood`},
		"nothing but no": {func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusTeapot) }, "the desk answered 418"},
	} {
		t.Run(name, func(t *testing.T) {
			srv := httptest.NewServer(c.answer)
			defer srv.Close()
			a := &desk.Account{URL: srv.URL, Login: "brinewick", Password: "hunter2", HTTP: desk.NewHTTP(5 * time.Second)}
			_, err := a.Book(ctx)
			require.Error(t, err)
			assert.Contains(t, err.Error(), c.want)
			assert.NotContains(t, err.Error(), "hunter2")
		})
	}
}

func endless(w io.Writer) {
	block := []byte(strings.Repeat(" ", 1<<20))
	for range 20 {
		if _, err := w.Write(block); err != nil {
			return
		}
	}
}
