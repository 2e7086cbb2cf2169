package rpm_test

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/family/rpm"
	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/internal/cell"
)

// binds prints what libdnf reads of a repository, with what holds of it by itself, and what it reads of [main] alone.
const binds = `
import json, libdnf
main = libdnf.conf.ConfigMain()
def binds(c):
    out = {}
    for b in c.optBinds():
        try: out[b.first] = b.second.getValueString()
        except Exception: out[b.first] = ""
    return out
both, repo = binds(main), binds(libdnf.conf.ConfigRepo(main))
print(json.dumps({"repo": repo, "main": sorted(set(both) - set(repo))}))
`

// What the real libdnf has by itself of a repository may be said without being an edit, and what it reads of [main] alone decides
// nothing in a section of another name.
func TestDefaultsAreThoseOfLibdnf(t *testing.T) {
	c, err := cell.Open()
	require.NoError(t, err)
	defer func() { require.NoError(t, c.Close()) }()
	a, err := c.Run(t.TempDir(), "/usr/bin/python3", "-c", binds)
	require.NoError(t, err)
	require.Zero(t, a.Code, a.Err)
	var said struct {
		Repo map[string]string
		Main []string
	}
	require.NoError(t, json.Unmarshal([]byte(a.Out), &said))
	require.Greater(t, len(said.Repo), 40)
	for name, usual := range said.Repo {
		if source.OptionSwitches(name) || name == "enabled" || name == "priority" || name == "baseurl" || name == "gpgkey" || name == "user_agent" {
			continue // have fields of their own
		}
		spelt := map[string]string{name: usual}
		assert.True(t, source.SameOption(source.FamilyRpm, name, nil, spelt, nil), "%s=%s", name, usual)
		assert.True(t, source.SameOption(source.FamilyRpm, name, spelt, nil, nil), "%s=%s, taken out", name, usual)
		if other := map[string]string{"1": "0", "0": "1", "1000": "5", "any": "ntlm"}[usual]; other != "" && len(source.OptionTouches(source.FamilyRpm, name)) > 0 {
			assert.False(t, source.SameOption(source.FamilyRpm, name, nil, map[string]string{name: other}, nil), "%s=%s", name, other)
		}
	}
	for _, name := range said.Main {
		assert.Empty(t, source.OptionTouches(source.FamilyRpm, name), name)
	}
}

// By arch of [main] dnf goes in the place of the machine's own processor, and does nothing under one that it does not know.
func TestTheProcessorThatMainNames(t *testing.T) {
	c, err := cell.Open()
	require.NoError(t, err)
	defer func() { require.NoError(t, c.Close()) }()
	for _, arch := range []string{"i386", "i686", "aarch64", "armv7hl", "sh4a", "sparc64v", "alphaev6", "amd64", "ppc64p7", "noarch", "x86", "I386", "", "None"} {
		root := t.TempDir()
		require.NoError(t, cell.Write(root, map[string]string{
			"etc/dnf/dnf.conf": "[main]\narch=" + arch + "\n", "etc/dnf-releasever-of-the-test": "9",
			"etc/yum.repos.d/a.repo": "[base]\nname=x\nbaseurl=http://archive.foreland.example/$arch/$basearch/\nenabled=1\n",
		}))
		r, err := cell.Inside(root, func(root *rootfs.FS) family.Reading { return rpm.Read(root, family.Host{Arch: "x86_64", Release: "9"}) })
		require.NoError(t, err)
		a, err := c.DNF(root)
		require.NoError(t, err)
		require.Equal(t, a.Code != 0, r.Refused(), "%q: %s", arch, a.Err)
		if a.Code != 0 {
			continue
		}
		var said struct {
			Repos []struct{ URLs []string }
		}
		require.NoError(t, json.Unmarshal([]byte(a.Out), &said))
		require.Len(t, said.Repos, 1)
		assert.Equal(t, said.Repos[0].URLs, r.Sources[0].EffURLs, arch)
	}
}
