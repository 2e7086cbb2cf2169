package console_test

import (
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/internal/rig"
)

// Moving a group to another channel is two clicks and one word of the folder; what it would do is
// said beside it. The editor completes by the language and by the policy's own names, and tells
// what a name stands for.
func TestAGroupIsMovedToAnotherChoice(t *testing.T) {
	r := rig.New(t)
	r.Up("chart-2")
	r.Publish()
	before := string(r.Policy()["hosts.yaml"])
	s := openAt(t, r, "/policy?file=hosts.yaml", 1280, 800)
	s.shows(".follows", "charts in channel gannet follows")
	s.do(chromedp.Click(`.follows [aria-label="Choice of gannet for charts"]`))
	s.shows("body", "open")
	s.js(`[...document.querySelectorAll(".el-select-dropdown__item")].find(o => o.offsetParent && o.innerText === "open").click()`)
	s.shows("h1", "edited")
	s.shows(".does", "1 host would change")
	var text string
	require.Eventually(t, func() bool {
		var err error
		text, err = chromedp.Run(s.page, chromedp.Evaluate[string](`document.querySelector(".cm-content").innerText`))
		return err == nil && text != ""
	}, 15*time.Second, 50*time.Millisecond)
	const line = "  - to: charts\n    repositories: [saltmarsh]\n    channels: { gannet: "
	assert.Contains(t, text, line+"open }")
	assert.Contains(t, before, line+"licensed }")
	s.fits()

	s.js(`(() => {
		const at = [...document.querySelectorAll(".cm-line")].find(l => l.innerText.includes("repositories: [saltmarsh]"))
		const inside = document.createTreeWalker(at, NodeFilter.SHOW_TEXT)
		let node
		while (inside.nextNode()) if (inside.currentNode.data.includes("saltmarsh")) node = inside.currentNode
		const range = document.createRange()
		const from = node.data.indexOf("saltmarsh")
		range.setStart(node, from + 2)
		range.setEnd(node, from + 3)
		const box = range.getBoundingClientRect()
		at.dispatchEvent(new MouseEvent("mousemove", { bubbles: true, clientX: box.left + 1, clientY: box.top + box.height / 2 }))
	})()`)
	s.shows(".cm-tooltip .told", "policy.yaml:")
	s.shows(".cm-tooltip .told pre", "saltmarsh:")

	s.js(`(() => {
		const at = [...document.querySelectorAll(".cm-line")].find(l => l.innerText.includes("unlisted: report"))
		const range = document.createRange()
		range.selectNodeContents(at)
		const sel = window.getSelection()
		sel.removeAllRanges()
		sel.addRange(range)
		document.execCommand("insertText", false, "    unlisted: sw")
	})()`)
	s.shows(".cm-tooltip-autocomplete", "switch-off")
}
