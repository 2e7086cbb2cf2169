package console_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/internal/cell"
	"patientlantern.example/lantern/internal/rig"
	"patientlantern.example/lantern/standin"
)

// outside are the parts of a page that show a text which nobody can see or reach: they end outside of the window, or
// their box is cut, and nothing around them can be scrolled to the side or says with … that there is more.
const outside = `(() => {
  const reached = (e) => {
    for (let p = e; p; p = p.parentElement) {
      const s = getComputedStyle(p)
      if (p.matches('.el-overlay')) return false
      if (/auto|scroll/.test(s.overflowX) && !p.matches('.el-overlay-dialog') && p.scrollWidth > p.clientWidth && p.getBoundingClientRect().right <= innerWidth + 1) return true
      if (s.textOverflow === 'ellipsis' && s.overflowX !== 'visible') {
        if (!e.closest('.mark')) return true
        if (p.scrollWidth > p.clientWidth + 1) return false // a state is never shortened
      }
      if (s.position === 'absolute' && s.clipPath !== 'none') return true
    }
    return false
  }
  const out = []
  const walk = document.createTreeWalker(document.querySelector('body'), NodeFilter.SHOW_TEXT)
  for (let n = walk.nextNode(); n; n = walk.nextNode()) {
    const e = n.parentElement
    if (!n.textContent.trim() || !e || /STYLE|SCRIPT|NOSCRIPT/.test(e.tagName) || !e.checkVisibility({ visibilityProperty: true, opacityProperty: true })) continue
    const range = document.createRange()
    range.selectNodeContents(n)
    for (const r of range.getClientRects()) {
      if (r.width === 0 || r.right < 0) continue
      let right = innerWidth + 1
      for (let p = e; p; p = p.parentElement) {
        if (/hidden|clip/.test(getComputedStyle(p).overflowX)) right = Math.min(right, p.getBoundingClientRect().right + 2)
      }
      if (r.right > right && !reached(e)) {
        out.push(n.textContent.trim().slice(0, 60) + ' (' + (e.closest('[class]')?.className ?? e.tagName) + ')')
        break
      }
    }
  }
  return out.slice(0, 5).join('\n')
})()`

// scrolled are the tables of which a part can be seen only by scrolling to the side.
const scrolled = `[...document.querySelectorAll('.el-table .el-scrollbar__wrap')].filter((e) => e.scrollWidth > e.clientWidth + 1).
  map((e) => e.textContent.trim().slice(0, 60)).join('\n')`

// TestNothingIsCutOff: on no page and at no width a text ends where nobody can read it.
func TestNothingIsCutOff(t *testing.T) {
	r := rig.New(t)
	root := r.Up("gw-01")
	for _, n := range []string{"gw-02", "arc-1"} {
		r.Up(n)
	}
	long := "tide-gauge-at-the-" + strings.Repeat("far-", 10) + "end." + strings.Repeat("north.", 6) // 120 letters with the domain
	r.Start(r.EnrolRoot(strings.TrimRight(long, "."), r.Root("gw-03")))
	long += standin.Domain
	r.Until("it has sent a survey", func() bool {
		d, err := r.Operator.Host(t.Context(), long)
		return err == nil && d.Document != ""
	})
	r.Accounts()
	r.Publish()
	r.Carry()
	require.NoError(t, os.WriteFile(filepath.Join(root, "etc/apt/sources.list.d/own.list"),
		[]byte("deb [trusted=yes] http://127.0.0.1:1/"+strings.Repeat("x", 90)+" ./\n"), 0o644))
	r.Until("the finding is there", func() bool { return len(r.Findings("gw-01")) > 0 })
	ctx := context.Background()
	words := strings.Repeat("because the tide was high and nobody could get there, ", 10)[:490]
	_, err := r.Operator.Label(ctx, long, map[string]string{"station": strings.Repeat("x", 63)})
	require.NoError(t, err)
	files := r.Policy()
	files["policy.yaml"] = append(files["policy.yaml"], "\n# another\n"...)
	_, err = r.Operator.Propose(ctx, api.ProposalOrder{Files: files, Message: words + strings.Repeat("y", 200)})
	require.NoError(t, err)
	_, err = r.Operator.Freeze(ctx, api.FreezeOrder{Group: "reef", Until: time.Now().Add(time.Hour), Because: words})
	require.NoError(t, err)
	require.NoError(t, r.Upstreams.SetFault("packages.saltmarsh.example", standin.FaultWrongKey))
	s, drawn := openFor(t, r, 1280, 800, 5*time.Minute), cell.Share(3)
	for _, page := range []string{
		"/hosts/" + long, "/policy?proposal=1", "/keys/3BFF82245BECAD4F2FA48C0D00195878414CC58E",
		"/", "/hosts", "/hosts/gw-01.brinewick.test", "/drift", "/drift?each=yes", "/policy", "/changes", "/rollouts", "/rollouts/1",
		"/repositories", "/keys", "/contracts", "/audit", "/people", "/settings", "/report", "/whence?package=saltmarsh-server", "/nowhere",
	} {
		s.do(chromedp.EmulateViewport(1280, 800))
		s.goes(page)
		for _, width := range []int64{390, 640, 768, 1280, 1920} {
			if width != 390 && !drawn() {
				continue
			}
			s.do(chromedp.EmulateViewport(width, 800))
			s.whole(fmt.Sprintf("%s at %d", page, width))
			if width <= 640 { // rows are cards there
				s.never(fmt.Sprintf("%s at %d", page, width), scrolled)
			}
		}
	}
	for page, press := range map[string][2]string{
		"/rollouts/1": {".levers", "Back out"}, "/rollouts": {".levers", "Freeze …"}, "/drift": {"main", "Waive"},
	} {
		s.do(chromedp.EmulateViewport(390, 800), chromedp.Navigate(s.url+page))
		s.settled()
		s.press(press[0], press[1])
		s.do(chromedp.WaitVisible(".el-dialog"))
		s.whole(page + ": " + press[1])
	}
}

// whole checks that all that is shown can be read.
func (s *screen) whole(what string) {
	s.t.Helper()
	s.never(what, outside)
	s.fits()
}

// never checks that an expression comes to an empty text, and says what it found otherwise.
func (s *screen) never(what, expression string) {
	s.t.Helper()
	left := "?"
	assert.Eventually(s.t, func() bool {
		var err error
		left, err = chromedp.Run(s.page, chromedp.Evaluate[string](expression))
		return err == nil && left == ""
	}, 2*time.Second, 100*time.Millisecond, what)
	assert.Empty(s.t, left, what)
}
