package console_test

import (
	"bytes"
	"context"
	"encoding/json"
	"io/fs"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/cli"
	"patientlantern.example/lantern/client"
	"patientlantern.example/lantern/console"
	"patientlantern.example/lantern/datafolder"
	"patientlantern.example/lantern/internal/browser"
	"patientlantern.example/lantern/internal/rig"
	"patientlantern.example/lantern/standin"
)

func TestMain(m *testing.M) {
	status := m.Run()
	browser.Quit()
	os.Exit(status)
}

func TestTheConsoleIsBuiltIn(t *testing.T) {
	_, err := fs.Stat(console.Files(), "index.html")
	require.NoError(t, err, "build the console first: make console")
}

// TestTypesFollowFromTheService: the description in the repository is that of the
// service, and the console's types are made from it.
func TestTypesFollowFromTheService(t *testing.T) {
	r := rig.New(t, func(o *datafolder.Options) { o.Version = cli.Version })
	now, err := r.Service.OpenAPI()
	require.NoError(t, err)
	kept, err := os.ReadFile("openapi.json")
	require.NoError(t, err)
	var a, b any
	require.NoError(t, json.Unmarshal(now, &a))
	require.NoError(t, json.Unmarshal(kept, &b))
	require.Equal(t, a, b, "console/openapi.json is out of date: make types")
	out := filepath.Join(t.TempDir(), "api.gen.ts")
	cmd := exec.Command("node_modules/.bin/openapi-typescript", "openapi.json", "-o", out)
	text, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", text)
	made, err := os.ReadFile(out)
	require.NoError(t, err)
	have, err := os.ReadFile("src/api.gen.ts")
	require.NoError(t, err)
	require.Equal(t, string(made), string(have), "console/src/api.gen.ts is out of date: make types")
}

// screen is a browser on the console of a rig.
type screen struct {
	t    *testing.T
	page context.Context
	url  string
	*faults
}

func open(t *testing.T, r *rig.Rig, width, height int) *screen {
	t.Helper()
	return openAt(t, r, "/drift", width, height)
}

// openAt is open at another page than that of drift.
func openAt(t *testing.T, r *rig.Rig, page string, width, height int) *screen {
	t.Helper()
	return openPage(t, r, page, width, height, 90*time.Second)
}

// openFor is open for a story that may take so long.
func openFor(t *testing.T, r *rig.Rig, width, height int, most time.Duration) *screen {
	t.Helper()
	return openPage(t, r, "/drift", width, height, most)
}

func openPage(t *testing.T, r *rig.Rig, at string, width, height int, most time.Duration) *screen {
	t.Helper()
	page, stop, err := browser.Page(most)
	require.NoError(t, err)
	t.Cleanup(stop)
	s := &screen{t: t, page: page, url: r.Server.URL}
	s.listen(t)
	require.NoError(t, chromedp.Do(page, chromedp.EmulateViewport(int64(width), int64(height))))
	s.signIn(r.Operator.Token)
	s.do(chromedp.Navigate(s.url + at))
	s.shows("header", "operator")
	require.Eventually(t, func() bool {
		there, err := chromedp.Run(page, chromedp.Evaluate[bool](`!!document.querySelector("main h1")`))
		return err == nil && there
	}, 15*time.Second, 50*time.Millisecond)
	return s
}

// signIn gives the browser a session, as the form does; that is tried by a test of its own.
func (s *screen) signIn(token string) {
	s.t.Helper()
	body, err := json.Marshal(api.SignIn{Token: token})
	require.NoError(s.t, err)
	resp, err := http.Post(s.url+"/api/session", "application/json", bytes.NewReader(body))
	require.NoError(s.t, err)
	require.NoError(s.t, resp.Body.Close())
	require.Len(s.t, resp.Cookies(), 1, resp.Status)
	c := resp.Cookies()[0]
	yes := true
	_, err = chromedp.Call(s.page, network.SetCookie, network.SetCookieParams{
		URL: s.url, Name: c.Name, Value: c.Value, HTTPOnly: &yes, SameSite: network.CookieSameSiteStrict,
	})
	require.NoError(s.t, err)
}

// types writes into a field in place of what stands there; "\n" at the end presses Enter. A dialog that opens or closes
// takes the focus away, and what chromedp waits for may be a field of one that has gone.
func (s *screen) types(selector, text string) {
	s.t.Helper()
	field := "[...document.querySelectorAll(`" + selector + "`)].find((e) => e.checkVisibility())"
	text, enters := strings.CutSuffix(text, "\n")
	require.Eventually(s.t, func() bool {
		ready, err := chromedp.Run(s.page, chromedp.Evaluate[bool](`(() => { const e = `+field+`; e?.focus(); e?.select(); return !!e && document.activeElement === e })()`))
		if err != nil || !ready {
			return false
		}
		if _, err = chromedp.Call(s.page, input.InsertText, input.InsertTextParams{Text: text}); err != nil {
			return false
		}
		has, err := chromedp.Run(s.page, chromedp.Evaluate[string](`(`+field+`)?.value ?? ''`))
		return err == nil && has == text
	}, 15*time.Second, 50*time.Millisecond, "a field %s", selector)
	if enters {
		s.do(chromedp.KeyEvent("\r"))
	}
}

// click presses what can be seen and pressed, wherever an animation has it at that moment: a pointer would miss it.
func (s *screen) click(selector string) {
	s.t.Helper()
	require.Eventually(s.t, func() bool {
		pressed, err := chromedp.Run(s.page, chromedp.Evaluate[bool](`(() => {
			const e = [...document.querySelectorAll(`+"`"+selector+"`"+`)].find((e) => e.checkVisibility() && !e.disabled)
			e?.scrollIntoView({ block: "nearest" })
			const at = e?.getBoundingClientRect()
			if (!e || !e.contains(document.elementFromPoint(at.x + at.width / 2, at.y + at.height / 2))) return false
			e.click()
			return true
		})()`))
		return err == nil && pressed
	}, 15*time.Second, 50*time.Millisecond, "something to press at %s", selector)
}

// shows waits until an element's text holds something.
func (s *screen) shows(selector, want string) {
	s.t.Helper()
	text := ""
	ok := assert.Eventually(s.t, func() bool {
		var err error
		text, err = chromedp.Run(s.page, chromedp.Evaluate[string](`(document.querySelector(`+"`"+selector+"`"+`)?.innerText ?? '')`))
		return err == nil && strings.Contains(text, want)
	}, 90*time.Second, 50*time.Millisecond) // package managers run behind it, beside other tests
	require.True(s.t, ok, "%s shows %q, not %q", selector, text, want)
}

func (s *screen) do(actions ...chromedp.Action[chromedp.Void]) {
	s.t.Helper()
	require.NoError(s.t, chromedp.Do(s.page, actions...))
}

// fits checks that nothing runs out of the window to the side.
func (s *screen) fits() {
	s.t.Helper()
	over, err := chromedp.Run(s.page, chromedp.Evaluate[int](`document.documentElement.scrollWidth - window.innerWidth`))
	require.NoError(s.t, err)
	assert.LessOrEqual(s.t, over, 0, "the page is wider than the window")
}

func TestTheConsoleShowsWhatHappensWithoutAReload(t *testing.T) {
	r := rig.New(t)
	var root string
	for _, n := range []string{"gw-01", "gw-02"} {
		root = r.Up(n)
	}
	s := open(t, r, 1280, 800)
	s.shows("h1", "No findings") // where the sign-in was asked for
	s.do(chromedp.Click(`nav a[href="/changes"]`))
	s.shows("h1", "Nothing is published yet")
	r.Publish()
	s.shows("h1", "Revision 1 would change 2 hosts")
	s.shows(".group .add", "mussel main firmware")
	s.fits()
	s.shows(".head", "Begin rollout of revision 1")
	s.do(chromedp.Click(".head button"), chromedp.WaitVisible(".asking"))
	s.shows(".asking", "Carry revision 1 to 2 hosts")
	s.click(".asking .el-button--primary")
	s.shows("h1", "Revision 1 would change none of the hosts that are known")
	s.shows(".rollout", "done")

	s.do(chromedp.Click(`nav a[href="/hosts"]`), chromedp.WaitVisible(".chips"))
	s.shows("h1", "2 hosts are as the policy says")
	s.fits()
	mark, err := chromedp.Run(s.page, chromedp.Evaluate[bool](`window.notReloaded = true`))
	require.NoError(t, err)
	require.True(t, mark)

	list := filepath.Join(root, "etc/apt/sources.list")
	was, err := os.ReadFile(list)
	require.NoError(t, err)
	edited := time.Now()
	require.NoError(t, os.WriteFile(list, []byte(strings.Replace(string(was), "mussel main firmware", "mussel main", 1)), 0o644))
	s.shows("h1", "1 host needs a look of 2")
	t.Logf("an edited file was in the console after %s", time.Since(edited).Round(time.Millisecond))
	s.do(chromedp.Click(".el-table__row a[href='/hosts/gw-02.brinewick.test']"))
	s.shows("h1", "drifted")
	s.shows(".diff", "deb "+r.Upstream+"/archive.skerry.example/skerry mussel main firmware")
	s.fits()
	s.do(chromedp.Click(".head button"))
	s.shows("h1", "steady")
	s.shows(".well", "As the policy says.")
	still, err := chromedp.Run(s.page, chromedp.Evaluate[bool](`window.notReloaded === true`))
	require.NoError(t, err)
	assert.True(t, still, "the page was loaded again")
	now, err := os.ReadFile(list)
	require.NoError(t, err)
	assert.Equal(t, string(was), string(now))
}

func TestTheConsoleFiltersAndChangesItsLight(t *testing.T) {
	r := rig.New(t)
	for _, n := range []string{"gw-01", "gw-04"} {
		r.Up(n)
	}
	s := openAt(t, r, "/hosts?q=limpet", 1920, 1080)
	s.do(chromedp.WaitVisible(".el-table__row"))
	s.shows("tbody", "gw-04")
	text, err := chromedp.Run(s.page, chromedp.Text("tbody"))
	require.NoError(t, err)
	assert.NotContains(t, text, "gw-01")
	s.fits()
	dark := func() bool {
		d, err := chromedp.Run(s.page, chromedp.Evaluate[bool](`document.documentElement.classList.contains('dark')`))
		require.NoError(t, err)
		return d
	}
	before := dark()
	s.do(chromedp.Click(`.rest [aria-label^="Switch to"]`))
	assert.NotEqual(t, before, dark())
	s.bears("404 /api/hosts/gw-09")
	s.do(chromedp.Navigate(s.url+"/hosts/gw-09"), chromedp.WaitVisible(".el-alert"))
	s.shows(".el-alert", `there is no host "gw-09"; did you mean "gw-0`)
	s.do(chromedp.Navigate(s.url+"/nowhere"), chromedp.WaitVisible("h1"))
	s.shows("h1", "There is no such page")
}

func TestAReaderIsNotOfferedWhatAReaderMayNotDo(t *testing.T) {
	r := rig.New(t)
	root := r.Up("gw-01")
	r.Publish()
	r.Carry()
	require.NoError(t, os.WriteFile(filepath.Join(root, "etc/apt/sources.list"), []byte("# gone\n"), 0o644))
	s := openAt(t, r, "/hosts/gw-01", 1280, 800)
	s.do(chromedp.WaitVisible(".head button"))
	reader, err := r.Operator.AddOperator(context.Background(), api.OperatorOrder{Name: "mira", Role: "reader"})
	require.NoError(t, err)

	// The operator is taken away: the page leads to signing in, and back to where it was.
	s.bears("401 /api/") // whatever the page asks for at that moment
	other, err := r.Operator.AddOperator(context.Background(), api.OperatorOrder{Name: "tern", Role: "operator"})
	require.NoError(t, err)
	require.NoError(t, client.New(r.Server.URL, other.Token).RemoveOperator(context.Background(), "first"))
	s.types("#token", reader.Token+"\n")
	s.do(chromedp.WaitVisible("main .diff"))
	s.shows("h1", "gw-01.brinewick.test")
	buttons, err := chromedp.Run(s.page, chromedp.Evaluate[int](`document.querySelectorAll('main .el-button').length`))
	require.NoError(t, err)
	assert.Zero(t, buttons, "a reader is offered a change")
}

func TestAServiceThatHangsIsNotLive(t *testing.T) {
	r := rig.New(t)
	r.Up("gw-01")
	s := open(t, r, 1280, 800)
	s.shows(".rest", "live")
	r.Hang(true)
	s.shows(".rest", "nothing heard of the service")
	r.Hang(false)
	s.shows(".rest", "live")
}

func TestAWrongTokenIsRefusedInWords(t *testing.T) {
	r := rig.New(t)
	page, stop, err := browser.Page(60 * time.Second)
	require.NoError(t, err)
	defer stop()
	s := &screen{t: t, page: page, url: r.Server.URL}
	s.listen(t)
	s.do(chromedp.Navigate(s.url))
	s.types("#token", "plo_wrong\n")
	s.shows(".el-alert", "no operator has this token")
}

func TestTheConsoleOfContracts(t *testing.T) {
	r := rig.New(t)
	s := open(t, r, 1280, 800)
	s.do(chromedp.Click(`nav a[href="/contracts"]`))
	s.shows("h1", "No account at a vendor's desk yet")
	r.Accounts()
	s.shows("h1", "No host needs a seat")
	s.shows("main", "GN-2026-014")
	r.Up("arc-3")
	s.do(chromedp.Navigate(s.url + "/contracts")) // what hosts say is looked at each minute alone
	s.shows("h1", "No host is known to need a seat")
	s.shows("main", "What 1 host needs is not known: no revision was carried to them yet")
	s.shows(".ahead", "? nobody of those known")
	r.Publish()
	s.shows("main", "licensed")
	r.Carry()
	s.shows("h1", "1 host would lose access within 90 days")
	s.shows(".pressing", "1 host falls out: arc-3")
	s.never("what a host needs is known", `document.querySelector("main").textContent.match(/no revision was carried/)?.[0] ?? ""`)
	s.shows(".usage", "GN-2026-014: 1 of 6")
	s.shows(".ahead", "GN-2026-014 1 of 6 used")
	s.shows(".ahead", "1080.00 EUR")
	s.shows(".ahead .bad", "1 host")
	s.shows("main", "gannet: a year of what is good now: 2700.00 EUR; how its seats grow is not known yet")
	s.fits()

	require.NoError(t, r.Desk.SetFault("gannet", standin.DeskBroken))
	r.Tend()
	s.shows(".pressing", "has not answered since")
	s.shows(".pressing", "Nothing changes on any host; access is renewed when it answers.")
	require.NoError(t, r.Desk.SetFault("gannet", ""))
	r.Tend()

	s.do(chromedp.Click(`.el-table__row a[href="/hosts/arc-3.brinewick.test"]`), chromedp.WaitVisible(".channels"))
	s.shows(".channels", "gannet follows licensed by archives, opened by the contract gannet")
	s.do(chromedp.Click(".channels button"), chromedp.WaitVisible(".el-popconfirm__action"))
	s.click(".el-popconfirm__action .el-button--primary")
	s.shows("h1", "drifted")
	s.shows("main", "the host has no seat in gannet")
	s.fits()
	s.do(chromedp.Click(".head button"))
	s.shows("h1", "steady")
	s.shows(".channels", "GN-2026-014 taken")
}

// What the policy says nothing of is accepted or waived where it is found.
func TestFindingsAreWaivedAndHostsAccepted(t *testing.T) {
	r := rig.New(t)
	var roots []string
	for _, n := range []string{"gw-01", "gw-02"} {
		roots = append(roots, r.Up(n))
	}
	r.Publish()
	require.Equal(t, 2, r.Carry().Counts["done"])
	for _, root := range roots {
		require.NoError(t, os.MkdirAll(filepath.Join(root, "etc/apt/preferences.d"), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(root, "etc/apt/preferences.d/own"), []byte("Package: *\nPin: origin elsewhere.example\nPin-Priority: 1001\n"), 0o644))
	}
	s := openAt(t, r, "/drift", 1280, 800)
	s.do(chromedp.WaitVisible("ul.card"))
	s.shows("h1", "1 different finding on 2 hosts")
	s.shows("ul.card", "2 hosts: gw-01, gw-02")
	s.fits()
	s.do(chromedp.Navigate(s.url+"/hosts/gw-01.brinewick.test"), chromedp.WaitVisible(".buttons"))
	s.shows(".buttons", "Accept as it stands")
	s.do(chromedp.Click(".buttons button"), chromedp.WaitVisible(".el-dialog"))
	s.types(".el-dialog textarea", "as agreed")
	s.click(".el-dialog .el-button--primary")
	s.shows(".well", "As the policy says.")
	s.shows(".facts", "as agreed")
	s.do(chromedp.Navigate(s.url+"/drift"), chromedp.WaitVisible("ul.card"))
	s.shows("ul.card", "1 host: gw-02")
	s.press(".side", "Waive")
	s.do(chromedp.WaitVisible(".el-dialog"))
	s.types(".el-dialog textarea", "a trial")
	s.click(".el-dialog .el-button--primary")
	s.shows("h1", "No findings")
	s.shows(".not-known", "1 with findings that somebody waived")
	s.do(chromedp.Navigate(s.url+"/hosts/gw-02.brinewick.test"), chromedp.WaitVisible(".channels"))
	s.shows(".channels", "a trial")
}
