package console_test

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/internal/rig"
	"patientlantern.example/lantern/standin"
)

// A rollout is held at its first host: the page says which wave, which gate and why, and has
// what is to be pressed; it goes on, and is taken back.
func TestARolloutIsHeldLetGoOnAndTakenBack(t *testing.T) {
	r := rig.New(t)
	var roots []string
	for _, n := range []string{"gw-01", "gw-02"} {
		roots = append(roots, r.Up(n))
	}
	list := filepath.Join(roots[1], "etc/apt/sources.list")
	was, err := os.ReadFile(list)
	require.NoError(t, err)
	r.Publish()
	require.NoError(t, r.Upstreams.SetFault("packages.saltmarsh.example", standin.FaultWrongKey))
	_, err = r.Operator.BeginRollout(context.Background(), api.RolloutOrder{})
	require.NoError(t, err)
	s := open(t, r, 1280, 800)
	s.do(chromedp.Click(`nav a[href="/rollouts"]`))
	s.shows("h1", "Rollout 1 of revision 1 is held")
	s.shows(".held", "1 of 1 host of wave 1 failed, and the limit is 5 %")
	s.shows(".cause", "it is signed by a key that the policy does not name for it")
	s.shows(".waves", "failed 1 of at most 0")
	s.shows(".hosts", "1 queued")
	s.shows(".levers", "Go on")
	s.fits()
	require.NoError(t, r.Upstreams.SetFault("packages.saltmarsh.example", ""))
	s.do(chromedp.Click(".levers button"), chromedp.WaitVisible(".el-dialog"))
	s.shows(".el-dialog", "1 host is still to be changed")
	s.do(chromedp.SendKeys(".el-dialog textarea", "the vendor has mended it"), chromedp.Click(".el-dialog .el-button--primary"))
	s.shows("h1", "Rollout 1 of revision 1 has ended")
	s.shows(".hosts", "1 done")
	s.shows(".levers", "Back out")
	s.do(chromedp.Click(".levers button"))
	s.shows(".back-out", "1 host puts back what stood there before")
	s.do(chromedp.SendKeys(".back-out textarea", "the witness lies"), chromedp.Click(".back-out .el-button--danger"))
	s.shows("h1", "Back-out 2 of rollout 1 has ended")
	is, err := os.ReadFile(list)
	require.NoError(t, err)
	assert.Equal(t, string(was), string(is))
}
