package arch_test

import (
	"testing"
	"testing/fstest"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/family/arch"
	"patientlantern.example/lantern/core/rootfs"
)

// FuzzRoot reads a root of which pacman's configuration and what it includes are anything at
// all.
func FuzzRoot(f *testing.F) {
	f.Add("[options]\nSigLevel = Never\nIgnorePkg = tern sedge\n[core]\nInclude = /etc/pacman.d/m\n", "Server = http://h/$repo/$arch\n")
	f.Add("[options]\nArchitecture = auto\nXferCommand = /usr/bin/x -u a:b %u\nHookDir = /h\n[a]\nUsage = Sync Never\nSigLevel = PackageOptional\n", "Include = /etc/pacman.d/*\n")
	f.Add("Server = x\n[", "[b]\n")
	f.Fuzz(func(t *testing.T, conf, included string) {
		r := arch.Read(rootfs.New(fstest.MapFS{
			"etc/pacman.conf": {Data: []byte(conf)}, "etc/pacman.d/m": {Data: []byte(included)},
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
	})
}
