package console_test

import (
	"fmt"
	"os"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/internal/rig"
)

// onTop is the host in the first row of the list that is seen whole.
const onTop = `(() => {
  const from = document.querySelector('.el-table-v2__header')?.getBoundingClientRect().bottom ?? 0
  const rows = [...document.querySelectorAll('.el-table-v2__row')].map((e) => [e.getBoundingClientRect().top, e.querySelector('a')?.innerText ?? '…'])
  return rows.filter(([top]) => top >= from - 2).sort((a, b) => a[0] - b[0])[0]?.[1] ?? ''
})()`

func (s *screen) comes(what, expression, want string) {
	s.t.Helper()
	got := ""
	ok := assert.Eventually(s.t, func() bool {
		var err error
		got, err = chromedp.Run(s.page, chromedp.Evaluate[string](expression))
		return err == nil && got == want
	}, 20*time.Second, 50*time.Millisecond)
	require.True(s.t, ok, "%s is %q, not %q", what, got, want)
}

func (s *screen) keys(keys string) {
	s.t.Helper()
	s.do(chromedp.Focus(".rows"), chromedp.KeyEvent(keys))
}

// Hosts that do not stand on one page are one list that one scrolls through, by keys too: rows are there where one
// looks alone, the address says where that is, and what is chosen stays.
func TestManyHostsAreOneListThatScrolls(t *testing.T) {
	r := rig.New(t)
	const many = 180
	host := func(n int) string { return fmt.Sprintf("tide-%03d.brinewick.test", n) }
	for n := 1; n <= many; n++ {
		r.EnrolRoot(fmt.Sprintf("tide-%03d", n), t.TempDir())
	}
	s := openAt(t, r, "/hosts?sort=name", 1280, 800)
	s.comes("the top", onTop, host(1))
	s.fits()
	s.keys(kb.End)
	s.shows(".rows", host(many))
	s.searches("?sort=name&page=4")
	rows, err := chromedp.Run(s.page, chromedp.Evaluate[int](`document.querySelectorAll('.el-table-v2__row').length`))
	require.NoError(t, err)
	assert.Less(t, rows, 30, "rows are made where one looks")
	s.do(chromedp.Navigate(s.url + "/hosts?sort=name&page=3"))
	s.comes("the top of an address", onTop, host(101))
	s.keys(kb.ArrowUp)
	s.comes("a row further up", onTop, host(100))
	s.searches("?sort=name&page=2")
	s.keys(kb.Home)
	s.comes("the top again", onTop, host(1))
	s.keys(kb.PageDown)
	s.comes("nothing that was not there", `document.querySelector('.rows').innerText.includes('…') ? 'some' : ''`, "")
	s.js(`document.querySelector('.rows button.sort').click()`)
	s.searches("?sort=-name")
	s.comes("the top, the other way round", onTop, host(many))

	s.js(`document.querySelector('.el-table-v2__row .el-checkbox').click()`)
	s.shows(".bulk", "1 host chosen")
	s.js(`document.querySelector('.el-table-v2__header .el-checkbox').click()`)
	s.shows(".bulk", fmt.Sprintf("%d hosts chosen", many))
	s.press(".bulk", "Choose none")
	s.types(`input[aria-label="Filter hosts"]`, "tide-17")
	s.shows(".el-table__body", host(170)) // ten stand on one page
	s.types(`input[aria-label="Filter hosts"]`, "tide-0")
	s.comes("the top of what is found", onTop, host(99))

	axe, err := os.ReadFile("node_modules/axe-core/axe.min.js")
	require.NoError(t, err)
	s.accessible(string(axe), "a list that scrolls")
	for _, width := range []int64{1000, 1920, 768, 390} { // on the last two they are pages
		s.do(chromedp.EmulateViewport(width, 800))
		s.whole(fmt.Sprintf("the list at %d", width))
	}
	s.shows(".el-table__body", host(99))
	s.do(chromedp.EmulateViewport(1280, 800), chromedp.WaitVisible(".el-table-v2__row a"))
	s.js(`document.querySelector('.el-table-v2__row a').click()`)
	s.shows("h1", "tide-099")
}
