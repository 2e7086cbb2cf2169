package flatpak_test

import (
	"testing"
	"testing/fstest"

	"patientlantern.example/lantern/core/family/flatpak"
	"patientlantern.example/lantern/core/rootfs"
)

// FuzzRoot reads a root of which flatpak's configuration, remotes and keys are anything at
// all.
func FuzzRoot(f *testing.F) {
	f.Add("[core]\nmode=bare\n\n[remote \"x\"]\nurl=https://h/\ngpg-verify=maybe\n", "[Flatpak Repo]\nUrl=https://h/\n", "[Installation \"y\"]\nPath=/opt/y\n", "\x98\x33\x04")
	f.Add("[remote \"\"]\nxa.prio=9\nxa.filter=/etc/f\nxa.masked=a;b\n", "[Flatpak Repo", "[Installation \"\"]\nPath=..\n", "-----BEGIN PGP PUBLIC KEY BLOCK-----\n\nxjME\n")
	f.Fuzz(func(t *testing.T, conf, repo, installation, key string) {
		r := flatpak.Read(rootfs.New(fstest.MapFS{
			"var/lib/flatpak/repo/config": {Data: []byte(conf)}, "etc/flatpak/remotes.d/z.flatpakrepo": {Data: []byte(repo)},
			"etc/flatpak/installations.d/y.conf": {Data: []byte(installation)}, "var/lib/flatpak/repo/x.trustedkeys.gpg": {Data: []byte(key)},
		}))
		for _, s := range r.Settings {
			if s.File == "" || len(s.Touches) == 0 {
				t.Fatalf("a setting of nowhere: %+v", s)
			}
		}
		for _, k := range r.Keys {
			if k.Used == (k.UnusedBecause != "") {
				t.Fatalf("a key that is used and passed over, or neither: %+v", k)
			}
		}
	})
}
