package deb_test

import (
	"testing"
	"testing/fstest"

	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/rootfs"
)

// FuzzConfiguration reads a root of which configuration, preferences, logins and keys are
// anything at all.
func FuzzConfiguration(f *testing.F) {
	f.Add("APT::Default-Release \"mussel\";\nDir { Etc { trustedparts \"x\"; }; };\n", "Package: *\nPin: release o=Saltmarsh\nPin-Priority: 900\n", "machine h login u password p\n", "-----BEGIN PGP PUBLIC KEY BLOCK-----\n\nxjME\n")
	f.Add("#include \"/etc/apt/apt.conf.d/\";", "Package: tern\nPin: version 1*\nPin-Priority: x\n", "password p", "\x98\x33\x04")
	f.Add("#clear APT; A{B{C \"d\";};};", "Explanation: x\n\nPackage:\n", "", "\x00\x00\x00 \x01\x01\x00\x02KBXf")
	f.Fuzz(func(t *testing.T, conf, preferences, logins, key string) {
		root := rootfs.New(fstest.MapFS{
			"etc/apt/apt.conf.d/50x": {Data: []byte(conf)}, "etc/apt/preferences": {Data: []byte(preferences)}, "etc/apt/auth.conf": {Data: []byte(logins)},
			"etc/apt/trusted.gpg.d/a.gpg": {Data: []byte(key)}, "etc/apt/keyrings/k": {Data: []byte(key)}, "etc/apt/sources.list": {Data: []byte("deb [signed-by=/etc/apt/keyrings/k] http://h/ s main\n")},
		})
		r := deb.Read(root, []string{"amd64"})
		for _, s := range r.Settings {
			if s.File == "" || s.Line < 1 || len(s.Touches) == 0 {
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
