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

	"patientlantern.example/lantern/datafolder"
	"patientlantern.example/lantern/internal/rig"
	"patientlantern.example/lantern/standin"
)

// What the service runs with is shown, a folder is put on a shelf and taken off, secrets get a new
// key, and colours and views are kept here.
func TestSettingsShelvesAndTheBrowsersOwn(t *testing.T) {
	all := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(all, "skerry-12", "dists"), 0o755))
	r := rig.New(t, func(o *datafolder.Options) { o.Shelves = all })
	r.Accounts()
	s := open(t, r, 1280, 800)
	s.bears("422 /api/shelves")
	s.do(chromedp.Navigate(s.url + "/settings"))
	s.shows("main", "--check-in")
	s.shows("main", "The service looks at repositories only when somebody asks it to")
	s.shows("main", "None. A shelf gives packages")
	s.fits()
	s.types(`[aria-label="Name of the shelf"]`, "away")
	s.types(`[aria-label="Folder of the shelf"]`, "../../etc\n")
	s.shows(".told", "folder")
	s.js(`[["Name of the shelf", "media"], ["Folder of the shelf", "skerry-12"]].forEach(([label, text]) => {
		const box = document.querySelector('[aria-label="' + label + '"]')
		box.value = text
		box.dispatchEvent(new Event("input"))
	})`)
	s.press("main form", "Serve it")
	s.shows("main", "/shelf/media")
	s.press("main", "Remove")
	s.press("body", "Serve it no more")
	s.shows("main", "None. A shelf gives packages")
	s.press("main", "Encrypt with a new key")
	s.press("body", "Encrypt anew")
	s.shows("main", "2 secrets are encrypted with a new key")

	s.js(`document.querySelector('[aria-label="Colours"]').closest(".el-select__wrapper").click()`)
	s.shows("body", "as the system says")
	s.js(`[...document.querySelectorAll(".el-select-dropdown__item")].find(o => o.offsetParent && o.innerText === "dark").click()`)
	require.Eventually(t, func() bool {
		on, err := chromedp.Run(s.page, chromedp.Evaluate[bool](`document.documentElement.classList.contains("dark")`))
		return err == nil && on
	}, 15*time.Second, 50*time.Millisecond)
	s.do(chromedp.Navigate(s.url + "/settings"))
	s.shows("header", "Light")
}

// An account at a desk is added and forgotten; its password is in no answer and on no page.
func TestAnAccountIsAddedAndForgotten(t *testing.T) {
	r := rig.New(t)
	s := open(t, r, 1280, 800)
	s.bears("503 /api/accounts")
	s.do(chromedp.Navigate(s.url + "/contracts"))
	s.shows("h1", "No account at a vendor's desk yet")
	s.press("main", "Add an account")
	fill := func(desk string) {
		for field, text := range map[string]string{
			"Name of the account": "gannet", "Address of the desk": desk, "Login at the desk": standin.Logins()["gannet"], "Password at the desk": standin.DeskPassword,
		} {
			s.types(`[aria-label="`+field+`"]`, text)
		}
		s.press("main form", "Add it")
	}
	fill("http://127.0.0.1:1/nobody")
	s.shows(".told", "does not answer")
	s.do(chromedp.Navigate(s.url + "/contracts"))
	s.press("main", "Add an account")
	fill("http://" + r.World.Desks + "/gannet")
	s.shows("main", "GN-2026-014")
	s.shows("main", "answered")
	page, err := chromedp.Run(s.page, chromedp.Evaluate[string](`document.documentElement.outerHTML`))
	require.NoError(t, err)
	assert.NotContains(t, page, standin.DeskPassword)
	s.press("main", "Forget")
	s.press("body", "Forget it")
	s.shows("h1", "No account at a vendor's desk yet")
	list, err := r.Operator.Accounts(context.Background())
	require.NoError(t, err)
	assert.Empty(t, list.Accounts)
}
