package agent

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/internal/cell"
)

// The sheet before, and the one of the change that is taken back: a file is made, one is
// edited in place, and one goes. Nothing is on, so nothing has to be fetched.
func twoSheets() (before, after *source.Sheet) {
	render := func(name string) *source.Sheet {
		files, src, keys := deb.Render(deb.Definition{Repository: name, URL: "http://127.0.0.1:9/" + name, Suites: []string{"stable"}, Components: []string{"main"}, Signatures: source.CheckOff})
		return &source.Sheet{Format: source.FormName(1), Family: "deb", Files: files, Sources: []source.SheetSource{src}, Keys: keys, Unlisted: source.UnlistedReport}
	}
	before, after = render("plover"), render("saltmarsh")
	after.InPlace = []source.InPlace{{Repository: "base", URLs: []string{}, Files: deb.OwnFiles("skerry"), Suites: []string{"mussel"}, Components: []string{}, Add: []string{}, Drop: []string{}}}
	return before, after
}

// carries carries a sheet to a host as a rollout.
func carries(h *Host, rollout int64, sheet *source.Sheet) error {
	text, err := json.Marshal(sheet)
	if err != nil {
		return err
	}
	c := newCarrier(h, api.Delivery{Rollout: rollout, Revision: rollout, Sheet: source.Digest(text)})
	if _, err = c.once(context.Background(), sheet); err != nil {
		return err
	}
	return c.remember(text)
}

func newCarrier(h *Host, d api.Delivery) *carrier {
	return &carrier{host: h, log: slog.New(slog.DiscardHandler), now: time.Now, delivery: d, report: api.Report{Took: map[string]int64{}}}
}

// ready is a host to which two rollouts were carried, and its files before and after the
// second one.
func ready(t *testing.T, root string) (h *Host, old, mid map[string]string, digest string) {
	t.Helper()
	for name, text := range map[string]string{
		"/etc/os-release": "ID=skerry\nID_LIKE=debian\nVERSION_CODENAME=mussel\n", "/etc/apt/sources.list": "deb [trusted=yes] file:/srv/none/skerry mussel main\n", "/etc/apt/preferences.d/.keep": "",
		"/var/lib/dpkg/status": "Package: dpkg\nStatus: install ok installed\nArchitecture: amd64\nVersion: 1\n\n", "/var/lib/apt/lists/partial/.keep": "", "/var/cache/apt/archives/partial/.keep": "",
		"/etc/apt/sources.list.d/.keep": "",
	} {
		require.NoError(t, os.MkdirAll(filepath.Dir(root+name), 0o755))
		require.NoError(t, os.WriteFile(root+name, []byte(text), 0o644))
	}
	require.NoError(t, os.Chmod(root+"/etc/apt/sources.list", 0o640))
	h, err := OpenHost(root)
	require.NoError(t, err)
	before, after := twoSheets()
	require.NoError(t, carries(h, 1, before))
	text, err := json.Marshal(before)
	require.NoError(t, err)
	old = tree(t, root)
	require.NoError(t, carries(h, 2, after))
	mid = tree(t, root)
	require.NotEqual(t, old, mid)
	return h, old, mid, source.Digest(text)
}

func takeBack(h *Host, digest string) error {
	return newCarrier(h, api.Delivery{Rollout: 3, Revision: 1, BackOut: 2, Sheet: digest}).backOut(context.Background())
}

// at runs do at a failpoint, once.
func at(t *testing.T, point string, do func()) (reached *bool) {
	t.Helper()
	reached = new(bool)
	was := failpoint
	failpoint = func(p string) {
		if p == point && !*reached {
			*reached = true
			do()
		}
	}
	t.Cleanup(func() { failpoint = was })
	return reached
}

type died struct{}

// work is something that takes a host from one state to another.
type work struct {
	name string
	from string // old or mid: what stands there before; the other one stands there afterwards
	do   func(h *Host, digest string) error
}

var works = []work{
	{"a change", "old", func(h *Host, _ string) error {
		_, after := twoSheets()
		return carries(h, 4, after)
	}},
	{"a back-out", "mid", takeBack},
}

// begun is a host on which the work can be done: to begin with a change, the one before is
// taken back.
func (w work) begun(t *testing.T, root string) (h *Host, from, to map[string]string, digest string) {
	h, old, mid, digest := ready(t, root)
	if w.from == "mid" {
		return h, mid, old, digest
	}
	require.NoError(t, takeBack(h, digest))
	return h, old, mid, digest
}

// What is hit by a fault at any step leaves the host wholly as it was or wholly as it was to
// be, and goes through when the fault is gone.
func TestWhatIsHitAtAnyStepIsWhole(t *testing.T) {
	asked := cell.Share(3)
	for _, w := range works {
		var points []string
		h, _, to, digest := w.begun(t, t.TempDir())
		was := failpoint
		failpoint = func(p string) { points = append(points, p) }
		err := w.do(h, digest)
		failpoint = was
		require.NoError(t, err)
		require.Equal(t, to, tree(t, h.Root))
		require.NoError(t, h.Close())
		require.Contains(t, points, "swapped-2", "all three files are put in place")
		for _, fault := range []string{"killed", "full", "read-only"} {
			for _, point := range points {
				if !asked() {
					continue
				}
				t.Run(w.name+" "+fault+" at "+point, func(t *testing.T) { w.hit(t, fault, point) })
			}
		}
	}
}

func (w work) hit(t *testing.T, fault, point string) {
	root := t.TempDir()
	mount(t, root, "size=64m")
	h, from, to, digest := w.begun(t, root)
	filler, sources := filepath.Join(root, "filler"), filepath.Join(root, "etc/apt")
	reached := at(t, point, func() {
		switch fault {
		case "killed":
			panic(died{})
		case "full":
			fill(t, filler)
		case "read-only":
			require.NoError(t, syscall.Mount(sources, sources, "", syscall.MS_BIND, ""))
			require.NoError(t, syscall.Mount("", sources, "", syscall.MS_BIND|syscall.MS_REMOUNT|syscall.MS_RDONLY, ""))
		}
	})
	err := func() (err error) {
		defer func() {
			if r := recover(); r != nil {
				if _, ours := r.(died); !ours {
					panic(r)
				}
				err = errors.New("killed")
			}
		}()
		return w.do(h, digest)
	}()
	require.True(t, *reached)
	failpoint = func(string) {}
	require.NoError(t, h.Close())
	if fault == "read-only" {
		require.NoError(t, syscall.Unmount(sources, syscall.MNT_DETACH))
	}
	_ = os.Remove(filler)

	again, openErr := OpenHost(root)
	require.NoError(t, openErr)
	defer again.Close()
	_, recoverErr := again.Recover()
	require.NoError(t, recoverErr)
	now := withoutStaged(tree(t, root))
	if !assert.ObjectsAreEqual(to, now) {
		require.Equal(t, from, now, "half done (%v)", err)
		require.Error(t, err, "it says that it is done, and is not")
	}
	if err == nil {
		return
	}
	if w.name == "a back-out" && again.changedBy(3) { // it was done, and could not say so any more
		require.Equal(t, to, now)
		return
	}
	require.NoError(t, w.do(again, digest), "with the fault gone it goes through")
	require.Equal(t, to, withoutStaged(tree(t, root)))
	var last memory
	require.NoError(t, again.loadJSON("memory.json", &last))
	if w.name == "a back-out" {
		require.Equal(t, digest, last.Sheet, "what the agent remembers goes with the files")
	}
}

// withoutStaged leaves out files that were not put in place yet: no package manager reads
// them, and the next start sweeps them.
func withoutStaged(files map[string]string) map[string]string {
	for name := range files {
		if base := filepath.Base(name); strings.HasPrefix(base, ".") && base != ".keep" {
			delete(files, name)
		}
	}
	return files
}

// fill takes all the space that is left.
func fill(t *testing.T, name string) {
	t.Helper()
	f, err := os.Create(name)
	if err != nil {
		return // not even that
	}
	defer f.Close()
	for {
		if _, err := f.Write(bytes.Repeat([]byte{'#'}, 64<<10)); err != nil {
			require.ErrorIs(t, err, syscall.ENOSPC, fmt.Sprint(err))
			return
		}
	}
}
