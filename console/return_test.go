package console_test

import (
	"math/rand/v2"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/internal/cell"
	"patientlantern.example/lantern/internal/rig"
)

// said is what a page says, without what the passing of time alone changes.
const said = `(document.querySelector('main h1') ? document.querySelector('main').innerText : '')
  .replace(/[⌄›]\n?/g, '') // signs of the editor, which draws them when it has time
  .replace(/just now|\b\d+\s?(s|min|h)( ago)?\b/g, '(ago)').replace(/\d\d:\d\d(:\d\d)?/g, '(time)')`

// TestAPageIsThereWhereNothingIs: without hosts, a policy and rollouts each page has its heading, and says that nothing is well.
func TestAPageIsThereWhereNothingIs(t *testing.T) {
	s := open(t, rig.New(t), 1280, 800)
	for _, page := range []string{
		"/", "/hosts", "/drift", "/policy", "/changes", "/rollouts", "/repositories", "/keys", "/contracts", "/audit", "/people", "/settings",
		"/report", "/whence", "/nowhere",
	} {
		s.goes(page)
		well, err := chromedp.Run(s.page, chromedp.Evaluate[string](
			`[...document.querySelectorAll('main h1.good, main h1 .good')].map((e) => e.innerText).join(' ')`))
		require.NoError(t, err)
		assert.Empty(t, well, page)
	}
}

// saysAtRest is what the page says once nothing of it has changed for two seconds.
func (s *screen) saysAtRest() (text string) {
	since := time.Now()
	for end := since.Add(20 * time.Second); time.Since(since) < 2*time.Second && time.Now().Before(end); time.Sleep(100 * time.Millisecond) {
		if now := s.saysNow(); now != text {
			text, since = now, time.Now()
		}
	}
	return text
}

// saysNow is what the page says at this moment; empty where it cannot be asked.
func (s *screen) saysNow() string {
	text, err := chromedp.Run(s.page, chromedp.Evaluate[string](said))
	if err != nil {
		return ""
	}
	return text
}

// TestAPageSaysTheSameToWhoComesBack: what a page shows follows from its address and from what is known, not from how
// one came to it. Each page says the same when it is opened by its address, when one comes to it from any other, and
// when one comes back to it.
func TestAPageSaysTheSameToWhoComesBack(t *testing.T) {
	r := drifted(t)
	s := openFor(t, r, 1280, 800, 5*time.Minute)
	pages := []string{
		"/", "/hosts", "/hosts?state=drifted", "/hosts/gw-01.brinewick.test", "/hosts/gw-02.brinewick.test", "/drift", "/drift?each=yes",
		"/drift?page=99", "/policy", "/policy?revision=1", "/changes", "/rollouts", "/rollouts/1", "/repositories", "/keys", "/contracts",
		"/people", "/settings", "/whence?package=saltmarsh-server", "/whence", "/nowhere", "/contracts?q=gw-01&sort=-taken&variants=yes",
		"/contracts?find=GN&state=good&order=account",
		"/rollouts/1?state=done", "/keys/3BFF82245BECAD4F2FA48C0D00195878414CC58E?q=gw-01&scope=named", "/policy?page=2",
	}
	s.do(chromedp.Navigate(s.url + "/whence?package=saltmarsh-server"))
	s.shows("main", "installed: ") // the hosts have answered
	seed := uint64(time.Now().UnixNano())
	t.Logf("the walk: %d", seed)
	walk := rand.New(rand.NewPCG(seed, 0))
	if cell.Rounds(0) == 0 { // other ones in each run
		walk.Shuffle(len(pages), func(i, j int) { pages[i], pages[j] = pages[j], pages[i] })
		pages = pages[:len(pages)/2]
	}
	opened := map[string]string{}
	for _, page := range pages {
		s.do(chromedp.Navigate(s.url + page))
		s.settled()
		opened[page] = s.saysNow()
	}
	for _, at := range walk.Perm(len(pages)) {
		page, text := pages[at], ""
		s.turns(page)
		for end := time.Now().Add(10 * time.Second); text != opened[page] && time.Now().Before(end); time.Sleep(50 * time.Millisecond) {
			text = s.saysNow()
		}
		if text != opened[page] { // the look at the page that was opened cold may have been too early
			s.do(chromedp.Navigate(s.url + page))
			opened[page] = s.saysAtRest()
			require.Equal(t, opened[page], text, page)
		}
	}
}
