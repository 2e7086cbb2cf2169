package console_test

import (
	"fmt"
	"net/url"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/internal/rig"
)

// faults are what went wrong in a page without anybody seeing it: what its scripts threw or complained of, and
// requests that were refused.
type faults struct {
	mu    sync.Mutex
	list  []string
	borne []string // parts of those that a story brings about
}

// listen hears the faults of a page from now on; a test that ends with one fails.
func (s *screen) listen(t *testing.T) {
	t.Helper()
	s.faults = &faults{borne: []string{"401 /api/session"}} // before somebody signs in
	require.NoError(t, chromedp.Listen(s.page, s.faults.take))
	t.Cleanup(func() {
		s.faults.mu.Lock()
		defer s.faults.mu.Unlock()
		left := slices.DeleteFunc(s.faults.list, func(f string) bool {
			return slices.ContainsFunc(s.faults.borne, func(part string) bool { return strings.Contains(f, part) })
		})
		assert.Empty(t, left, "the page has faults that nobody sees")
	})
}

// bears says which faults a story brings about.
func (s *screen) bears(parts ...string) {
	s.faults.mu.Lock()
	defer s.faults.mu.Unlock()
	s.faults.borne = append(s.faults.borne, parts...)
}

func (f *faults) take(event any) {
	what := ""
	switch e := event.(type) {
	case *runtime.EventExceptionThrown:
		what = "thrown: " + e.ExceptionDetails.Text
		if x := e.ExceptionDetails.Exception; x != nil {
			what += " " + x.Description
		}
	case *runtime.EventConsoleAPICalled:
		if e.Type != runtime.ConsoleAPICalledTypeError && e.Type != runtime.ConsoleAPICalledTypeWarning {
			return
		}
		what = string(e.Type) + ":"
		for _, a := range e.Args {
			what += " " + a.Description + strings.Trim(string(a.Value), `"`)
		}
	case *network.EventResponseReceived:
		u, err := url.Parse(e.Response.URL)
		if err != nil || e.Response.Status < 400 {
			return
		}
		what = fmt.Sprintf("%d %s", e.Response.Status, u.RequestURI())
	case *network.EventLoadingFailed:
		if e.Canceled {
			return
		}
		what = "failed: " + strings.TrimSpace(e.ErrorText+" "+string(e.BlockedReason))
	default:
		return
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	f.list = append(f.list, what)
}

// What scripts throw and complain of, and requests that are refused, are heard.
func TestFaultsOfAPageAreHeard(t *testing.T) {
	s := open(t, rig.New(t), 1280, 800)
	s.js(`setTimeout(() => { throw new Error('a tern') }); console.error('a plover', new Error('in the reeds')); fetch('/api/hosts/nobody')`)
	require.Eventually(t, func() bool {
		s.faults.mu.Lock()
		defer s.faults.mu.Unlock()
		all := strings.Join(s.faults.list, "\n")
		return strings.Contains(all, "a tern") && strings.Contains(all, "error: a plover Error: in the reeds") &&
			strings.Contains(all, "404 /api/hosts/nobody")
	}, 10*time.Second, 50*time.Millisecond)
	s.bears("a tern", "a plover", "404 /api/hosts/nobody")
}

// A part of a page that an upgraded service does not have any more is missed aloud, what is on the page
// stays, and loading again leads to what was wanted.
func TestAPartThatIsGoneIsMissedAloud(t *testing.T) {
	r := rig.New(t)
	r.Up("gw-01")
	s := open(t, r, 1280, 800)
	s.bears("failed: inspector", "dynamically imported module")
	block := func(patterns ...*network.BlockPattern) {
		t.Helper()
		_, err := chromedp.Call(s.page, network.SetBlockedURLs, network.SetBlockedURLsParams{URLPatterns: patterns})
		require.NoError(t, err)
	}
	block(&network.BlockPattern{URLPattern: "*://*:*/assets/Keys-*", Block: true})
	s.do(chromedp.Click(`nav a[href="/keys"]`))
	s.shows(".gone", "A part of the page did not come")
	s.shows("h1", "finding")
	s.fits()
	block()
	s.press(".gone", "Load it again")
	s.shows("h1", "key")
	address, err := chromedp.Run(s.page, chromedp.Location())
	require.NoError(t, err)
	assert.True(t, strings.HasSuffix(address, "/keys"), address)
}
