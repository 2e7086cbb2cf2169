package deb_test

import (
	"crypto/sha256"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/survey"
	"patientlantern.example/lantern/internal/cell"
)

// suite is one suite of a drawn server.
type suite struct {
	base, name string
	fields     source.Release
}

// server serves drawn suites on one address.
type server struct {
	mu    sync.Mutex
	files map[string]string
	url   string
}

func newServer(t *testing.T) *server {
	s := &server{}
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	srv := &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		s.mu.Lock()
		text, ok := s.files[r.URL.Path]
		s.mu.Unlock()
		if !ok {
			http.NotFound(w, r)
			return
		}
		fmt.Fprint(w, text)
	})}
	go func() { _ = srv.Serve(ln) }() // ends with the test
	t.Cleanup(func() { srv.Close() })
	s.url = "http://" + ln.Addr().String()
	return s
}

func (s *server) set(list []suite) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.files = map[string]string{}
	for i, x := range list {
		packages := fmt.Sprintf("Package: tern-%d\nVersion: 1\nArchitecture: all\nFilename: x\nSize: 1\nSHA256: %064d\nDescription: x\n\n", i, 0)
		var b strings.Builder
		for _, f := range [][2]string{{"Origin", x.fields.Origin}, {"Label", x.fields.Label}, {"Suite", x.fields.Archive}, {"Codename", x.fields.Codename}} {
			if f[1] != "" {
				fmt.Fprintf(&b, "%s: %s\n", f[0], f[1])
			}
		}
		if x.fields.NotAutomatic {
			b.WriteString("NotAutomatic: yes\n")
		}
		if x.fields.ButAutomaticUpgrades {
			b.WriteString("ButAutomaticUpgrades: yes\n")
		}
		fmt.Fprintf(&b, "Date: Wed, 25 Nov 2026 00:00:00 UTC\nComponents: main\nArchitectures: amd64\nSHA256:\n %x %d main/binary-amd64/Packages\n", sha256.Sum256([]byte(packages)), len(packages))
		s.files["/"+x.base+"/dists/"+x.name+"/Release"] = b.String()
		s.files["/"+x.base+"/dists/"+x.name+"/main/binary-amd64/Packages"] = packages
	}
}

var policyLine = regexp.MustCompile(`^ *(-?\d+) (\S+) (\S+)/main amd64 Packages$`)

// TestAPinMatchesItsOwnSuiteAlone draws suites on one server, pins one of them by what its
// Release file says, and asks the real apt-cache what it makes of that: what we say of
// which suites a pin matches is what apt does, and where we find nothing wrong, apt gives
// the priority to that suite and to no other.
func TestAPinMatchesItsOwnSuiteAlone(t *testing.T) {
	if _, err := exec.LookPath("apt-cache"); err != nil {
		t.Fatal("this test asks the real apt")
	}
	srv := newServer(t)
	root := t.TempDir()
	for _, d := range []string{"etc/apt/sources.list.d", "etc/apt/preferences.d", "etc/apt/apt.conf.d", "var/lib/apt/lists/partial", "var/cache/apt/archives/partial", "var/lib/dpkg"} {
		require.NoError(t, os.MkdirAll(filepath.Join(root, d), 0o755))
	}
	write := func(name, text string) {
		require.NoError(t, os.WriteFile(filepath.Join(root, name), []byte(text), 0o644))
	}
	write("var/lib/dpkg/status", "")
	write("etc/os-release", "ID=skerry\nID_LIKE=debian\n")
	write("apt.conf", fmt.Sprintf("Dir %q;\nAPT::Architecture \"amd64\";\nAPT::Architectures { \"amd64\"; };\nAPT::Sandbox::User \"root\";\nAcquire::Languages \"none\";\nDir::State::status \"%s/var/lib/dpkg/status\";\n", root, root))
	ask := func(args ...string) (string, error) {
		cmd := exec.Command(args[0], args[1:]...)
		cmd.Env = []string{"PATH=/usr/bin:/bin", "LC_ALL=C", "APT_CONFIG=" + filepath.Join(root, "apt.conf")}
		out, err := cmd.CombinedOutput()
		return string(out), err
	}
	word := rapid.SampledFrom([]string{"", "Skerry", "skerry", "Saltmarsh", "Saltmarsh Labs", "stable", "Stable", "mussel", "a*", "[ab]", "b/c", "/x/", `q\`, "x?", "Tern, Ltd"})
	n, most := 0, cell.Rounds(40)
	rapid.Check(t, func(rt *rapid.T) {
		if n == most {
			return
		}
		n++
		var list []suite
		seen := map[string]bool{}
		for i := range rapid.IntRange(2, 5).Draw(rt, "suites") {
			x := suite{base: rapid.SampledFrom([]string{"one", "two~x", "a/b"}).Draw(rt, fmt.Sprint("base", i)), name: rapid.SampledFrom([]string{"stable", "mussel", "mussel-updates"}).Draw(rt, fmt.Sprint("name", i))}
			x.fields = source.Release{Origin: word.Draw(rt, "o"), Label: word.Draw(rt, "l"), Archive: word.Draw(rt, "a"), Codename: word.Draw(rt, "n"), NotAutomatic: rapid.Bool().Draw(rt, "na")}
			x.fields.ButAutomaticUpgrades = x.fields.NotAutomatic && rapid.Bool().Draw(rt, "bu")
			if !seen[x.base+" "+x.name] {
				list = append(list, x)
			}
			seen[x.base+" "+x.name] = true
		}
		srv.set(list)
		var sources strings.Builder
		for _, x := range list {
			fmt.Fprintf(&sources, "deb [trusted=yes] %s/%s %s main\n", srv.url, x.base, x.name)
		}
		write("etc/apt/sources.list", sources.String())
		_ = os.Remove(filepath.Join(root, "etc/apt/preferences.d/lantern-x.pref"))
		require.NoError(rt, os.RemoveAll(filepath.Join(root, "var/lib/apt/lists")))
		require.NoError(rt, os.MkdirAll(filepath.Join(root, "var/lib/apt/lists/partial"), 0o755))
		if out, err := ask("apt-get", "update"); err != nil {
			rt.Fatalf("%v\n%s", err, out)
		}
		dir, err := os.OpenRoot(root)
		require.NoError(rt, err)
		defer dir.Close()
		fsys := rootfs.New(dir.FS())
		releases, _ := deb.ReadReleases(fsys, survey.Read(fsys, survey.Machine{Arch: "x86_64"}).Survey.Sources)
		require.Len(rt, releases, len(list), "what apt has fetched is read")

		own := list[0]
		level := rapid.SampledFrom([]int{-1, 1}).Draw(rt, "level")
		pin := deb.ReleasePin(own.fields)
		if pin == "" {
			return
		}
		priority := *deb.PriorityOf(level)
		if level < 0 {
			priority = min(priority, deb.Natural(own.fields))
		}
		d := deb.Definition{Repository: "x", Enabled: true, URL: srv.url + "/" + own.base, Suites: []string{own.name}, Components: []string{"main"}, Signatures: source.CheckOff, Pins: []string{pin}, Priority: &priority, Level: level}
		files, src, _ := deb.Render(d)
		for _, f := range files {
			if strings.HasSuffix(f.Path, ".pref") {
				write(f.Path[1:], f.Text)
			}
		}
		trouble := deb.JudgePins([]source.SheetSource{src}, releases)
		out, err := ask("apt-cache", "policy")
		require.NoError(rt, err, out)
		got := map[string]int{}
		for line := range strings.Lines(out) {
			if m := policyLine.FindStringSubmatch(strings.TrimRight(line, "\n")); m != nil {
				got[m[2]+" "+m[3]], _ = strconv.Atoi(m[1])
			}
		}
		require.Len(rt, got, len(list), out)
		bad := false
		for i, r := range releases {
			x := list[i]
			want := deb.Natural(x.fields)
			if deb.PinMatches(pin, r) {
				want = priority
				bad = bad || i > 0
			} else {
				bad = bad || i == 0
			}
			require.Equal(rt, want, got[srv.url+"/"+x.base+" "+x.name], "%q on %+v\n%s", pin, r, out)
			if level < 0 && i == 0 {
				require.LessOrEqual(rt, got[srv.url+"/"+x.base+" "+x.name], deb.Natural(x.fields), "below lifts nothing")
			}
		}
		require.Equal(rt, bad, len(trouble) > 0, "%v", trouble)
	})
}
