package console_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/client"
	"patientlantern.example/lantern/internal/rig"
)

// What is filtered stands in the address; it is kept under a name, and found again by Ctrl-K.
// Hosts are found by what they have, and by being configured alike.
func TestViewsAreKeptAndHostsFoundByWhatTheyHave(t *testing.T) {
	r := rig.New(t)
	r.Up("gw-01")
	root := r.Up("gw-02")
	r.Publish()
	require.Equal(t, 2, r.Carry().Counts["done"])
	s := openAt(t, r, "/hosts", 1280, 800)
	s.shows(".el-table__body", "gw-02")
	s.types(`input[aria-label="Repository that hosts get packages from"]`, "saltmarsh\n")
	s.searches("?has=saltmarsh")
	s.types(`input[aria-label="Condition that hosts meet"]`, "os.major >= 12\n")
	s.searches("?has=saltmarsh&where=os.major")
	s.press(".tools", "Views")
	s.types(`input[aria-label="Name of the view"]`, "with Saltmarsh")
	s.press(".el-popover", "Keep")
	s.shows(".tools", "Views (1)")
	s.fits()

	s.do(chromedp.Navigate(s.url + "/hosts"))
	s.shows(".tools", "Views (1)")
	s.press(".tools", "Views (1)")
	s.press(".el-popover", "with Saltmarsh")
	s.searches("?has=saltmarsh&where=os.major")

	// Once they differ, a host is alone in its cohort.
	require.NoError(t, os.WriteFile(filepath.Join(root, "etc/apt/sources.list.d/own.list"), []byte("# deb http://own.example/ x main\n"), 0o644))
	r.Until("gw-02 is like no other", func() bool {
		page, err := r.Operator.Hosts(t.Context(), likeOne("gw-02"))
		return err == nil && page.Total == 1
	})
	s.do(chromedp.Navigate(s.url + "/hosts/gw-02.brinewick.test"))
	s.shows(".facts", "hosts configured exactly so")
	s.js(`document.querySelector('.facts a').click()`)
	s.shows("main", "Only those that are configured exactly as gw-02")
	s.js(`document.querySelector('main p.soft button').click()`)
	s.shows(".el-table__body", "gw-01")

	s.bears("404 /api/hosts?has=nothing")
	s.do(chromedp.Navigate(s.url + "/hosts?has=nothing"))
	s.shows("main", "the policy has no repository")
}

func likeOne(host string) client.List {
	return client.List{Filter: map[string][]string{"like": {host}}}
}

// searches waits until the query of the address begins so.
func (s *screen) searches(want string) {
	s.t.Helper()
	require.Eventually(s.t, func() bool {
		search, err := chromedp.Run(s.page, chromedp.Evaluate[string](`location.search`))
		return err == nil && strings.HasPrefix(search, want)
	}, 15*time.Second, 50*time.Millisecond)
}
