package origin_test

import (
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/source"
)

// dnf 5 notes of each package where it came from, in this form; of what it does not know, the
// history of dnf 4 tells.
func TestWhatDNF5Notes(t *testing.T) {
	t.Parallel()
	s := newStage(t)
	repo := "file://" + s.rpmRepository()
	s.run("dnf", "-q", "-y", "--installroot="+s.path("root"), "--setopt=reposdir=/nowhere", "--noplugins",
		"--repofrompath=plover,"+repo, "--nogpgcheck", "--releasever=9", "install", "sonar-tools", "tide-model")
	s.database()
	s.write("version = \"1.0\"\n\n[nevras]\n\"tide-model-2:1.2-3.noarch\" = {from_repo = \"fulmar\"}\n\"gone-1-1.noarch\" = {from_repo = \"fulmar\"}\n",
		"root/usr/lib/sysimage/libdnf5/nevras.toml")
	sources := []source.Source{{Family: "rpm", ID: "plover"}, {Family: "rpm", ID: "fulmar"}}
	got := s.look(sources, "rpm plover", "rpm fulmar")
	assert.Equal(t, []string{"sonar-tools"}, got["rpm plover"].Names)
	assert.Equal(t, []string{"tide-model"}, got["rpm fulmar"].Names)

	require.NoError(t, os.Remove(s.path("root/var/lib/dnf/history.sqlite")))
	got = s.look(sources, "rpm plover", "rpm fulmar")
	assert.Empty(t, got["rpm plover"].Names, "nobody says where it came from")
	s.write("plover", "root/var/lib/yum/yumdb/s/0a1b2c-sonar-tools-1.2-3-noarch/from_repo")
	s.write("plover", "root/var/lib/yum/yumdb/s/9a1b2c-sonar-tools-1.1-3-noarch/from_repo")
	s.write("plover", "root/var/lib/yum/yumdb/t/0a1b2c-tide-model-1.2-3-noarch/from_repo")
	got = s.look(sources, "rpm plover", "rpm fulmar")
	assert.Equal(t, []string{"sonar-tools"}, got["rpm plover"].Names, "yum does, of what is installed")
	require.NoError(t, os.RemoveAll(s.path("root/var/lib/yum")))
	assert.Equal(t, []string{"tide-model"}, got["rpm fulmar"].Names)

	s.write("version = '1.0'\n[nevras.\"tide-model-2:1.2-3.noarch\"]\nfrom_repo = \"fulmar\"\n", "root/usr/lib/sysimage/libdnf5/nevras.toml")
	assert.Equal(t, []string{"tide-model"}, s.look(sources, "rpm fulmar")["rpm fulmar"].Names, "written another way")
	for text, says := range map[string]string{
		"version = \"2.0\"\n[nevras]\n":           "is of a form that is not known: version 2.0",
		"version = \"1.0\"\n[nevras]\ntide-2 1\n": "line 3: a key without = stands here",
	} {
		s.write(text, "root/usr/lib/sysimage/libdnf5/nevras.toml")
		assert.Contains(t, s.look(sources, "rpm fulmar")["rpm fulmar"].Unknown, says, "nothing is said of what was not understood")
	}
}
