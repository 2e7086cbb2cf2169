package console_test

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/page"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/internal/rig"
)

// press clicks the button of a part of the page that says something.
func (s *screen) press(in, says string) {
	s.t.Helper()
	s.shows(in, says)
	s.js(`[...document.querySelectorAll("` + in + ` button")].find((b) => b.innerText.trim() === "` + says + `").click()`)
}

// chosen picks every host of the page.
func (s *screen) chosen(want string) {
	s.t.Helper()
	s.shows(".el-table__body", "gw-01")
	s.js(`document.querySelector(".el-table__header .el-checkbox").click()`)
	s.shows(".bulk", want)
}

// What was read is what is carried, whatever is published while somebody reads.
func TestARevisionIsCarriedAsItWasRead(t *testing.T) {
	r := rig.New(t)
	ctx := context.Background()
	r.Up("gw-01")
	r.Publish()
	s := openAt(t, r, "/hosts", 1280, 800)
	s.chosen("1 host chosen")
	s.press(".bulk", "Begin a rollout")
	s.shows(".el-dialog", "revision 1")
	files := r.Policy()
	files["hosts.yaml"] = append(files["hosts.yaml"], "# a word\n"...)
	rev, err := r.Operator.Publish(ctx, api.Publication{Files: files})
	require.NoError(t, err)
	require.Equal(t, int64(2), rev.Number)
	s.types(".el-dialog textarea", "it was read")
	s.press(".el-dialog", "Begin it")
	s.shows("h1", "Rollout 1 of revision 1")
}

// Many hosts are picked; what would come of it is said before they are labelled, healed and
// retired.
func TestManyHostsAreChosenAndChanged(t *testing.T) {
	r := rig.New(t)
	ctx := context.Background()
	roots := map[string]string{}
	for _, n := range []string{"gw-01", "gw-02"} {
		roots[n] = r.Up(n)
	}
	r.Publish()
	require.Equal(t, 2, r.Carry().Counts["done"])
	s := openAt(t, r, "/hosts", 1280, 800)
	s.chosen("2 hosts chosen")
	s.press(".bulk", "Choose none")
	s.js(`document.querySelector('.el-table__body .el-checkbox').click()`)
	s.shows(".bulk", "1 host chosen")
	s.press(".bulk", "Choose all 2 that match")
	s.shows(".bulk", "2 hosts chosen")
	s.fits()
	s.press(".bulk", "Label")
	s.do(chromedp.WaitVisible(`.el-dialog input[aria-label="Value of the label"]`))
	s.types(`.el-dialog input[aria-label="Name of the label"]`, "site")
	s.types(`.el-dialog input[aria-label="Value of the label"]`, "reef")
	s.press(".el-dialog", "See what comes of it")
	s.shows(".el-dialog", "2 hosts come into the group reef")
	s.shows(".el-dialog", "lantern host label gw-01 gw-02 site=reef")
	d, err := r.Operator.Host(ctx, "gw-01")
	require.NoError(t, err)
	require.NotEqual(t, "reef", d.Labels["site"], "it was only looked at")
	s.press(".el-dialog", "Label them")
	r.Until("both are labelled", func() bool {
		for n := range roots {
			d, err := r.Operator.Host(ctx, n)
			if err != nil || d.Labels["site"] != "reef" {
				return false
			}
		}
		return true
	})

	_, err = r.Operator.LabelHosts(ctx, api.LabelOrder{To: []string{"gw-01", "gw-02"}, Unset: []string{"site"}})
	require.NoError(t, err)

	was := map[string]string{}
	for n, root := range roots {
		file := filepath.Join(root, "etc/apt/sources.list.d/saltmarsh.sources")
		b, err := os.ReadFile(file)
		require.NoError(t, err)
		was[n] = string(b)
		require.NoError(t, os.WriteFile(file, []byte(strings.Replace(string(b), "Components: main", "Components: main testing", 1)), 0o644))
	}
	s.do(chromedp.Navigate(s.url + "/drift"))
	s.shows("h1", "1 different finding on 2 hosts")
	s.press(".side", "Heal")
	s.shows(".el-dialog", "2 hosts in")
	s.shows(".el-dialog", "2 waves, each behind the gates of its plan")
	s.shows(".el-dialog", "lantern heal gw-01 gw-02 --class changed-source --yes")
	s.types(".el-dialog textarea", "edited by hand")
	s.press(".el-dialog", "Heal them")
	s.shows("h1", "Healing 2")
	r.Until("both are as they were", func() bool {
		for n, root := range roots {
			if b, err := os.ReadFile(filepath.Join(root, "etc/apt/sources.list.d/saltmarsh.sources")); err != nil || string(b) != was[n] {
				return false
			}
		}
		return true
	})

	s.do(chromedp.Navigate(s.url + "/hosts"))
	s.chosen("2 hosts chosen")
	s.press(".bulk", "Retire")
	s.shows(".el-dialog", "gw-01, gw-02")
	s.js(`document.querySelector(".el-dialog .el-checkbox").click()`)
	s.press(".el-dialog", "Retire them")
	s.shows("h1", "No host has joined yet")
	all, err := r.Operator.Host(ctx, "gw-01")
	assert.Error(t, err, all.Name)
}

// The overview draws how the fleet stood; a day on which nobody counted is said to be one.
func TestTheOverviewDrawsTheDays(t *testing.T) {
	r := rig.New(t)
	r.Up("gw-01")
	r.Clock.Forward(time.Hour)
	heard := func() {
		r.Until("it is heard", func() bool {
			d, err := r.Operator.Host(context.Background(), "gw-01")
			return err == nil && d.State != api.StateSilent
		})
	}
	heard()
	r.Tend()
	r.Clock.Forward(48 * time.Hour)
	heard()
	s := open(t, r, 1280, 800)
	s.do(chromedp.Click(`nav a[href="/"]`))
	s.shows("main", "came in 3 days")
	s.shows("main", "On 1 day nobody counted")
	gaps, err := chromedp.Run(s.page, chromedp.Evaluate[int](`document.querySelectorAll(".panel:not(.low) .gap").length`))
	require.NoError(t, err)
	assert.Equal(t, 1, gaps)
	s.js(`document.querySelector("details").open = true`)
	s.shows("details", "? nobody counted")
	s.fits()
}

// Moments are told in the viewer's zone, which is named, and exactly in UTC to whoever points at
// them; ages are by the service's clock, whatever the browser's says.
func TestMomentsNameTheirZone(t *testing.T) {
	r := rig.New(t)
	r.Up("gw-01")
	r.Publish()
	r.Carry()
	s := open(t, r, 1280, 800)
	ahead := page.AddScriptToEvaluateOnNewDocumentParams{Source: "{ const right = Date.now; Date.now = () => right() + 7200e3 }"}
	_, err := chromedp.Call(s.page, page.AddScriptToEvaluateOnNewDocument, ahead)
	require.NoError(t, err)
	_, err = chromedp.Call(s.page, emulation.SetTimezoneOverride, emulation.SetTimezoneOverrideParams{TimezoneID: "Asia/Kolkata"})
	require.NoError(t, err)
	s.do(chromedp.Navigate(s.url + "/rollouts"))
	s.shows(".el-table__body time", "GMT+5:30")
	exact, err := chromedp.Run(s.page, chromedp.Evaluate[string](`document.querySelector(".el-table__body time").title`))
	require.NoError(t, err)
	assert.Regexp(t, `^\d{4}-\d\d-\d\d \d\d:\d\d:\d\d GMT\+5:30 = \d{4}-\d\d-\d\dT\d\d:\d\d:\d\d(\.\d+)?Z$`, exact)
	s.do(chromedp.Navigate(s.url + "/hosts"))
	s.shows(".el-table__body", "s ago")

	// A day is that of the viewer too.
	s.do(chromedp.Navigate(s.url + "/keys"))
	s.shows(".el-table__body time", "20")
	day, err := chromedp.Run(s.page, chromedp.Evaluate[string](
		`(() => { const t = document.querySelector(".el-table__body time"); return t.textContent + " " + t.dateTime + " " + t.title })()`,
	))
	require.NoError(t, err)
	words := strings.Fields(day)
	at, err := time.Parse(time.RFC3339, words[1])
	require.NoError(t, err)
	assert.Equal(t, at.In(time.FixedZone("", 19800)).Format(time.DateOnly), words[0])
	assert.True(t, strings.HasSuffix(day, " = "+words[1]), day)
}

// Who asked the system for less motion gets none.
func TestNothingMovesWhereThatIsAskedFor(t *testing.T) {
	r := rig.New(t)
	s := open(t, r, 1280, 800)
	lasts := func() string {
		text, err := chromedp.Run(s.page, chromedp.Evaluate[string](
			`Math.max(...[...document.querySelectorAll("*")].flatMap((e) => getComputedStyle(e).transitionDuration.split(", ").map(parseFloat))) > 0.001 ? "moves" : "rests"`,
		))
		require.NoError(t, err)
		return text
	}
	assert.Equal(t, "moves", lasts())
	_, err := chromedp.Call(s.page, emulation.SetEmulatedMedia, emulation.SetEmulatedMediaParams{
		Features: []*emulation.MediaFeature{{Name: "prefers-reduced-motion", Value: "reduce"}},
	})
	require.NoError(t, err)
	assert.Equal(t, "rests", lasts())
}

// Two moments of a host are held against each other.
func TestTwoMomentsOfAHostAreCompared(t *testing.T) {
	r := rig.New(t)
	root := r.Up("gw-01")
	r.Publish()
	r.Carry()
	r.Clock.Forward(time.Minute)
	file := filepath.Join(root, "etc/apt/sources.list.d/saltmarsh.sources")
	b, err := os.ReadFile(file)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, []byte(strings.Replace(string(b), "Components: main", "Components: main testing", 1)), 0o644))
	r.Until("it has drifted", func() bool { return len(r.Findings("gw-01")) == 1 })
	s := openAt(t, r, "/hosts/gw-01.brinewick.test", 1280, 800)
	s.shows("main", "What is another since")
	s.js(`document.querySelector('[aria-label="The earlier moment"]').click()`)
	s.shows(".el-select-dropdown", "report")
	s.js(`[...document.querySelectorAll(".el-select-dropdown__item")].find((o) => o.innerText.includes("report")).click()`)
	s.shows("main", "main, testing")
	s.shows("main", "lantern host compare gw-01 --from")
	s.fits()
}

func TestAHostSaysWhyItHasNotARepository(t *testing.T) {
	r := rig.New(t)
	r.Up("gw-01")
	r.Publish()
	s := openAt(t, r, "/hosts/gw-01.brinewick.test", 1280, 800)
	s.shows("main", "Why not others")
	s.js(`[...document.querySelectorAll("summary")].find((x) => x.innerText.startsWith("Why not")).click()`)
	s.shows("main", `the group models needs label.duty == "model", this host has no label duty`)
	s.types(`input[aria-label="Filter repositories that the host has not"]`, "fulmar")
	s.shows("main", "1 repository of the policy is not for this host")
	s.shows("main", "lantern explain gw-01 fulmar")
	s.fits()
}
