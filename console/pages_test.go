package console_test

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/client"
	"patientlantern.example/lantern/internal/cell"
	"patientlantern.example/lantern/internal/rig"
)

// The overview says what to do now, and leads there.
func TestTheOverviewSaysWhatToDoNow(t *testing.T) {
	r := rig.New(t)
	s := open(t, r, 1280, 800)
	s.do(chromedp.Click(`nav a[href="/"]`))
	s.shows("h1", "No host has joined yet")
	s.shows(".now", "Invite one")
	root := r.Up("gw-01")
	r.Up("gw-02")
	s.shows(".now", "Nothing is published yet")
	r.Publish()
	s.shows(".now", "Revision 1 is not on every host")
	r.Carry()
	s.shows("h1", "2 hosts are as the policy says")
	s.shows(".field table", "Skerry 12 (mussel)")
	s.fits()
	require.NoError(t, os.WriteFile(filepath.Join(root, "etc/apt/sources.list.d/own.list"),
		[]byte("deb [trusted=yes] http://127.0.0.1:1/x ./\n"), 0o644))
	s.shows("h1", "1 host needs a look of 2")
	s.shows(".now", "Packages could come from somebody who should not supply them")
	s.js(`document.querySelector(".field input[value=cohort]").click()`)
	s.shows(".field table", "as gw-01")
	s.shows(".field table", "as gw-02")
	s.shows(".field", "2 configurations")
	s.do(chromedp.Click(".now .press"))
	s.shows("h1", "on 1 host")
	address, err := chromedp.Run(s.page, chromedp.Location())
	require.NoError(t, err)
	assert.True(t, strings.HasSuffix(address, "/drift?severity=danger"), address)

	s.do(chromedp.Click(`nav a[href="/"]`))
	s.press("li[data-class=unlisted-source]", "Waive")
	s.shows(".el-dialog", "It is a finding again when it changes")
	s.do(chromedp.KeyEvent(kb.Escape))
	s.shows("li[data-class=unlisted-source]", "To close it: take it into the policy") // and healing, which leaves it, is not offered
	s.never("an idle button", `[...document.querySelectorAll("li[data-class=unlisted-source] button")].map((b) => b.innerText).filter((t) => t.includes("Heal")).join()`)
	require.NoError(t, cell.Write(root, map[string]string{"etc/apt/apt.conf.d/99-for-now": "Acquire::AllowInsecureRepositories \"true\";\n"}))
	s.press("li[data-class=setting-weakened]", "Heal")
	s.shows(".el-dialog", "Heal this finding wherever it is")
	s.shows(".el-dialog", "lantern heal gw-01")
}

// A policy is edited beside what the edit would do, and published as what was read.
func TestThePolicyIsEditedBesideWhatItWouldDo(t *testing.T) {
	r := rig.New(t)
	r.Up("gw-01")
	r.Up("gw-04")
	r.Publish()
	r.Carry()
	s := openAt(t, r, "/policy?file=hosts.yaml", 1280, 800)
	s.shows("h1", "Revision 1")
	s.shows(".cm-content", "groups:")
	s.fits()
	type_ := func(from, to string) {
		t.Helper()
		ok, err := chromedp.Run(s.page, chromedp.Evaluate[bool](`(() => {
			const line = [...document.querySelectorAll('.cm-line')].find((l) => l.textContent.includes(`+"`"+from+"`"+`))
			if (!line) return false
			const walk = document.createTreeWalker(line, NodeFilter.SHOW_TEXT)
			const range = document.createRange()
			range.selectNodeContents(line)
			const sel = window.getSelection()
			sel.removeAllRanges()
			sel.addRange(range)
			document.execCommand('insertText', false, line.textContent.replace(`+"`"+from+"`, `"+to+"`"+`))
			return true
		})()`))
		require.NoError(t, err)
		require.True(t, ok, "no line has %q", from)
	}
	type_("unlisted: report", "unlisted: repor")
	s.shows(".does", "1 error")
	s.shows(".does", "hosts.yaml:")
	require.Eventually(t, func() bool {
		there, err := chromedp.Run(s.page, chromedp.Evaluate[bool](`!!document.querySelector('.cm-lint-marker-error')`))
		return err == nil && there
	}, 10*time.Second, 50*time.Millisecond, "the line is marked")
	type_("unlisted: repor", "unlisted: report")
	s.shows(".does", "Edit, and it is said here")
	type_("repositories: [base]", "repositories: [base, curlew]")
	s.shows(".does", "No host that is known would change")
	type_("repositories: [base, curlew]", "repositories: [base]")
	type_("repositories: [saltmarsh]", "repositories: []")
	s.shows(".does", "2 hosts would change")
	s.shows(".does .diff", "saltmarsh.sources")
	s.do(chromedp.Click(".does .el-button--primary"))
	s.types(".el-dialog input", "gateways do without")
	s.shows(".el-dialog", "It becomes revision 2: 2 hosts would change")
	s.click(".el-dialog .el-button--primary")
	s.shows("main", "Revision 2 is published.")
	s.shows(".el-table", "gateways do without")
	s.shows(".files .folder", "keys/")
	s.do(chromedp.Click(`.files a[title="keys/saltmarsh-2026.asc"]`))
	s.shows(".cm-content", "BEGIN PGP PUBLIC KEY BLOCK")
	list, err := r.Operator.Revisions(t.Context(), client.List{})
	require.NoError(t, err)
	require.Equal(t, 2, list.Total)
	for _, width := range []int64{1280, 390} {
		s.do(chromedp.EmulateViewport(width, 800), chromedp.Navigate(s.url+"/policy"))
		s.shows(".cm-content", "groups:")
		s.fits()
	}
}

func TestPeopleAuditAndTheFinder(t *testing.T) {
	r := rig.New(t)
	r.Up("gw-01")
	r.Publish()
	s := openAt(t, r, "/people", 1280, 800)
	s.shows("h1", "1 person or program may sign in")
	s.types("form input", "mira\n")
	s.shows(".once", "mira signs in with this token, shown this once: plo_")
	s.shows("h1", "2 people and programs may sign in")
	s.types("form input", "first") // who signs in already keeps the role
	s.shows("main form", "The token that first has ends.")
	s.shows("main form", "operator: changes")
	s.types("form input", "first\n")
	s.shows(".once", "first signs in with this token, shown this once: plo_")
	s.shows("header", "first, operator")
	s.types("form input", "tern")
	s.shows("main form", "lantern operator add NAME --role reader")
	s.types("form:nth-of-type(2) input", "gw-77.brinewick.test\n")
	s.shows("main", "lantern-agent join --service "+s.url+" --token plj_")
	s.fits()
	s.do(chromedp.Click(`nav a[href="/audit"]`))
	s.shows(".el-table", "add operator")
	s.shows(".el-table", "publish policy")
	s.do(chromedp.Click(".tools .el-button"))
	s.shows("[role=status]", "follow from each other")
	s.fits()
	s.do(chromedp.Click(".find"), chromedp.WaitVisible(".q"))
	s.types(".q", "gw-0")
	s.shows("#finder-hits", "gw-01.brinewick.test")
	s.js(`[...document.querySelectorAll('#finder-hits li')].find((l) => l.textContent.includes('gw-01')).click()`)
	s.shows("h1", "gw-01.brinewick.test")
	s.do(chromedp.Click(".find"), chromedp.WaitVisible(".q"))
	s.types(".q", "host invite")
	s.shows("#finder-hits li.on", "Invite a host")
	s.do(chromedp.KeyEvent(kb.Enter))
	s.shows("h1", "may sign in")
	s.shows("#invite:focus", "Invite a host")
}

// What one does is found by who may do it alone.
func TestAReaderFindsPagesAndNoActions(t *testing.T) {
	r := rig.New(t)
	reader, err := r.Operator.AddOperator(t.Context(), api.OperatorOrder{Name: "mira", Role: "reader"})
	require.NoError(t, err)
	s := openAt(t, r, "/", 1280, 800)
	s.signIn(reader.Token)
	s.do(chromedp.Navigate(s.url))
	s.shows("header", "mira, reader")
	s.do(chromedp.Click(".find"), chromedp.WaitVisible(".q"))
	s.types(".q", "in")
	s.shows("#finder-hits", "Settings: what the service runs with")
	s.never("an action", `[...document.querySelectorAll("#finder-hits .kind")].map((k) => k.textContent).find((k) => k === "action") ?? ""`)
}

// What is filtered stands in the address, and a page that there is not leads to the last.
func TestDriftIsFilteredByWhatStandsInTheAddress(t *testing.T) {
	r := rig.New(t)
	root := r.Up("gw-01")
	r.Up("desk-1")
	r.Publish()
	r.Carry()
	require.NoError(t, os.Remove(filepath.Join(root, "etc/apt/sources.list.d/saltmarsh.sources")))
	require.NoError(t, os.WriteFile(filepath.Join(root, "etc/apt/sources.list.d/own.list"),
		[]byte("deb [trusted=yes] http://127.0.0.1:1/x ./\n"), 0o644))
	s := open(t, r, 1280, 800)
	s.shows("h1", "2 different findings on 1 host")
	s.do(chromedp.Navigate(s.url + "/drift?q=saltmarsh"))
	s.shows("h1", "1 different finding on 1 host")
	s.do(chromedp.Navigate(s.url + "/drift?to=desks"))
	s.shows("h1", "No findings of that kind")
	s.do(chromedp.Navigate(s.url + "/drift?page=99"))
	s.shows("h1", "2 different findings on 1 host")
	s.do(chromedp.Navigate(s.url + "/drift?class=missing-file&each=yes"))
	s.shows("h1", "1 finding on 1 host")
	s.fits()
}

// axeRun has axe look at the page, and gives what it finds as JSON.
const axeRun = `axe.run(document, { resultTypes: ['violations'], ...(window.axeOnly ?? {}) }).then((r) => JSON.stringify(r.violations.map((v) => ({
	id: v.id, help: v.help, nodes: v.nodes.slice(0, 3).map((n) => n.html.slice(0, 200) + ' ' + (n.any[0]?.message ?? n.all[0]?.message ?? '')),
}))))`

// js has the page do something.
func (s *screen) js(what string) {
	s.t.Helper()
	_, err := chromedp.Run(s.page, chromedp.Evaluate[bool](what+"; true"))
	require.NoError(s.t, err)
}

// goes goes to a page as a link of the console does. To read and compile the console anew for each page would take
// most of the time of a sweep over all of them.
func (s *screen) goes(page string) {
	s.t.Helper()
	at, err := chromedp.Run(s.page, chromedp.Evaluate[string]("location.origin"))
	require.NoError(s.t, err)
	if at != s.url {
		s.do(chromedp.Navigate(s.url + page))
		s.settled()
		return
	}
	s.js("document.querySelector('main h1')?.setAttribute('data-before', '')")
	s.turns(page)
	for end := time.Now().Add(time.Second); time.Now().Before(end); time.Sleep(30 * time.Millisecond) { // the same page with another question keeps it
		there, err := chromedp.Run(s.page, chromedp.Evaluate[bool]("document.querySelector('main h1:not([data-before])') !== null"))
		if err == nil && there {
			break
		}
	}
	s.settled()
}

// turns has the console show a page without being read anew.
func (s *screen) turns(page string) {
	s.js(fmt.Sprintf("history.pushState({}, '', %q); dispatchEvent(new PopStateEvent('popstate', { state: {} }))", page))
}

// settled waits until the page shows its heading and asks for nothing more.
func (s *screen) settled() {
	s.t.Helper()
	last := ""
	require.Eventually(s.t, func() bool {
		now, err := chromedp.Run(s.page, chromedp.Evaluate[string](
			`document.querySelector('main h1') ? String(performance.getEntriesByType('resource').length) + document.querySelector('main').innerText.length : ''`))
		same := err == nil && now != "" && now == last
		last = now
		return same
	}, 15*time.Second, 150*time.Millisecond)
}

// drifted is a fleet of two hosts as the policy says, but for a source that somebody wrote on the first.
func drifted(t *testing.T) *rig.Rig {
	r := rig.New(t)
	root := r.Up("gw-01")
	r.Up("gw-02")
	r.Accounts()
	r.Publish()
	r.Carry()
	require.NoError(t, cell.Write(root, map[string]string{
		"etc/apt/sources.list.d/own.list": "deb [trusted=yes] http://127.0.0.1:1/x ./\n",
		"etc/apt/apt.conf.d/99-for-now":   "Acquire::AllowInsecureRepositories \"true\";\n", // which healing closes
	}))
	r.Until("the findings are there", func() bool { return len(r.Findings("gw-01")) > 1 })
	return r
}

// placeOf is the address of the page of a place of packages.
func placeOf(t *testing.T, r *rig.Rig) string {
	t.Helper()
	list, err := r.Operator.Repositories(t.Context(), client.List{})
	require.NoError(t, err)
	require.NotEmpty(t, list.Repositories)
	return "/repositories/" + list.Repositories[0].Key
}

// unsaid are the choices that show nothing of what is chosen.
const unsaid = `[...document.querySelectorAll('main .el-select__placeholder')].filter((e) => e.innerText.trim() === 'Select').map((e) => e.closest('.el-select').innerHTML).join('\n')`

// axe finds nothing on any page, by day and by night.
func TestNoPageHasAFaultThatAxeFinds(t *testing.T) {
	axe, err := os.ReadFile("node_modules/axe-core/axe.min.js")
	require.NoError(t, err)
	r := drifted(t)
	s := openFor(t, r, 1280, 800, 5*time.Minute)
	for _, page := range []string{
		placeOf(t, r), "/keys/3BFF82245BECAD4F2FA48C0D00195878414CC58E", "/rollouts/1", "/", "/hosts", "/hosts/gw-01.brinewick.test", "/drift", "/policy", "/changes", "/rollouts", "/repositories", "/keys", "/contracts",
		"/audit", "/people", "/settings", "/report", "/whence?package=saltmarsh-server", "/nowhere",
	} {
		s.goes(page)
		s.never(page+": a choice that says what is chosen", unsaid)
		s.accessible(string(axe), page)
	}
	for _, box := range []struct{ page, in, press string }{
		{"/rollouts", ".levers", "Freeze …"}, {"/rollouts", ".levers", "Back out"}, {"/drift", "main", "Waive"}, {"/drift", "main", "Heal"},
		{"/", ".rest", "Find Ctrl K"},
	} {
		s.do(chromedp.Navigate(s.url + box.page)) // the box before is gone
		s.settled()
		s.press(box.in, box.press)
		s.do(chromedp.WaitVisible(".el-dialog"))
		s.accessible(string(axe), box.page+", "+box.press)
	}
}

// accessible has axe look at what is shown, by day and now and then by night.
func (s *screen) accessible(axe, what string) {
	s.t.Helper()
	s.js(axe)
	s.js(`document.head.insertAdjacentHTML('beforeend', '<style>* { transition: none !important; animation: none !important }</style>')`)
	schemes := []string{"light"}
	if rand.IntN(2) == 0 || cell.Rounds(0) > 0 { // of other pages in each run
		schemes = append(schemes, "dark")
	}
	for _, scheme := range schemes {
		s.js(`document.documentElement.classList.toggle('dark', ` + strconv.FormatBool(scheme == "dark") + `)`)
		s.js(map[string]string{"light": `delete window.axeOnly`, "dark": `window.axeOnly = { runOnly: ['color-contrast'] }`}[scheme]) // only colours differ
		found, err := chromedp.Run(s.page, chromedp.Evaluate[string](axeRun, chromedp.EvalAwaitPromise))
		require.NoError(s.t, err)
		var list []struct {
			ID, Help string
			Nodes    []string
		}
		require.NoError(s.t, json.Unmarshal([]byte(found), &list))
		for _, v := range list {
			assert.Failf(s.t, "axe", "%s, %s: %s: %s\n  %s", what, scheme, v.ID, v.Help, strings.Join(v.Nodes, "\n  "))
		}
	}
}

// Eight tabs are eight pages that show what happens: they share one stream.
func TestManyTabsShareOneStream(t *testing.T) {
	r := rig.New(t)
	r.Up("gw-01")
	first := open(t, r, 1280, 800)
	var tabs []*screen
	for range 8 {
		page, stop := chromedp.NewContext(first.page)
		t.Cleanup(stop)
		s := &screen{t: t, page: page, url: first.url}
		s.do(chromedp.Navigate(s.url + "/policy"))
		s.shows("h1", "Nothing is published yet")
		s.shows(".rest", "live")
		tabs = append(tabs, s)
	}
	r.Publish()
	for _, s := range tabs {
		s.shows("h1", "Revision 1")
	}
	assert.Eventually(t, func() bool { return r.Streams() == 1 }, 5*time.Second, 50*time.Millisecond, "%d streams", r.Streams())
}
