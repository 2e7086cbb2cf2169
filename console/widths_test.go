package console_test

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/internal/rig"
	"patientlantern.example/lantern/standin"
)

// outside are the parts of a page that show a text which nobody can see or reach: they end outside of the window, or
// their box is cut, and nothing around them can be scrolled to the side or says with … that there is more.
const outside = `(() => {
  const reached = (e) => {
    for (let p = e; p; p = p.parentElement) {
      const s = getComputedStyle(p)
      if (/auto|scroll/.test(s.overflowX) && p.scrollWidth > p.clientWidth && p.getBoundingClientRect().right <= innerWidth + 1) return true
      if (s.textOverflow === 'ellipsis' && s.overflowX !== 'visible') return true
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

// TestNothingIsCutOff: on no page and at no width a text ends where nobody can read it.
func TestNothingIsCutOff(t *testing.T) {
	r := rig.New(t)
	root := r.Up("gw-01")
	for _, n := range []string{"gw-02", "gw-03", "arc-1"} {
		r.Up(n)
	}
	r.Accounts()
	r.Publish()
	r.Carry()
	require.NoError(t, os.WriteFile(filepath.Join(root, "etc/apt/sources.list.d/own.list"),
		[]byte("deb [trusted=yes] http://127.0.0.1:1/"+strings.Repeat("x", 90)+" ./\n"), 0o644))
	r.Until("the finding is there", func() bool { return len(r.Findings("gw-01")) > 0 })
	ctx := context.Background()
	_, err := r.Operator.Freeze(ctx, api.FreezeOrder{Group: "reef", Until: time.Now().Add(time.Hour), Because: "a release is under way"})
	require.NoError(t, err)
	require.NoError(t, r.Upstreams.SetFault("packages.saltmarsh.example", standin.FaultWrongKey))
	s := openFor(t, r, 1280, 800, 5*time.Minute)
	for _, page := range []string{
		"/", "/hosts", "/hosts/gw-01.brinewick.test", "/drift", "/drift?each=yes", "/policy", "/changes", "/rollouts", "/rollouts/1",
		"/repositories", "/keys", "/contracts", "/audit", "/people", "/settings", "/report", "/whence?package=saltmarsh-server", "/nowhere",
	} {
		s.do(chromedp.Navigate(s.url + page))
		s.settled()
		for _, width := range []int64{390, 768, 1280, 1920} {
			s.do(chromedp.EmulateViewport(width, 800))
			left := "?"
			assert.Eventually(t, func() bool {
				var err error
				left, err = chromedp.Run(s.page, chromedp.Evaluate[string](outside))
				return err == nil && left == ""
			}, 2*time.Second, 100*time.Millisecond, "%s at %d", page, width)
			assert.Empty(t, left, "%s at %d", page, width)
			s.fits()
		}
	}
}
