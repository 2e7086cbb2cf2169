package console_test

import (
	"testing"

	"github.com/chromedp/chromedp"

	"patientlantern.example/lantern/internal/rig"
	"patientlantern.example/lantern/standin"

	"github.com/stretchr/testify/require"
)

// A vendor signs with another key: the page of repositories says so, what to do, and who gets
// packages from there; and where a package would come from is one question away.
func TestWhatStandsUpstreamIsShown(t *testing.T) {
	r := rig.New(t)
	r.Up("gw-01")
	r.Up("gw-02")
	r.Publish()
	require.Equal(t, 2, r.Carry().Counts["done"])
	s := openAt(t, r, "/repositories", 1280, 800)
	s.shows("h1", "Nothing was looked at yet")
	require.NoError(t, r.Upstreams.SetFault("packages.saltmarsh.example", standin.FaultWrongKey))
	s.do(chromedp.Click(".tools button"))
	s.shows("h1", "1 place of packages is refused")
	s.shows(".causes", "1 place: it is signed by a key that the policy does not name for it")
	require.NoError(t, r.Upstreams.SetFault("packages.saltmarsh.example", ""))
	s.do(chromedp.Click(".tools button"))
	s.shows("h1", "as they should")
	for _, width := range []int64{1280, 390} {
		s.do(chromedp.EmulateViewport(width, 800), chromedp.Navigate(r.Server.URL+"/repositories?q=saltmarsh"))
		s.shows(".el-table", "saltmarsh for deb")
		s.fits()
		s.do(chromedp.Click(".el-table a"))
		s.shows("h1", "saltmarsh for deb")
		s.shows(".el-descriptions", "saltmarsh-server is offered at 8.2.1-1")
		s.shows("main", "2 hosts get packages from it")
		s.fits()
		s.do(chromedp.Navigate(r.Server.URL + "/whence?package=saltmarsh-server"))
		s.shows("h1", "Where would saltmarsh-server come from?")
		s.shows("main section", "packages.saltmarsh.example/apt/8.x/ stable")
		s.fits()
	}
}
