package rpm_test

import (
	"testing"
	"testing/fstest"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/family/rpm"
	"patientlantern.example/lantern/core/rootfs"
)

// FuzzRoot reads a root of which configuration, variables, locks and sources are anything
// at all.
func FuzzRoot(f *testing.F) {
	f.Add("[main]\ngpgcheck=maybe\nvarsdir=/v\n", "edge", "tern-0:1-1.*\n!sedge-0:2-1.*\n", "[a]\nbaseurl=http://h/$x\nenabled=1\n", "-----BEGIN PGP PUBLIC KEY BLOCK-----\n\nxjME\n")
	f.Add("[main]\nreposdir=/r, /s\nexclude=tern\n sedge\n", "${x:-${x}}", "# no\n", "[b]\nmirrorlist=file:///etc/m\nsslverify=\n", "\x98\x33\x04")
	f.Add("[main\n", "$", "!", "name=x\n[c]", "")
	f.Fuzz(func(t *testing.T, conf, variable, locks, sources, key string) {
		r := rpm.Read(rootfs.New(fstest.MapFS{
			"etc/dnf/dnf.conf": {Data: []byte(conf)}, "etc/dnf/vars/x": {Data: []byte(variable)}, "etc/dnf/plugins/versionlock.list": {Data: []byte(locks)},
			"etc/yum.repos.d/a.repo": {Data: []byte(sources)}, "etc/yum.repos.d/k.repo": {Data: []byte("[k]\nbaseurl=http://h/\ngpgkey=file:///etc/k\n")},
			"etc/k": {Data: []byte(key)}, "etc/m": {Data: []byte(variable)},
		}), family.Host{Arch: "x86_64"})
		for _, s := range r.Settings {
			if s.File == "" || len(s.Touches) == 0 {
				t.Fatalf("a setting of nowhere: %+v", s)
			}
		}
		for _, h := range r.Holds {
			if h.What == "" || h.File == "" {
				t.Fatalf("a hold of nothing: %+v", h)
			}
		}
		for _, k := range r.Keys {
			if k.Used == (k.UnusedBecause != "") {
				t.Fatalf("a key that is used and passed over, or neither: %+v", k)
			}
		}
	})
}
