package console_test

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/internal/rig"
	"patientlantern.example/lantern/standin"
)

// Somebody adds a key: the page of keys says so first, names the host, and the report prints it.
func TestWhoBelievesAKeyIsFoundAndReported(t *testing.T) {
	r := rig.New(t)
	r.Up("gw-01")
	root := r.Up("gw-02")
	r.Publish()
	require.Equal(t, 2, r.Carry().Counts["done"])
	foreign, err := standin.NewKey("elsewhere", "Elsewhere <x@elsewhere.example>", time.Now().AddDate(0, -11, -10), 1)
	require.NoError(t, err)
	ring, err := foreign.Binary()
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(root, "etc/apt/trusted.gpg.d/own.gpg"), ring, 0o644))
	r.Until("the key is found", func() bool { return len(r.Findings("gw-02")) > 0 })
	for _, width := range []int{1280, 390} {
		s := open(t, r, width, 800)
		s.do(chromedp.Navigate(r.Server.URL + "/keys?q=elsewhere"))
		s.shows("h1", "1 key needs a look")
		s.shows(".el-table", "ends soon")
		s.shows(".el-table", foreign.Fingerprint())
		s.do(chromedp.Click(".el-table a"))
		s.shows("h1", "1 host believes Elsewhere")
		s.shows("dl", "does not know it")
		s.shows("dl", "every source")
		s.shows(".el-table", "/etc/apt/trusted.gpg.d/own.gpg")
		s.fits()
		s.do(chromedp.Navigate(r.Server.URL + "/report"))
		s.shows("h1", "Package sources that differ from the policy")
		s.shows("article", "gw-02")
		s.shows("article", "1 of 2 hosts as the policy says, 1 drifted.")
		s.fits()
	}
}
