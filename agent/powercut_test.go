package agent

import (
	"crypto/sha256"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"testing"

	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/internal/cell"
)

// The variables by which a test asks another process of itself to work where strace looks on.
const (
	workVariable   = "LANTERN_TEST_WORK"
	rootVariable   = "LANTERN_TEST_ROOT"
	digestVariable = "LANTERN_TEST_DIGEST"
)

// cutWorks are the works that are cut, and one that fails and is put back: its source is
// switched on, and nobody answers there. What took a danger away stays then.
var cutWorks = append(slices.Clip(works), work{"a change that fails", "old", func(h *Host, _ string) error {
	if err := carries(h, 4, unreachable()); err == nil {
		return errors.New("it went through")
	}
	return nil
}})

func unreachable() *source.Sheet {
	_, after := twoSheets()
	files, src, keys := deb.Render(deb.Definition{Repository: "saltmarsh", Enabled: true, URL: "http://127.0.0.1:9/saltmarsh", Suites: []string{"stable"}, Components: []string{"main"}, Signatures: source.CheckOff})
	after.Files, after.Sources, after.Keys = files, []source.SheetSource{src}, keys
	return after
}

// whole is how the host is while a change of it waits for its proof.
func whole(t *testing.T, root string, w work) map[string]string {
	h, _, _, digest := w.begun(t, root)
	var out map[string]string
	at(t, api.StepRefresh, func() { out = withoutStaged(tree(t, root)) })
	require.NoError(t, w.do(h, digest))
	require.NoError(t, h.Close())
	return out
}

// TestWorkThatIsLookedOn does nothing by itself: it is the process that is traced.
func TestWorkThatIsLookedOn(t *testing.T) {
	i, err := strconv.Atoi(os.Getenv(workVariable))
	if err != nil {
		t.SkipNow()
	}
	h, err := OpenHost(os.Getenv(rootVariable))
	require.NoError(t, err)
	require.NoError(t, cutWorks[i].do(h, os.Getenv(digestVariable)))
	require.NoError(t, h.Close())
}

const tracedCalls = "trace=openat,openat2,write,pwrite64,writev,pwritev,fsync,fdatasync,rename,renameat,renameat2,unlink,unlinkat,link,linkat," +
	"symlink,symlinkat,mkdir,mkdirat,rmdir,chmod,fchmod,fchmodat,ftruncate,truncate,copy_file_range,sendfile,fallocate,utimensat"

// lookedOn does a work in another process and tells the calls that it made.
func lookedOn(t *testing.T, i int, root, digest string) []call {
	log := filepath.Join(t.TempDir(), "calls")
	cmd := exec.Command("strace", "-f", "-y", "-xx", "-s", "10000000", "-o", log, "-e", tracedCalls,
		os.Args[0], "-test.run", "^TestWorkThatIsLookedOn$")
	cmd.Env = append(os.Environ(), workVariable+"="+strconv.Itoa(i), rootVariable+"="+root, digestVariable+"="+digest, "GOMAXPROCS=1")
	said, err := cmd.CombinedOutput()
	require.NoError(t, err, string(said))
	text, err := os.ReadFile(log)
	require.NoError(t, err)
	return calls(t, string(text), root)
}

// A power cut takes what was written and not synced. Whatever of it the disk has kept, the
// next start leaves the host wholly as it was or wholly as it was to be; what was said to be
// done stays done; and the work goes through again.
func TestAPowerCutAtAnyCallLeavesAWholeHost(t *testing.T) {
	asked := cell.Share(4)
	base := t.TempDir()
	mount(t, base, "size=256m")
	for i, w := range cutWorks {
		there := whole(t, filepath.Join(base, "whole"+strconv.Itoa(i)), w)
		root := filepath.Join(base, strconv.Itoa(i))
		h, from, to, digest := w.begun(t, root)
		require.NoError(t, h.Close())
		d := diskOf(t, root)
		written := times(t, root)
		made := lookedOn(t, i, root, digest)
		end := tree(t, root)
		if w.name != "a change that fails" {
			require.Equal(t, to, end)
			require.Equal(t, to, there)
		}
		seen, cuts, back := map[[sha256.Size]byte]bool{}, 0, 0
		cut := filepath.Join(base, "cut")
		look := func(where string, l left, wants ...map[string]string) {
			key := l.digest()
			if seen[key] && len(wants) > 1 {
				return
			}
			seen[key] = true
			if cuts++; len(wants) > 1 && !asked() {
				return
			}
			require.NoError(t, os.RemoveAll(cut))
			l.write(t, cut)
			at := w.name + ", " + where + ": " + l.how
			now := w.startsAgain(t, cut, at, wants)
			if fmt.Sprint(now) == fmt.Sprint(from) {
				back++
				require.Equal(t, written, times(t, cut), at)
			}
		}
		for n := range made {
			if !d.about(&made[n]) {
				continue
			}
			d.take(t, &made[n])
			where := fmt.Sprintf("after call %d, %s %q", n, made[n].name, made[n].paths)
			for _, l := range d.cuts() {
				look(where, l, from, there, end)
			}
		}
		for _, l := range d.cuts() {
			look("after all", l, end)
		}
		require.Greater(t, cuts, 100, w.name)
		require.NotZero(t, back, w.name)
		t.Logf("%s: %d calls, %d different cuts, %d of them with all as it was", w.name, len(made), cuts, back)
	}
}

// times are the moments at which the files of a root were written.
func times(t *testing.T, root string) map[string]int64 {
	out := map[string]int64{}
	for name := range tree(t, root) {
		info, err := os.Lstat(root + name)
		require.NoError(t, err)
		out[name] = info.ModTime().UnixNano()
	}
	return out
}

// startsAgain starts an agent on what a cut has left, and tells how it leaves the files.
func (w work) startsAgain(t *testing.T, root, where string, wants []map[string]string) map[string]string {
	h, err := OpenHost(root)
	require.NoError(t, err, where)
	defer h.Close()
	require.NoError(t, h.Settle(), where)
	now := tree(t, root)
	require.True(t, slices.ContainsFunc(wants, func(x map[string]string) bool { return fmt.Sprint(x) == fmt.Sprint(now) }),
		"%s: half done\nis %v\nmay be %v", where, now, wants)
	return now
}
