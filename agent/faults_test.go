package agent

import (
	"bytes"
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/cause"
	"patientlantern.example/lantern/core/family/flatpak"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/internal/cell"
	"patientlantern.example/lantern/standin"
)

// ailing is a host whose one source is led into a fault, by family.
type ailing struct {
	place string            // of the repository, below the server
	file  string            // that holds the source
	files map[string]string // BASE is the server, MORE a line that a fault adds
	key   string            // who signs, and where the host keeps it
	at    string
	lists string // folder that metadata goes into
	lock  string // file that a package manager at work has, of which another one sees that
}

var ailings = map[string]ailing{
	source.FamilyDeb: {
		place: "packages.saltmarsh.example/apt/8.x/", file: "/etc/apt/sources.list.d/tern.sources",
		files: map[string]string{
			"etc/os-release":                       "ID=skerry\nID_LIKE=debian\n",
			"etc/apt/sources.list.d/tern.sources":  "Types: deb\nURIs: BASE\nSuites: stable\nComponents: main\nArchitectures: amd64\nSigned-By: /etc/apt/keyrings/tern.asc\n",
			"etc/apt/apt.conf":                     "MORE\n",
			"var/lib/dpkg/status":                  "",
			"var/lib/apt/lists/partial/.keep":      "",
			"var/cache/apt/archives/partial/.keep": "",
		},
		key: "saltmarsh-2026", at: "etc/apt/keyrings/tern.asc", lists: "var/lib/apt/lists", lock: "var/lib/apt/lists/lock",
	},
	source.FamilyRpm: {
		place: "packages.saltmarsh.example/rpm/8.x/9/x86_64", file: "/etc/yum.repos.d/tern.repo",
		files: map[string]string{
			"etc/os-release":              "ID=foreland\nID_LIKE=fedora\nVERSION_ID=9\n",
			"etc/yum.repos.d/tern.repo":   "[tern]\nname=Tern\nbaseurl=BASE\nenabled=1\nrepo_gpgcheck=1\ngpgkey=file:///etc/pki/rpm-gpg/tern.asc\nretries=1\nMORE\n",
			"var/lib/rpm/.keep":           "",
			"var/cache/dnf/.keep":         "",
			"var/log/.keep":               "",
			"etc/dnf/dnf.conf":            "[main]\n",
			"etc/pki/rpm-gpg/.keep":       "",
			"var/cache/dnf/tern-of/.keep": "",
		},
		key: "saltmarsh-2026", at: "etc/pki/rpm-gpg/tern.asc", lists: "var/cache/dnf", lock: "var/cache/dnf/metadata_lock.pid",
	},
	source.FamilyZypp: {
		place: "packages.saltmarsh.example/rpm/8.x/halyard-15/x86_64", file: "/etc/zypp/repos.d/tern.repo",
		files: map[string]string{
			"etc/os-release":              "ID=halyard\nID_LIKE=suse\nVERSION_ID=15.3\n",
			"etc/zypp/repos.d/tern.repo":  "[tern]\nname=Tern\nbaseurl=BASE\nenabled=1\nautorefresh=1\nrepo_gpgcheck=1\ngpgkey=file:///etc/zypp/keys/tern.asc\nMORE\n",
			"etc/zypp/zypp.conf":          "[main]\n",
			"var/cache/zypp/.keep":        "",
			"var/lib/rpm/.keep":           "",
			"var/cache/zypp/raw/.keep":    "",
			"var/cache/zypp/solv/.keep":   "",
			"etc/zypp/credentials.d/.kee": "",
		},
		key: "saltmarsh-2026", at: "etc/zypp/keys/tern.asc", lists: "var/cache/zypp", lock: "run/zypp.pid",
	},
	source.FamilyArch: {
		place: "north.fulmar.example/v3", file: "/etc/pacman.conf",
		files: map[string]string{
			"etc/os-release":                       "ID=driftwood\nID_LIKE=arch\n",
			"etc/pacman.conf":                      "[options]\nArchitecture = x86_64\n[fulmar]\nSigLevel = Required DatabaseRequired\nServer = BASE\nMORE\n",
			"var/lib/pacman/local/ALPM_DB_VERSION": "9\n",
			"var/lib/pacman/sync/.keep":            "",
			"var/cache/pacman/pkg/.keep":           "",
		},
		key: "fulmar-2025", lists: "var/lib/pacman/sync", lock: "var/lib/pacman/db.lck",
	},
	source.FamilyFlatpak: {
		place: "apps.curlew.example/repo", file: "/var/lib/flatpak/repo/config",
		files: map[string]string{
			"etc/os-release":                "ID=skerry\nID_LIKE=debian\n",
			"var/lib/flatpak/repo/config":   "[core]\nrepo_version=1\nmode=bare-user-only\n\n[remote \"tern\"]\nurl=BASE\ngpg-verify=true\ngpg-verify-summary=true\ngpgkeypath=/etc/flatpak/tern.gpg\nMORE\n",
			"var/lib/flatpak/repo/objects/": "",
			"var/lib/flatpak/repo/tmp/":     "",
		},
		key: "curlew-2025", at: "etc/flatpak/tern.gpg", lists: "var/lib/lantern-agent",
	},
}

// fault is what befalls a source, and what is to be said of it, by family; one that is not named has no such thing.
type fault struct {
	name  string
	want  map[string]cause.Kind
	alter func(path string, body []byte) (int, []byte) // what the server answers instead
	ups   string                                       // a fault of the upstreams
	base  string                                       // another address; a %s is where the server of the fault stands
	more  map[string]string                            // a line in the host's files; PROXY is one that wants to know who asks
	size  string                                       // of a file system below the folder for metadata
	stays func(t *testing.T, root string, a ailing)    // what befalls the host
}

func everywhere(k cause.Kind) map[string]cause.Kind {
	out := map[string]cause.Kind{}
	for family := range ailings {
		out[family] = k
	}
	return out
}

func butFor(all map[string]cause.Kind, others map[string]cause.Kind) map[string]cause.Kind {
	for family, k := range others {
		if all[family] = k; k == "" {
			delete(all, family)
		}
	}
	return all
}

func signature(path string) bool {
	return strings.HasSuffix(path, ".gpg") || strings.HasSuffix(path, ".asc") || strings.HasSuffix(path, ".sig") || strings.HasSuffix(path, "/InRelease")
}

func signedDocument(path string) bool {
	for _, end := range []string{"/InRelease", "/Release", "/repomd.xml", ".db", "/summary", "/summary.idx"} {
		if strings.HasSuffix(path, end) {
			return true
		}
	}
	return false
}

func answers(status int, of func(path string) bool) func(string, []byte) (int, []byte) {
	return func(path string, body []byte) (int, []byte) {
		if of(path) {
			return status, []byte(http.StatusText(status) + "\n")
		}
		return http.StatusOK, body
	}
}

func always(string) bool { return true }

var faults = []fault{
	{name: "nothing", want: everywhere("")},
	{name: "its name is not known", base: "http://nowhere.invalid/", want: everywhere(cause.Unresolved)},
	{name: "nobody answers", base: nobody, want: everywhere(cause.Unreachable)},
	{name: "a certificate that nobody vouches for", base: "https", want: everywhere(cause.TLS)},
	{name: "it is not there", alter: answers(404, always), want: everywhere(cause.Missing)},
	{name: "the server is ill", alter: answers(503, always), want: everywhere(cause.Server)},
	{name: "it is for others", alter: answers(403, always), // of which flatpak says the same as of what is not there
		want: butFor(everywhere(cause.Unauthorised), map[string]cause.Kind{source.FamilyFlatpak: cause.Missing})},
	{name: "another key signs", ups: standin.FaultWrongKey, want: everywhere(cause.UnknownKey)},
	{name: "of long ago", ups: standin.FaultExpired, want: map[string]cause.Kind{source.FamilyDeb: cause.Expired}},
	{name: "not signed", alter: answers(404, signature), want: everywhere(cause.Unsigned)},
	{name: "altered", want: butFor(everywhere(cause.BadSignature), map[string]cause.Kind{source.FamilyRpm: cause.UnknownKey}), // dnf does not say which
		alter: func(path string, body []byte) (int, []byte) {
			switch {
			case strings.HasSuffix(path, "/InRelease"):
				return http.StatusOK, bytes.Replace(body, []byte("Components: main"), []byte("Components: mein"), 1)
			case signedDocument(path):
				return http.StatusOK, append(bytes.Clone(body), '\n')
			}
			return http.StatusOK, body
		}},
	{name: "lists are others than promised", want: map[string]cause.Kind{
		source.FamilyDeb: cause.Mismatch, source.FamilyRpm: cause.Mismatch, source.FamilyZypp: cause.Mismatch,
	}, alter: func(path string, body []byte) (int, []byte) {
		if len(body) > 0 && (strings.Contains(path, "Packages") || strings.Contains(path, "primary.xml")) {
			body = bytes.Clone(body)
			body[len(body)-1] ^= 1
		}
		return http.StatusOK, body
	}},
	{name: "a proxy asks who it is", want: map[string]cause.Kind{
		source.FamilyDeb: cause.Proxy, source.FamilyRpm: cause.Proxy, source.FamilyZypp: cause.Proxy,
	}, more: map[string]string{
		source.FamilyDeb: "Acquire::http::Proxy \"PROXY\";", source.FamilyRpm: "proxy=PROXY", source.FamilyZypp: "proxy=PROXY",
	}},
	{name: "another one is at work", stays: locked, want: butFor(everywhere(cause.Locked), map[string]cause.Kind{source.FamilyFlatpak: ""})},
	{name: "the disk is full", size: "256k", stays: full, want: everywhere(cause.Full)},
	{name: "nothing can be written", size: "4m", stays: readOnly, want: everywhere(cause.ReadOnly)},
}

// locked has this process hold what a package manager at work holds.
func locked(t *testing.T, root string, a ailing) {
	name := filepath.Join(root, a.lock)
	require.NoError(t, os.MkdirAll(filepath.Dir(name), 0o755))
	f, err := os.Create(name)
	require.NoError(t, err)
	t.Cleanup(func() { f.Close() })
	_, err = fmt.Fprint(f, os.Getpid())
	require.NoError(t, err)
	if strings.Contains(a.lock, "/apt/") {
		require.NoError(t, syscall.FcntlFlock(f.Fd(), syscall.F_SETLK, &syscall.Flock_t{Type: syscall.F_WRLCK}))
	}
}

// full leaves no room for what comes.
func full(t *testing.T, root string, a ailing) {
	var st syscall.Statfs_t
	dir := filepath.Join(root, a.lists)
	require.NoError(t, syscall.Statfs(dir, &st))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "filler"), make([]byte, int(st.Bavail)*int(st.Bsize)-4096), 0o644))
}

func readOnly(t *testing.T, root string, a ailing) {
	dir := filepath.Join(root, a.lists)
	require.NoError(t, syscall.Mount("", dir, "", syscall.MS_REMOUNT|syscall.MS_RDONLY, ""))
}

// unarmoured is a key as flatpak keeps it.
func unarmoured(t *testing.T, key string) string {
	cmd := exec.Command("gpg", "--dearmor")
	cmd.Stdin = strings.NewReader(key)
	out, err := cmd.Output()
	require.NoError(t, err)
	return string(out)
}

// believing makes pacman's keyring, which believes one key.
func believing(t *testing.T, root, key string) {
	dir := filepath.Join(root, "etc/pacman.d/gnupg")
	require.NoError(t, os.MkdirAll(dir, 0o755))
	file := filepath.Join(t.TempDir(), "key.asc")
	require.NoError(t, os.WriteFile(file, []byte(key), 0o644))
	shown, err := exec.Command("gpg", "--show-keys", "--with-colons", file).Output()
	require.NoError(t, err)
	_, rest, _ := strings.Cut(string(shown), "\nfpr:::::::::")
	fingerprint, _, _ := strings.Cut(rest, ":")
	for _, args := range [][]string{{"--init"}, {"--add", file}, {"--lsign-key", fingerprint}} {
		out, err := exec.Command("pacman-key", append([]string{"--gpgdir", dir}, args...)...).CombinedOutput()
		require.NoError(t, err, "%v: %s", args, out)
	}
}

// Every package manager is led into every fault that it can meet, and what it says is understood: one cause, with what to do.
func TestEveryFaultOfARefreshIsUnderstood(t *testing.T) {
	ups, err := standin.NewUpstreams(time.Now)
	require.NoError(t, err)
	drawn := cell.Share(2)
	for _, x := range faults {
		for family, a := range ailings {
			want, can := x.want[family]
			if !can || x.name != "nothing" && !drawn() {
				continue
			}
			t.Run(x.name+" "+family, func(t *testing.T) {
				t.Parallel()
				kind, message := x.befalls(t, ups, family, a)
				assert.Equal(t, want, kind, "%s", message)
				if want == cause.Locked && family != source.FamilyArch { // pacman's lock does not tell whose it is
					assert.Contains(t, message, fmt.Sprint(os.Getpid()))
				}
				if want != "" {
					m, _ := cause.Of(message)
					assert.NotEmpty(t, m.Remedy)
					assert.Equal(t, want == cause.UnknownKey && family != source.FamilyRpm, strings.Contains(m.Says, "0749F720CB2DE5D9"), "%s: %s", m.Says, message)
					assert.NotRegexp(t, "dnf|flatpak", cause.About(kind).Says, "it is said of others too")
				}
			})
		}
	}
}

// server answers as the upstreams do, but for the fault.
func (x *fault) server(t *testing.T, ups *standin.Upstreams) *httptest.Server {
	s := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Host != "" { // it is taken for a proxy
			w.Header().Set("Proxy-Authenticate", `Basic realm="reef"`)
			http.Error(w, "who are you?", http.StatusProxyAuthRequired)
			return
		}
		got := httptest.NewRecorder()
		ups.ServeHTTP(got, r)
		status, body := got.Code, got.Body.Bytes()
		if x.alter != nil && status == http.StatusOK {
			status, body = x.alter(r.URL.Path, body)
		}
		w.Header().Set("Content-Length", fmt.Sprint(len(body)))
		w.WriteHeader(status)
		if r.Method == http.MethodGet {
			_, _ = w.Write(body)
		}
	}))
	if x.base == "https" {
		s.StartTLS()
	} else {
		s.Start()
	}
	t.Cleanup(s.Close)
	return s
}

// refreshedBy has the package manager of a family fetch the sources of a sheet.
func refreshedBy(h *Host, family string, sheet *source.Sheet) ([]api.SourceOutcome, error) {
	ctx, stop := context.WithTimeout(context.Background(), 45*time.Second)
	defer stop()
	is := h.surveyFor(sheet)
	if family == source.FamilyFlatpak {
		return flatpakTool{h}.ask(ctx, is.Texts[flatpak.Config], sheet, true)
	}
	m, err := h.manager(family)
	if err != nil {
		return nil, err
	}
	_, out, err := m.refresh(ctx, asked{sheet: sheet, survey: &is, at: time.Now()})
	return out, err
}

// befalls refreshes the source of a host, and returns the cause that is told, and the words.
func (x *fault) befalls(t *testing.T, ups *standin.Upstreams, family string, a ailing) (cause.Kind, string) {
	if x.ups != "" {
		own, err := standin.NewUpstreams(time.Now)
		require.NoError(t, err)
		vendor, _, _ := strings.Cut(a.place, "/")
		require.NoError(t, own.SetFault(vendor, x.ups))
		ups = own
	}
	s := x.server(t, ups)
	base := s.URL + "/"
	if strings.HasPrefix(x.base, "http:") {
		base = x.base
	}
	root := filepath.Join(t.TempDir(), "root") // whose name is without a comma
	tree := map[string]string{}
	for name, text := range a.files {
		tree[name] = strings.NewReplacer("BASE", base+a.place, "MORE", strings.ReplaceAll(x.more[family], "PROXY", s.URL)).Replace(text)
	}
	public, err := ups.Keys()[a.key].Public()
	require.NoError(t, err)
	if a.at != "" {
		tree[a.at] = public
	}
	if family == source.FamilyFlatpak {
		tree[a.at] = unarmoured(t, public)
	}
	require.NoError(t, os.MkdirAll(filepath.Join(root, a.lists), 0o755))
	if x.size != "" {
		mount(t, filepath.Join(root, a.lists), "size="+x.size)
	}
	require.NoError(t, cell.Write(root, tree))
	if family == source.FamilyArch {
		believing(t, root, public)
	}
	if x.stays != nil {
		x.stays(t, root, a)
	}
	h, err := OpenHost(root)
	require.NoError(t, err)
	defer h.Close()
	sheet := &source.Sheet{Family: family, Files: []source.SheetFile{{Path: a.file}}}
	if family == source.FamilyFlatpak {
		sheet.Sources = []source.SheetSource{{Family: family, File: a.file, ID: "tern", URLs: []string{base + a.place}, Enabled: true}}
	}
	out, err := refreshedBy(h, family, sheet)
	if err != nil {
		c, _ := cause.Of(err.Error())
		return c.Kind, err.Error()
	}
	if !assert.NotEmpty(t, out, "it is not told of") {
		return "", ""
	}
	for _, o := range out {
		if !o.OK {
			c, _ := cause.Of(o.Message)
			return c.Kind, o.Message
		}
	}
	return "", "it was refreshed"
}
