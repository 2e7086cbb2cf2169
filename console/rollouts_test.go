package console_test

import (
	"context"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/client"
	"patientlantern.example/lantern/core/rollout"
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
	s.shows(".cause", "It is signed by a key that the policy does not name for it")
	s.shows(".waves", "failed 1 of at most 0")
	s.shows(".hosts", "1 queued")
	s.shows(".levers", "Go on")
	s.fits()
	require.NoError(t, r.Upstreams.SetFault("packages.saltmarsh.example", ""))
	s.do(chromedp.Click(".levers button"), chromedp.WaitVisible(".el-dialog"))
	s.shows(".el-dialog", "1 host is still to be changed")
	s.types(".el-dialog textarea", "the vendor has mended it")
	s.click(".el-dialog .el-button--primary")
	s.shows("h1", "Rollout 1 of revision 1 has ended")
	s.shows(".hosts", "1 done")
	s.shows(".levers", "Back out")
	s.do(chromedp.Click(".levers button"))
	s.shows(".back-out", "1 host puts back what stood there before")
	s.types(".back-out textarea", "the witness lies")
	s.click(".back-out .el-button--danger")
	s.shows("h1", "Back-out 2 of rollout 1 has ended")
	is, err := os.ReadFile(list)
	require.NoError(t, err)
	assert.Equal(t, string(was), string(is))
}

// held is a fleet of two hosts whose rollout is held at the first of them.
func held(t *testing.T) *rig.Rig {
	t.Helper()
	r := rig.New(t)
	for _, n := range []string{"gw-01", "gw-02"} {
		r.Up(n)
	}
	r.Publish()
	require.NoError(t, r.Upstreams.SetFault("packages.saltmarsh.example", standin.FaultWrongKey))
	_, err := r.Operator.BeginRollout(context.Background(), api.RolloutOrder{})
	require.NoError(t, err)
	return r
}

// What was stopped says of whom it never came to, and calls no wave over that has not begun.
func TestAStoppedRolloutSaysWhomItNeverCameTo(t *testing.T) {
	r := held(t)
	s := openAt(t, r, "/rollouts", 1280, 800)
	s.shows("h1", "Rollout 1 of revision 1 is held")
	_, err := r.Operator.StopRollout(context.Background(), 1)
	require.NoError(t, err)
	s.shows("h1", "Rollout 1 of revision 1 was stopped, not done on 2 hosts")
	s.shows(".waves", "not begun")
	s.shows(".hosts", "1 host was not reached, and keeps what it has")
	s.shows(".el-table", "stopped")
	s.fits()
}

// While somebody is asked about a rollout, the page stays at it, whatever begins meanwhile; what was read of
// it is what is meant, and where it has gone on since nothing is done.
func TestThePageStaysAtWhatItAsksAbout(t *testing.T) {
	ctx := context.Background()
	r := held(t)
	s := openAt(t, r, "/rollouts", 1280, 800)
	s.bears("409 /api/rollouts/1/proceed")
	s.shows("h1", "Rollout 1 of revision 1 is held")
	s.press(".levers", "Go on")
	s.shows(".el-dialog", "Let the rollout go on")
	_, err := r.Operator.StopRollout(ctx, 1)
	require.NoError(t, err)
	two, err := r.Operator.BeginRollout(ctx, api.RolloutOrder{})
	require.NoError(t, err)
	_, err = r.Operator.PullLever(ctx, two.ID, client.LeverHold, api.LeverOrder{Because: "the vendor took a package back"})
	require.NoError(t, err)
	s.shows("h1", "Rollout 1 of revision 1 was stopped")
	s.types(".el-dialog textarea", "the disk has room")
	s.press(".el-dialog", "Go on")
	s.shows(".told", "rollout 1 has")
	s.shows("h1", "Rollout 2 of revision 1")
	two, err = r.Operator.Rollout(ctx, two.ID, client.List{})
	require.NoError(t, err)
	assert.Equal(t, rollout.Held, two.Phase)
}

// Nothing begins while a freeze holds, the pages say so, and a host that cannot wait for it is left out.
func TestTheFleetIsFrozenAndAHostLeftOut(t *testing.T) {
	r := held(t)
	s := open(t, r, 1280, 800)
	s.do(chromedp.Click(`nav a[href="/rollouts"]`))
	s.shows("h1", "Rollout 1 of revision 1 is held")
	s.press(".levers", "Freeze …")
	s.shows(".freeze", "lantern freeze add")
	s.types(".freeze textarea", "a release is under way")
	s.click(".freeze .el-button--warning")
	s.shows(".frozen", "Nothing begins in the fleet until")
	s.shows(".frozen", "by first: a release is under way")
	s.fits()
	s.press(".hosts", "Skip")
	s.shows(".el-dialog", "gw-02.brinewick.test stays as it is")
	s.types(".el-dialog textarea", "it is taken down tonight")
	s.press(".el-dialog", "Skip it")
	s.shows(".hosts", "1 skipped")
	s.do(chromedp.Click(`nav a[href="/"]`))
	s.shows(".frozen", "Nothing begins in the fleet until")
	list, err := r.Operator.Freezes(context.Background())
	require.NoError(t, err)
	require.Len(t, list.Freezes, 1)
	_, err = r.Operator.Thaw(context.Background(), list.Freezes[0].ID) // by somebody else: the page hears of it
	require.NoError(t, err)
	s.gone(".frozen")
}

// gone waits until nothing is left of what an element showed.
func (s *screen) gone(selector string) {
	s.t.Helper()
	require.Eventually(s.t, func() bool {
		left, err := chromedp.Run(s.page, chromedp.Evaluate[int]("document.querySelectorAll(`"+selector+"`).length"))
		return err == nil && left == 0
	}, 15*time.Second, 50*time.Millisecond, selector)
}
