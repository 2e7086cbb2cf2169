package console_test

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/client"
	"patientlantern.example/lantern/internal/rig"
)

// keeps catches what the page would have the browser keep as a file.
const keeps = `window.kept = ""; URL.createObjectURL = (b) => { b.text().then((t) => { window.kept = t }); return "blob:" };` +
	`HTMLAnchorElement.prototype.click = function () { window.name = this.download }`

// kept is the name and the text of that file.
const kept = `(window.name + "\n" + window.kept.replaceAll("\r", ""))`

// A rollout is held, let go on and agreed to by whoever may, each with its reason.
func TestARolloutIsHeldAndAgreedTo(t *testing.T) {
	ctx := context.Background()
	r := rig.New(t)
	r.Up("gw-01")
	files := r.Policy()
	hosts := string(files["hosts.yaml"])
	files["hosts.yaml"] = []byte(hosts[:strings.Index(hosts, "plans:\n")] + strings.Replace(hosts[strings.Index(hosts, "assign:\n"):], "plan: careful", "plan: ours", 1))
	files["plans.yaml"] = []byte("format: patient-lantern/1\nplans:\n  ours:\n    waves: [{ rest: true, consent: true }]\n")
	_, err := r.Operator.Publish(ctx, api.Publication{Files: files})
	require.NoError(t, err)
	mira, err := r.Operator.AddOperator(ctx, api.OperatorOrder{Name: "mira", Role: "operator"})
	require.NoError(t, err)
	_, err = client.New(r.Server.URL, mira.Token).BeginRollout(ctx, api.RolloutOrder{})
	require.NoError(t, err)
	s := openAt(t, r, "/rollouts", 1280, 800)
	s.shows("h1", "Rollout 1 of revision 1 waits for consent")
	s.press(".levers", "Hold")
	s.shows(".el-dialog", "1 host has not begun and will not")
	s.shows(".el-dialog", "lantern rollout hold 1 --because …")
	s.types(".el-dialog textarea", "the tide is high")
	s.press(".el-dialog", "Hold it")
	s.shows("h1", "Rollout 1 of revision 1 is held")
	s.shows(".held", "held by first: the tide is high")
	s.press(".levers", "Go on")
	s.types(".el-dialog textarea", "it is low")
	s.press(".el-dialog", "Go on")
	s.shows("h1", "waits for consent")
	s.press(".levers", "Agree")
	s.shows(".el-dialog", "waits for the consent of somebody else than mira")
	s.types(".el-dialog textarea", "read it")
	s.press(".el-dialog", "Agree")
	s.shows("h1", "Rollout 1 of revision 1 has ended")
}

// A freeze is ended, and an operator taken away, where they are listed.
func TestAFreezeIsEndedAndAnOperatorTakenAway(t *testing.T) {
	ctx := context.Background()
	r := rig.New(t)
	_, err := r.Operator.Freeze(ctx, api.FreezeOrder{Until: r.Clock.Now().AddDate(0, 0, 2), Because: "a release"})
	require.NoError(t, err)
	_, err = r.Operator.AddOperator(ctx, api.OperatorOrder{Name: "mira", Role: "reader"})
	require.NoError(t, err)
	s := openAt(t, r, "/", 1280, 800)
	s.press(".frozen", "End the freeze")
	s.press(".el-popconfirm", "End it")
	s.gone(".frozen")
	s.do(chromedp.Navigate(s.url + "/people"))
	s.shows("h1", "2 people and programs may sign in")
	s.press(".el-table__body", "Take away")
	s.press(".el-table__body", "Not now")
	s.press(".el-table__body", "Take away")
	s.js(`[...document.querySelectorAll(".el-table__body .el-button--primary")].find((b) => b.innerText.trim() === "Take away").click()`)
	s.shows("h1", "1 person or program may sign in")
	list, err := r.Operator.Operators(ctx)
	require.NoError(t, err)
	assert.Len(t, list.Operators, 1)
}

// Places are looked at when somebody asks, all of them and one.
func TestPlacesAreLookedAtNow(t *testing.T) {
	r := rig.New(t)
	r.Up("gw-04")
	r.Publish()
	r.Carry()
	s := openAt(t, r, "/repositories?state=unknown", 1280, 800)
	s.shows(".el-table__body", "saltmarsh")
	s.press("main", "Look at all now")
	s.do(chromedp.Navigate(s.url + "/repositories?state=good"))
	s.shows(".el-table__body", "saltmarsh")
	s.js(`document.querySelector(".el-table__body a").click()`)
	s.press("main", "Look now")
	s.shows("main", "lantern repository show")
	s.fits()
}

// A seat is given back where seats are listed, and lists are kept as files.
func TestASeatIsGivenBackAndListsAreKept(t *testing.T) {
	ctx := context.Background()
	r := rig.New(t)
	r.Accounts()
	r.Up("arc-3")
	r.Publish()
	r.Carry()
	s := openAt(t, r, "/contracts", 1280, 800)
	s.shows(".ahead", "GN-2026-014 1 of 6 used")
	s.types(`[aria-label="Filter contracts"]`, "031")
	s.searches("?find=031")
	s.never("a contract that is not meant", `document.querySelector(".el-table__body").innerText.includes("GN-2026-014") ? "there" : ""`)
	s.do(chromedp.Navigate(s.url + "/contracts?state=ending&order=-used"))
	s.shows(".el-table__body", "PL-TRIAL-77")
	s.never("a contract that is not meant", `document.querySelector(".el-table__body").innerText.includes("GN-2026-031") ? "there" : ""`)
	s.js(keeps)
	s.press("main", "Save as CSV")
	s.comes("the seats", kept+`.split("\n").slice(0, 3).join("\n").slice(0, 105)`,
		"seats.csv\nhost,account,contract,taken,by,automatic,needed,kind,expires,renewal,why\n\"arc-3.brinewick.test\"")
	s.press("main", "Save renewals as CSV")
	s.comes("the renewals", kept+`.split("\n").slice(0, 3).join("\n").replace(/20..-..-../, "a day")`,
		"renewals.csv\naccount,contract,title,end,cover,seats,seats_used,cost,currency,not_known\n"+
			`"gannet","GN-2026-014","Gannet virtual machines, standard","a day","seats","6","1","1080.00","EUR",""`)
	s.press("main", "Release")
	s.press(".el-popconfirm", "Give it back")
	s.shows("main", "No seat is taken.")
	page, err := r.Operator.Seats(ctx, client.List{})
	require.NoError(t, err)
	assert.Zero(t, page.Total)
}

// A file that stops the package manager and that nobody knows is set aside where the host is healed.
func TestWhatStopsTheHealingIsSetAside(t *testing.T) {
	r := rig.New(t)
	root := r.Up("gw-01")
	r.Publish()
	r.Carry()
	stray := filepath.Join(root, "etc/apt/sources.list.d/stray.list")
	require.NoError(t, os.WriteFile(stray, []byte("deb nonsense\n"), 0o644))
	s := openAt(t, r, "/hosts/gw-01", 1280, 800)
	s.shows("h1", "drifted")
	s.press(".head", "Heal, and set aside what stops it")
	s.shows("h1", "steady")
	assert.NoFileExists(t, stray)
	list, err := filepath.Glob(stray + "*")
	require.NoError(t, err)
	assert.Len(t, list, 1, "it is kept under another name")
}
