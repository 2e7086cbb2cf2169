package survey_test

import (
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"

	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/survey"
)

// What a package manager runs of itself and belongs to no package is told; what a package
// brings is not, so that its upgrade is no finding.
func TestProgramsOfNobodysAreTold(t *testing.T) {
	for _, x := range []struct {
		name  string
		files map[string]string
		want  []string
	}{
		{"pacman's hooks", map[string]string{
			"etc/pacman.conf":                      "[options]\n",
			"var/lib/pacman/local/sea-1.0-1/desc":  "%NAME%\nsea\n\n%VERSION%\n1.0-1\n",
			"var/lib/pacman/local/sea-1.0-1/files": "%FILES%\nusr/share/libalpm/hooks/10-sea.hook\n",
			"usr/share/libalpm/hooks/10-sea.hook":  "[Trigger]\n",
			"usr/share/libalpm/hooks/99-tide.hook": "[Trigger]\n",
			"usr/share/libalpm/hooks/README":       "none\n",
		}, []string{"/usr/share/libalpm/hooks/99-tide.hook"}},
		{"zypper's plugins", map[string]string{
			"etc/zypp/zypp.conf": "[main]\n", "etc/zypp/repos.d/sea.repo": "[sea]\nbaseurl=http://sea.example/\n",
			"usr/lib/zypp/plugins/commit/tide": "#!/bin/sh\n", "usr/lib/zypp/plugins/urlresolver/reef": "\x7fELF\x00",
		}, []string{"/usr/lib/zypp/plugins/commit/tide", "/usr/lib/zypp/plugins/urlresolver/reef"}},
		{"dnf's plugins", map[string]string{
			"etc/dnf/dnf.conf": "[main]\npluginpath=/opt/plugins\n", "etc/yum.repos.d/sea.repo": "[sea]\nbaseurl=http://sea.example/\n",
			"usr/lib/python3.11/site-packages/dnf-plugins/tide.py": "import dnf\n",
			"usr/lib64/libdnf/plugins/tide.so":                     "\x7fELF\x00",
			"opt/plugins/reef.py":                                  "import dnf\n",
		}, []string{"/opt/plugins/reef.py", "/usr/lib/python3.11/site-packages/dnf-plugins/tide.py", "/usr/lib64/libdnf/plugins/tide.so"}},
	} {
		root := fstest.MapFS{}
		for name, text := range x.files {
			root[name] = &fstest.MapFile{Data: []byte(text), Mode: 0o644}
		}
		r := survey.Read(rootfs.New(root), survey.Machine{})
		r.Masked()
		var got []string
		for _, f := range r.Survey.Files {
			if f.Program {
				got = append(got, f.Path)
			}
		}
		assert.Equal(t, x.want, got, x.name)
	}
}
