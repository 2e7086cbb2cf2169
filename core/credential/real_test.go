package credential_test

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/url"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"patientlantern.example/lantern/core/credential"
	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/family/arch"
	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/family/rpm"
	"patientlantern.example/lantern/core/family/zypp"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/internal/cell"
)

// door is a server that wants a login, and notes what it is shown.
type door struct {
	*httptest.Server
	mu    sync.Mutex
	shown []string
}

func newDoor(t *testing.T) *door {
	d := &door{}
	d.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		login, password, has := r.BasicAuth()
		if first, _, token := strings.Cut(strings.TrimPrefix(r.URL.EscapedPath(), "/token/"), "/"); token && strings.HasPrefix(r.URL.Path, "/token/") {
			plain, err := url.PathUnescape(first)
			assert.NoError(t, err)
			login, password, has = plain, "", true
		}
		if !has {
			w.Header().Set("WWW-Authenticate", `Basic realm="licensed"`)
			w.WriteHeader(http.StatusUnauthorized)
			return
		}
		d.mu.Lock()
		d.shown = append(d.shown, fmt.Sprintf("%q %q", login, password))
		d.mu.Unlock()
		w.WriteHeader(http.StatusNotFound)
	}))
	t.Cleanup(d.Close)
	return d
}

// taken is what it was shown since it was asked last.
func (d *door) taken() []string {
	d.mu.Lock()
	defer d.mu.Unlock()
	out := d.shown
	d.shown = nil
	return out
}

// opener is how a family opens a licensed source: what is written for it, and how it is asked to refresh.
type opener struct {
	kind string
	tree func(t require.TestingT, url string) (map[string]string, []source.AccessFile)
	ask  []string
}

func openers() map[string]opener {
	of := func(kind, url string) family.Definition {
		return family.Definition{Repository: "gannet", Enabled: true, URL: url, Signatures: source.CheckOff, Account: "gannet", Kind: kind}
	}
	dnf := func(kind string) opener {
		return opener{kind, func(_ require.TestingT, url string) (map[string]string, []source.AccessFile) {
			files, _, _ := rpm.Render(of(kind, url))
			return laid(files, map[string]string{"etc/dnf/dnf.conf": "[main]\n", "var/lib/rpm/": ""}), rpm.Access("gannet", kind)
		}, []string{"/usr/bin/dnf", "--noplugins", "--setopt=retries=1", "--setopt=timeout=5", "--releasever=9", "makecache"}}
	}
	zypper := func(kind string) opener {
		return opener{kind, func(t require.TestingT, url string) (map[string]string, []source.AccessFile) {
			files, _, _, err := zypp.Render(of(kind, url))
			require.NoError(t, err)
			return laid(files, map[string]string{"etc/zypp/zypp.conf": "[main]\n", "var/lib/rpm/": ""}), zypp.Access("gannet", kind)
		}, []string{"/usr/bin/zypper", "-n", "--no-gpg-checks", "refresh", "--force"}}
	}
	return map[string]opener{
		"apt": {credential.Basic, func(_ require.TestingT, url string) (map[string]string, []source.AccessFile) {
			files, _, _ := deb.Render(deb.Definition{
				Repository: "gannet", Enabled: true, URL: url, Suites: []string{"saltflat"}, Components: []string{"main"}, Signatures: source.CheckOff,
			})
			return laid(files, map[string]string{
				"etc/apt/apt.conf": "APT::Sandbox::User \"root\";\nAcquire::Retries \"0\";\n", "var/lib/dpkg/status": "",
				"var/lib/apt/lists/partial/": "", "var/cache/apt/archives/partial/": "",
			}), deb.Access("gannet", []string{url})
		}, []string{"/usr/bin/apt-get", "update"}},
		"dnf": dnf(credential.Basic), "dnf, a token": dnf(credential.TokenURL),
		"zypper": zypper(credential.Basic), "zypper, a token": zypper(credential.TokenURL),
		"pacman": {credential.Basic, func(_ require.TestingT, url string) (map[string]string, []source.AccessFile) {
			files, _, _ := arch.Render(of(credential.Basic, url))
			return laid(files, map[string]string{
				"etc/pacman.conf": "[options]\nArchitecture = x86_64\nInclude = " + arch.Path("gannet") + "\n", "var/lib/pacman/": "",
			}), arch.Access("gannet", "gannet", url)
		}, []string{"/usr/bin/pacman", "-Sy"}},
	}
}

// laid adds the files of a sheet to a tree.
func laid(files []source.SheetFile, tree map[string]string) map[string]string {
	for _, f := range files {
		tree[strings.TrimPrefix(f.Path, "/")] = f.Text
	}
	return tree
}

// odd are pieces of logins over which files, URLs and variables stumble.
var odd = []string{
	"#", ";", ":", "=", "\"", "'", "\\", "$", "$repo", "$arch", "$basearch", "${arch}", "$releasever", "%", "%41", "@", "/", "?", "&", "+", ",", "[", "]", "{", "}",
	"machine", "login", "password", "\\n", "//", "!", "~", "*", "|", "<", ">", "(", ")", "^", "`", "é", "a", "Z", "7", ".", "-", "_",
}

func word(t *rapid.T, what string, of []string) string {
	return strings.Join(rapid.SliceOfN(rapid.SampledFrom(of), 1, 5).Draw(t, what), "")
}

// inPath are those of them that stand in a path as they are.
func inPath() []string {
	return slices.DeleteFunc(slices.Clone(odd), func(s string) bool { return url.PathEscape(s) != s })
}

// What a desk gives is what the real package manager shows at the door, whatever stands in it; what it could not show is refused
// before it is written.
func TestWhatADeskGivesIsWhatIsShownAtTheDoor(t *testing.T) {
	c, err := cell.Open()
	require.NoError(t, err)
	defer func() { require.NoError(t, c.Close()) }()
	d := newDoor(t)
	base, n := t.TempDir(), 0
	for name, o := range openers() {
		t.Run(name, func(t *testing.T) {
			asked, most := 0, cell.Rounds(4)
			rapid.Check(t, func(rt *rapid.T) {
				if asked >= most {
					return
				}
				secret := credential.Secret{Kind: o.kind, Expires: now.Add(time.Hour)}
				at, want := d.URL+"/licensed", ""
				if o.kind == credential.TokenURL {
					secret.Token = word(rt, "token", inPath())
					at, want = d.URL+"/token/"+family.TokenMark+"/x", fmt.Sprintf("%q %q", secret.Token, "")
				} else {
					secret.Login, secret.Password = word(rt, "login", odd), word(rt, "password", odd)
					want = fmt.Sprintf("%q %q", secret.Login, secret.Password)
				}
				if secret.Check(now) != nil {
					return
				}
				n++
				root := filepath.Join(base, fmt.Sprint(n))
				tree, access := o.tree(rt, at)
				for _, f := range access {
					text, err := secret.Write(f)
					require.NoError(rt, err)
					tree[strings.TrimPrefix(f.Path, "/")] = text
				}
				require.NoError(rt, cell.Write(root, tree))
				d.taken()
				a, err := c.Run(root, o.ask...)
				require.NoError(rt, err)
				shown := d.taken()
				if len(shown) == 0 || shown[0] != want {
					rt.Fatalf("%s is given %s and shows %q\n%s%s\n%q", name, want, shown, a.Out, a.Err, tree)
				}
				asked++ // what fails is asked again, with less
			})
		})
	}
}
