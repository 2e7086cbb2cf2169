package deb_test

import (
	"bytes"
	"crypto/sha256"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/internal/cell"
	"patientlantern.example/lantern/internal/keyforms"
	"patientlantern.example/lantern/standin"
)

// signers are keys with a repository that each has signed.
var signers = sync.OnceValue(func() (out []signer) {
	at := time.Date(2026, 1, 15, 0, 0, 0, 0, time.UTC)
	for i := range 5 {
		k, err := standin.NewKey(fmt.Sprintf("signer-%d", i), fmt.Sprintf("Saltmarsh %d <packages@saltmarsh.example>", i), at, 0)
		if err != nil {
			panic(err)
		}
		packages := "Package: tern\nVersion: 1\nArchitecture: amd64\nFilename: x\nSize: 1\nSHA256: " + strings.Repeat("0", 64) + "\nDescription: x\n\n"
		release := fmt.Sprintf("Origin: Saltmarsh\nSuite: mussel\nCodename: mussel\nDate: Wed, 25 Nov 2026 00:00:00 UTC\nComponents: main\nArchitectures: amd64\nSHA256:\n %x %d main/binary-amd64/Packages\n",
			sha256.Sum256([]byte(packages)), len(packages))
		signed, err := k.ClearSign([]byte(release), at.AddDate(0, 1, 0))
		if err != nil {
			panic(err)
		}
		out = append(out, signer{k, string(signed), packages})
	}
	return out
})

type signer struct {
	key               *standin.Key
	release, packages string
}

// hanging is a drawn root: which key stands where, in what form.
type hanging struct {
	files map[string]string
	modes map[string]os.FileMode
	// folders are the modes of folders that are not as they usually are.
	folders map[string]os.FileMode
	links   map[string]string // files that are links, and where the text stands
	forms   []string          // of the keys, for the message
}

var modeWords = []os.FileMode{0o644, 0o644, 0o644, 0o444, 0o640, 0o600, 0o000, 0o604}

// Folders on the way to a key, and modes that keep somebody out of them.
var (
	shutFolders = []string{"etc/apt/trusted.gpg.d", "etc/apt/keyrings", "etc/apt", "srv", "srv/keys", "root"}
	folderModes = []os.FileMode{0o700, 0o711, 0o744, 0o750, 0o000, 0o555}
)

func drawn(t *rapid.T) hanging {
	h := hanging{files: map[string]string{}, modes: map[string]os.FileMode{}, links: map[string]string{}}
	key := func(i int) string {
		form := rapid.SampledFrom(keyforms.Names()).Draw(t, "form")
		h.forms = append(h.forms, form)
		bin, err := signers()[i].key.Binary()
		if err != nil {
			t.Fatal(err)
		}
		armour, err := signers()[i].key.Public()
		if err != nil {
			t.Fatal(err)
		}
		return cell.Slips(t, keyforms.Write(form, bin, armour))
	}
	put := func(name, text string) {
		h.files[name] = text
		h.modes[name] = rapid.SampledFrom(modeWords).Draw(t, "mode")
		if rapid.IntRange(0, 5).Draw(t, "elsewhere") == 0 {
			h.links[name] = rapid.SampledFrom([]string{"srv", "srv/keys", "root"}).Draw(t, "folder") + "/" + filepath.Base(name)
		}
	}
	var sources strings.Builder
	for i := range signers() {
		by := ""
		switch rapid.IntRange(0, 3).Draw(t, "place") {
		case 0:
			text := key(i)
			put("etc/apt/trusted.gpg", text)
		case 1:
			text := key(i)
			name := "etc/apt/trusted.gpg.d/" + rapid.SampledFrom([]string{"a.gpg", "b.gpg", "c.asc", "d.asc", ".hidden.gpg", ".hidden.asc", "e.pgp", "f", "g.GPG", "h+i.gpg", "spaces in it.gpg", "j.gpg~"}).Draw(t, "name")
			put(name, text)
			if rapid.IntRange(0, 2).Draw(t, "named too") == 0 && !strings.Contains(name, " ") {
				by = "[signed-by=/" + name + "] "
			}
		default:
			text := key(i)
			name := fmt.Sprintf("/etc/apt/keyrings/%d%s", i, rapid.SampledFrom([]string{".gpg", ".asc", ".pgp", "", ".key", ".ASC"}).Draw(t, "name"))
			put(name[1:], text)
			by = "[signed-by=" + name + "] "
		}
		fmt.Fprintf(&sources, "deb %sfile:/repo/%d mussel main\n", by, i)
	}
	h.files["etc/apt/sources.list"] = sources.String()
	if rapid.IntRange(0, 2).Draw(t, "shut") == 0 {
		h.folders = map[string]os.FileMode{rapid.SampledFrom(shutFolders).Draw(t, "folder"): rapid.SampledFrom(folderModes).Draw(t, "mode")}
	}
	// A keybox in the place of trusted.gpg is read or not by who reads it, in ways that nothing explains.
	if !strings.Contains(h.files["etc/apt/trusted.gpg"], "KBXf") && rapid.IntRange(0, 2).Draw(t, "configured") == 0 {
		scope := rapid.SampledFrom([]string{"", "Binary::gpgv::", "Binary::GPGV::", "Binary::apt-get::", "Binary::file::", "Binary::apt::"}).Draw(t, "scope")
		h.files["etc/apt/apt.conf.d/50own"] = scope + rapid.SampledFrom([]string{
			`APT::Sandbox::User "root";`, `APT::Sandbox::User "";`, `Debug::NoDropPrivs "true";`, `Debug::NoDropPrivs "no";`, `APT::Sandbox::User "_apt";`,
			`Dir::Etc::trustedparts "keyrings";`, `Dir::Etc::trusted "trusted.gpg.d/a.gpg";`,
		}).Draw(t, "setting") + "\n"
	}
	return h
}

func (h hanging) write(t require.TestingT, root string) {
	require.NoError(t, cell.Write(root, h.files))
	for name, mode := range h.modes {
		require.NoError(t, os.Chmod(filepath.Join(root, name), mode))
	}
	for name, target := range h.links { // the file stands behind it
		at := filepath.Join(root, target)
		require.NoError(t, os.MkdirAll(filepath.Dir(at), 0o755))
		require.NoError(t, os.Rename(filepath.Join(root, name), at))
		require.NoError(t, os.Symlink("/"+target, filepath.Join(root, name)))
	}
	for name, mode := range h.folders {
		if _, err := os.Stat(filepath.Join(root, name)); err == nil {
			require.NoError(t, os.Chmod(filepath.Join(root, name), mode))
		}
	}
	tree := map[string]string{
		"etc/passwd": "root:x:0:0:root:/root:/bin/sh\n_apt:x:42:65534::/nonexistent:/usr/sbin/nologin\n", "etc/group": "root:x:0:\nnogroup:x:65534:\n",
		"etc/apt/apt.conf.d/00arch": "APT::Architecture \"amd64\";\nAPT::Architectures { \"amd64\"; };\n", "var/lib/dpkg/status": "",
		"etc/alternatives/awk":       "-> /usr/bin/mawk", // apt-key takes armour off with it
		"var/lib/apt/lists/partial/": "", "var/cache/apt/archives/partial/": "",
	}
	for i, s := range signers() {
		tree[fmt.Sprintf("repo/%d/dists/mussel/InRelease", i)] = s.release
		tree[fmt.Sprintf("repo/%d/dists/mussel/main/binary-amd64/Packages", i)] = s.packages
	}
	require.NoError(t, cell.Write(root, tree))
	require.NoError(t, os.Chmod(root, 0o755))
	for _, dir := range []string{"tmp", "var/tmp"} {
		require.NoError(t, os.MkdirAll(filepath.Join(root, dir), 0o755))
		require.NoError(t, os.Chmod(filepath.Join(root, dir), 0o777|os.ModeSticky))
	}
}

// accepted lists which repositories the real apt-get takes on a root.
func accepted(t require.TestingT, c *cell.Cell, root string) (out []bool, said string) {
	a, err := c.Run(root, "/usr/bin/apt-get", "update", "-o", "Acquire::Languages=none", "-o", "Acquire::Retries=0")
	require.NoError(t, err)
	for i := range signers() {
		_, err := os.Stat(filepath.Join(root, fmt.Sprintf("var/lib/apt/lists/_repo_%d_dists_mussel_InRelease", i)))
		out = append(out, err == nil)
	}
	return out, a.Out + a.Err
}

// Whether apt takes a repository is what the reading says of the key that signed it.
func TestKeysAreUsedAsTheRealAptUsesThem(t *testing.T) {
	c, err := cell.Open()
	require.NoError(t, err)
	defer func() { require.NoError(t, c.Close()) }()
	base, n := t.TempDir(), 0
	most := cell.Rounds(10) // apt-get takes half a second for each
	rapid.Check(t, func(rt *rapid.T) {
		h := drawn(rt)
		if n++; n > most {
			return
		}
		root := filepath.Join(base, fmt.Sprint(n))
		h.write(rt, root)
		r, err := cell.Inside(root, func(root *rootfs.FS) family.Reading { return deb.Read(root, []string{"amd64"}) })
		require.NoError(rt, err)
		want, said := accepted(rt, c, root)
		for i, s := range signers() {
			got := false
			for _, k := range r.Keys {
				named := strings.Contains(h.files["etc/apt/sources.list"], fmt.Sprintf("[signed-by=%s] file:/repo/%d ", k.Where, i))
				anyKey := !strings.Contains(h.files["etc/apt/sources.list"], fmt.Sprintf("] file:/repo/%d ", i))
				if k.Fingerprint == s.key.Fingerprint() && k.Used && (named || anyKey && k.Scope == "any") {
					got = true
				}
			}
			if got != want[i] {
				var tree bytes.Buffer
				for name, text := range h.files {
					fmt.Fprintf(&tree, "%s %v %q\n", name, h.modes[name], text)
				}
				rt.Fatalf("repository %d: apt takes it: %v, we say: %v\nforms %q folders %v links %v\n%s\n%s\nkeys %v", i, want[i], got, h.forms, h.folders, h.links, tree.String(), said, r.Keys)
			}
		}
	})
}
