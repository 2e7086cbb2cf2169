package agent

import (
	"bytes"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/ProtonMail/go-crypto/openpgp/packet"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/standin"
)

// good are definitions of all families, one each; whatever else stands beside
// them, they must be read.
var good = map[string]string{
	"etc/apt/sources.list.d/good.list":        "deb [arch=amd64] http://good.example/ mussel main\n",
	"etc/yum.repos.d/good.repo":               "[good]\nname=Good\nbaseurl=http://good.example/\n",
	"etc/zypp/repos.d/good.repo":              "[good]\nname=Good\nbaseurl=http://good.example/\n",
	"etc/pacman.conf":                         "[options]\nArchitecture = x86_64\n[good]\nServer = http://good.example/\nInclude = /etc/pacman.d/more\n",
	"etc/pacman.d/more":                       "# nothing\n",
	"var/lib/flatpak/repo/config":             "[core]\nrepo_version=1\n[remote \"good\"]\nurl=http://good.example/\n",
	"etc/os-release":                          "ID=skerry\nID_LIKE=debian\n",
	"etc/apt/trusted.gpg.d/README":            "no key\n",
	"etc/flatpak/remotes.d/other.flatpakrepo": "[Flatpak Repo]\nUrl=http://other.example/\n",
}

func TestABadFileLeavesTheRestOfTheSurveyWhole(t *testing.T) {
	rubbish := string(bytes.Repeat([]byte{0x00, 0xff, 0x13, '[', 0x80, '\n', '='}, 3000))
	keys, err := standin.Keys()
	require.NoError(t, err)
	key, err := keys["saltmarsh-2026"].Binary()
	require.NoError(t, err)
	var user bytes.Buffer
	for range 10_000 {
		require.NoError(t, packet.NewUserId("Saltmarsh", "", "packages@saltmarsh.example").Serialize(&user))
	}
	write := func(name, text string) func(string) error {
		return func(root string) error { return os.WriteFile(filepath.Join(root, name), []byte(text), 0o644) }
	}
	link := func(name, target string) func(string) error {
		return func(root string) error { return os.Symlink(target, filepath.Join(root, name)) }
	}
	for _, c := range []struct {
		name  string
		spoil func(root string) error
		file  string // of the problem that must be there; none where nothing may be said
		fatal bool
	}{
		{"a folder for a list", func(root string) error { return os.Mkdir(filepath.Join(root, "etc/apt/sources.list.d/x.list"), 0o755) }, "", false},
		{"a link out of the root", link("etc/apt/sources.list.d/x.list", "../../../../../../etc/hostname"), "/etc/apt/sources.list.d/x.list", false},
		{"a link in a circle", link("etc/apt/sources.list.d/x.list", "x.list"), "/etc/apt/sources.list.d/x.list", false},
		{"rubbish in a list", write("etc/apt/sources.list.d/x.list", rubbish), "/etc/apt/sources.list.d/x.list", true},
		{"rubbish in a stanza file", write("etc/apt/sources.list.d/x.sources", rubbish), "/etc/apt/sources.list.d/x.sources", true},
		{"rubbish in a .repo file", write("etc/yum.repos.d/x.repo", rubbish), "/etc/yum.repos.d/x.repo", false},
		{"a folder for a .repo file", func(root string) error { return os.Mkdir(filepath.Join(root, "etc/yum.repos.d/x.repo"), 0o755) }, "/etc/yum.repos.d/x.repo", false},
		{"rubbish in dnf.conf", func(root string) error {
			if err := os.Mkdir(filepath.Join(root, "etc/dnf"), 0o755); err != nil {
				return err
			}
			return write("etc/dnf/dnf.conf", rubbish)(root)
		}, "/etc/dnf/dnf.conf", true},
		{"rubbish for zypper", write("etc/zypp/repos.d/x.repo", rubbish), "/etc/zypp/repos.d/x.repo", true},
		{"text that is not UTF-8", write("etc/yum.repos.d/x.repo", "[x]\nname=\xff\nbaseurl=http://x/\n"), "/etc/yum.repos.d/x.repo", true},
		{"a file that includes itself", write("etc/pacman.d/more", "Include = /etc/pacman.d/more\n"), "/etc/pacman.d/more", true},
		{"an include that is not there", write("etc/pacman.d/more", "Include = /etc/none\n"), "/etc/pacman.d/more", true},
		{"rubbish in a definition of flatpak", write("etc/flatpak/remotes.d/x.flatpakrepo", rubbish), "/etc/flatpak/remotes.d/x.flatpakrepo", true},
		{"rubbish in a keyring", write("etc/apt/trusted.gpg.d/x.gpg", rubbish), "/etc/apt/trusted.gpg.d/x.gpg", false},
		{"a key with ten thousand user ids", write("etc/apt/trusted.gpg.d/x.gpg", string(key)+user.String()), "", false},
		{"a file of two gibibytes", func(root string) error {
			name := filepath.Join(root, "etc/apt/sources.list.d/x.list")
			if err := os.WriteFile(name, nil, 0o644); err != nil {
				return err
			}
			return os.Truncate(name, 2<<30)
		}, "/etc/apt/sources.list.d/x.list", false},
		{"a database of rpm that is none", func(root string) error {
			if err := os.MkdirAll(filepath.Join(root, "var/lib/rpm"), 0o755); err != nil {
				return err
			}
			return write("var/lib/rpm/rpmdb.sqlite", rubbish)(root)
		}, "", false},
		{"NUL bytes", write("etc/pacman.d/more", "Server = http://x/\x00y\n\x00\x00\n"), "", false},
	} {
		t.Run(c.name, func(t *testing.T) {
			root := t.TempDir()
			for name, text := range good {
				require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(root, name)), 0o755))
				require.NoError(t, os.WriteFile(filepath.Join(root, name), []byte(text), 0o644))
			}
			require.NoError(t, c.spoil(root))
			h, err := OpenHost(root)
			require.NoError(t, err)
			defer h.Close()
			start := time.Now()
			s := h.Survey().Survey
			assert.Less(t, time.Since(start), 5*time.Second)
			var families []string
			for _, src := range s.Sources {
				if strings.Contains(strings.Join(src.EffURLs, " "), "good.example") {
					families = append(families, src.Family)
				}
			}
			slices.Sort(families)
			assert.Equal(t, []string{"arch", "deb", "flatpak", "rpm", "zypp"}, families)
			at := slices.IndexFunc(s.Problems, func(p source.Problem) bool { return p.File == c.file && p.Fatal == c.fatal })
			if c.file != "" {
				assert.GreaterOrEqual(t, at, 0, "%v", s.Problems)
			}
			for _, p := range s.Problems {
				assert.Less(t, len(p.Message), 400, p.Message)
				assert.NotContains(t, p.Message, "\n")
				assert.True(t, !p.Fatal || c.fatal, "%v", p)
			}
		})
	}
}

func TestNoSecretIsInASurvey(t *testing.T) {
	const marker = "Mk7secretQ"
	u := "http://login:" + marker + "@h.example/d"
	files := map[string]string{
		"etc/os-release":                        "ID=skerry\nID_LIKE=debian\n",
		"etc/apt/sources.list":                  "deb " + u + " mussel main\n# deb " + u + " limpet main\n",
		"etc/apt/sources.list.d/x.sources":      "Types: deb\nURIs: " + u + "\nSuites: mussel\nComponents: extra\nX-Note: " + u + "\n",
		"etc/apt/sources.list.d/x.list.save":    "deb " + u + " mussel main\n",
		"etc/apt/sources.list.d/bad.list":       "deb " + u + "\n",
		"etc/apt/auth.conf":                     "machine h.example login login password " + marker + "\n",
		"etc/apt/auth.conf.d/x.conf":            "machine http://x:" + marker + "@h/ login l password " + marker + "\n",
		"etc/dnf/dnf.conf":                      "[main]\nproxy_password=" + marker + "\nusername=all\npassword=" + marker + "\n",
		"etc/yum.repos.d/a.repo":                "[a]\nname=" + u + "\nbaseurl=" + u + ",http://x/\npassword=" + marker + "\nusername=me\nproxy=" + u + "\nmirrorlist=https://h/?token=" + marker + "\n[" + u + "]\nbaseurl=x\n",
		"etc/zypp/repos.d/a.repo":               "[a]\nname=" + u + "\nbaseurl=" + u + " https://h.example/x?credentials=c\nproxy=" + u + ":80\nmirrorlist=" + u + "\n",
		"etc/zypp/repos.d/bad.repo":             "[b]\nbaseurl=" + u + ":x\n" + u + "\n",
		"etc/zypp/credentials.d/c":              "username=me\npassword=" + marker + "\n",
		"etc/zypp/credentials.cat":              "[http://h/]\nusername=me\npassword=" + marker + "\n",
		"etc/pacman.conf":                       "[a]\nServer = " + u + "\nServer " + u + "\nXfer " + u + "\n[b]\nServer = " + u + "/$arch\n#[c]\n#Server = " + u + "\n",
		"var/lib/flatpak/repo/config":           "[core]\nrepo_version=1\n[remote \"a\"]\nurl=" + u + "\nxa.authenticator-options=" + u + "\nxa.title=" + u + "\n",
		"etc/flatpak/remotes.d/bad.flatpakrepo": "[Flatpak Repo]\nUrl=" + u + "\nVersion=" + u + "\n",
	}
	root := t.TempDir()
	for name, text := range files {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(root, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(root, name), []byte(text), 0o600))
	}
	h, err := OpenHost(root)
	require.NoError(t, err)
	defer h.Close()
	r := h.Survey()
	text, err := source.Canonical(&r.Survey)
	require.NoError(t, err)
	assert.NotContains(t, string(text), marker)
	for name, masked := range r.Masked() {
		assert.NotContains(t, string(masked), marker, name)
	}
	assert.Len(t, r.Survey.Files, 10)
	logins := map[string]bool{}
	for _, a := range r.Survey.Access {
		logins[a.Kind+" "+a.Identity+" in "+a.Where] = true
	}
	for _, want := range []string{
		"basic login in /etc/apt/auth.conf", "basic login in /etc/apt/sources.list", "basic me in /etc/yum.repos.d/a.repo", "token-url  in /etc/yum.repos.d/a.repo", "basic login in /etc/zypp/repos.d/a.repo",
		"basic me in /etc/zypp/credentials.d/c", "basic me in /etc/zypp/credentials.cat", "basic login in /etc/pacman.conf", "basic login in /var/lib/flatpak/repo/config",
	} {
		assert.True(t, logins[want], "%s is not among %v", want, logins)
	}
}
