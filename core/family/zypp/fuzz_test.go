package zypp_test

import (
	"testing"
	"testing/fstest"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/family/zypp"
	"patientlantern.example/lantern/core/rootfs"
)

// FuzzRoot reads a root of which locks, services, variables and credentials are anything at
// all.
func FuzzRoot(f *testing.F) {
	f.Add("type: package\nsolvable_name: tern\n\n", "[s]\nurl=http://h/\ntype=ris\n", "${a:-${b:+c}}", "username=u\npassword=p\n", "[main]\nlocksfile.path=/etc/zypp/locks\n")
	f.Add("repo: a\nquery_string: x", "[s]\ntype=\n", "$", "[x]", "[main\n")
	f.Fuzz(func(t *testing.T, locks, services, name, login, conf string) {
		r := zypp.Read(rootfs.New(fstest.MapFS{
			"etc/zypp/locks": {Data: []byte(locks)}, "etc/zypp/services.d/s.service": {Data: []byte(services)}, "etc/zypp/zypp.conf": {Data: []byte(conf)},
			"etc/zypp/credentials.d/c": {Data: []byte(login)}, "etc/zypp/vars.d/b": {Data: []byte(name)},
			"etc/zypp/repos.d/a.repo": {Data: []byte("[a]\nname=" + name + "\nbaseurl=http://h/?credentials=c\n")},
		}), family.Host{Arch: "x86_64"})
		for _, h := range r.Holds {
			if h.What == "" || h.File == "" {
				t.Fatalf("a lock of nothing: %+v", h)
			}
		}
	})
}
