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

	"patientlantern.example/lantern/internal/rig"
	"patientlantern.example/lantern/standin"
)

// Somebody adds a key: the page of keys says so first, names the host, and the report prints it.
func TestWhoBelievesAKeyIsFoundAndReported(t *testing.T) {
	r := rig.New(t)
	r.Up("gw-01")
	root := r.Up("gw-02")
	r.Publish()
	require.Equal(t, 2, r.Carry().Counts["done"])
	foreign, err := standin.NewKey("elsewhere", "Elsewhere <x@elsewhere.example>", time.Now().AddDate(0, -11, -10), 1)
	require.NoError(t, err)
	ring, err := foreign.Binary()
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(root, "etc/apt/trusted.gpg.d/own.gpg"), ring, 0o644))
	r.Until("the key is found", func() bool { return len(r.Findings("gw-02")) > 0 })
	for _, width := range []int{1280, 390} {
		s := open(t, r, width, 800)
		s.do(chromedp.Navigate(r.Server.URL + "/keys?q=elsewhere"))
		s.shows("h1", "1 key needs a look")
		s.shows(".el-table", "ends soon")
		s.shows(".el-table", foreign.Fingerprint())
		s.do(chromedp.Click(".el-table a"))
		s.shows("h1", "1 host believes Elsewhere")
		s.shows(".el-descriptions", "does not know it")
		s.shows(".el-descriptions", "every source")
		s.shows(".el-table", "/etc/apt/trusted.gpg.d/own.gpg")
		s.fits()
		s.do(chromedp.Navigate(r.Server.URL + "/report"))
		s.shows("h1", "Package sources that differ from the policy")
		s.shows("article", "gw-02")
		s.shows("article", "1 of 2 hosts as the policy says, 1 drifted.")
		s.fits()
	}
}

// A vendor has gone over to its next key: the old one's page says that it can go, and the edit that takes it out is
// one click away, judged, and published as any.
func TestAKeyIsTakenOutOfThePolicyFromItsPage(t *testing.T) {
	ctx := context.Background()
	r := rig.New(t)
	r.Up("gw-01")
	r.Publish()
	require.Equal(t, 1, r.Carry().Counts["done"])
	_, err := r.Operator.Probe(ctx, nil)
	require.NoError(t, err)
	s := open(t, r, 1280, 800)
	s.do(chromedp.Navigate(r.Server.URL + "/keys/3BFF82245BECAD4F2FA48C0D00195878414CC58E"))
	s.shows("main", "the vendor still signs with this one")
	s.never("a way to take it out", `document.querySelector("main").innerText.includes("Take it out of the policy") ? "there" : ""`)
	require.NoError(t, r.Upstreams.Resign("packages.saltmarsh.example", "saltmarsh-2029"))
	_, err = r.Operator.Probe(ctx, nil)
	require.NoError(t, err)
	s.do(chromedp.Reload())
	s.shows("main", "this one can go")
	s.shows("main", "lantern key retire saltmarsh-2026 FOLDER")
	s.js(`[...document.querySelectorAll("main a")].find(a => a.innerText === "Take it out of the policy").click()`)
	s.shows("h1", "edited")
	s.shows("main", "a comment speaks of saltmarsh-2026 still")
	s.shows(`.files a[title="keys/saltmarsh-2026.asc"]`, "−")
	s.shows(".does", "1 host would change")
	s.fits()
	s.press(".does", "Publish …")
	s.js(`(() => { const i = document.querySelector('.el-dialog input[aria-label="Message"]'); i.value = "over"; i.dispatchEvent(new Event("input")) })()`)
	s.press(".el-dialog", "Publish revision 2")
	s.shows("main", "Revision 2 is published.")
	published, err := r.Operator.RevisionFiles(ctx, 2)
	require.NoError(t, err)
	assert.NotContains(t, published.Files, "keys/saltmarsh-2026.asc")
	assert.NotContains(t, string(published.Files["keys.yaml"]), "succeeds")
	assert.Contains(t, string(published.Files["policy.yaml"]), "keys: [saltmarsh-2029]")
}

// Who believes a key is a list that can be narrowed down, sent to a colleague as it stands, and kept as a file.
func TestWhoBelievesAKeyIsFilteredSentAndKept(t *testing.T) {
	r := rig.New(t)
	r.Up("gw-01")
	r.Up("gw-02")
	r.Publish()
	require.Equal(t, 2, r.Carry().Counts["done"])
	s := openAt(t, r, "/keys/3BFF82245BECAD4F2FA48C0D00195878414CC58E", 1280, 800)
	s.shows(".el-table__body", "gw-02")
	s.types(`input[aria-label="Filter hosts"]`, "gw-01")
	s.searches("?q=gw-01")
	s.never("a host that is not meant", `document.querySelector(".el-table__body").innerText.includes("gw-02") ? "gw-02" : ""`)
	s.js(`window.kept = ""; URL.createObjectURL = (b) => { b.text().then((t) => { window.kept = t }); return "blob:" }; HTMLAnchorElement.prototype.click = function () { window.name = this.download }`)
	s.press(".tools", "Save as CSV")
	s.comes("the file", `window.name + "\n" + window.kept.replaceAll("\r", "")`, "saltmarsh-2026.csv\nhost,system,scope,used,because,stands_in,named_by\n"+
		`"gw-01.brinewick.test","Skerry 12 (mussel)","named","true","","/etc/apt/sources.list.d/saltmarsh.sources","/etc/apt/sources.list.d/saltmarsh.sources:5"`+"\n")
	s.do(chromedp.Navigate(s.url + "/keys/3BFF82245BECAD4F2FA48C0D00195878414CC58E?q=gw-02&scope=named"))
	s.shows(".el-table__body", "gw-02")
	s.do(chromedp.Navigate(s.url + "/keys/3BFF82245BECAD4F2FA48C0D00195878414CC58E?scope=any"))
	s.shows("main", "No host that is meant believes it")
	s.fits()
}
