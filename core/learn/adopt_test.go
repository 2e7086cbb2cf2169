package learn_test

import (
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/learn"
	"patientlantern.example/lantern/core/policy"
	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/saved"
	"patientlantern.example/lantern/core/survey"
	"patientlantern.example/lantern/standin"
)

// with is a host of the scenario on which somebody has written a file.
func with(t *testing.T, host, file, text string) saved.Snapshot {
	t.Helper()
	keys, err := standin.Keys()
	require.NoError(t, err)
	root := t.TempDir()
	for _, m := range standin.Fleet() {
		if m.Name == host {
			require.NoError(t, m.Write(root, "https://vendors.example", keys))
		}
	}
	public, err := keys["plover-2024"].Public()
	require.NoError(t, err)
	for name, content := range map[string]string{"/usr/share/keyrings/plover.asc": public, "/etc/pki/rpm-gpg/plover": public, file: text} {
		require.NoError(t, os.MkdirAll(filepath.Dir(root+name), 0o755))
		f, err := os.OpenFile(root+name, os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o644)
		require.NoError(t, err)
		_, err = f.WriteString(content)
		require.NoError(t, err)
		require.NoError(t, f.Close())
	}
	s := survey.Read(rootfs.New(os.DirFS(root)), survey.Machine{})
	return saved.Of(host+"."+standin.Domain, nil, s.Survey, s.Masked())
}

// base is a policy that knows the distributions' own entries alone.
func base(t *testing.T) policy.Folder {
	t.Helper()
	return policy.Folder{"policy.yaml": []byte(`format: patient-lantern/1
repositories:
  base:
    in-place: true
    deb: { suites: ["${os.codename}", "${os.codename}-updates"] }
    rpm: { sections: [foreland-base] }
    zypp: { sections: [halyard-oss] }
    arch: { sections: [driftwood] }
assign: [{ to: everyone, repositories: [base] }]
`)}
}

func TestASourceIsTakenIntoThePolicy(t *testing.T) {
	for _, c := range []struct{ name, host, file, text, want string }{
		{"apt, checked by a key of a file", "gw-01", "/etc/apt/sources.list.d/own.list", "deb [signed-by=/usr/share/keyrings/plover.asc] https://own.example/apt stable main\n", `deb: { url: "https://own.example/apt", suites: [stable], components: [main] }`},
		{"apt, not checked", "gw-01", "/etc/apt/sources.list.d/own.list", "deb [trusted=yes] https://own.example/apt stable main\n", "signatures: off # NOT CHECKED"},
		{"dnf, checked", "arc-1", "/etc/yum.repos.d/own.repo", "[own]\nname=own\nbaseurl=https://own.example/rpm\nenabled=1\ngpgcheck=1\nrepo_gpgcheck=1\ngpgkey=file:///etc/pki/rpm-gpg/plover\n", "rpm: { url: \"https://own.example/rpm\""},
		{"dnf, with a list of mirrors", "arc-1", "/etc/yum.repos.d/own.repo", "[own]\nname=own\nmirrorlist=https://own.example/mirrors\nenabled=1\ngpgcheck=1\nrepo_gpgcheck=1\ngpgkey=file:///etc/pki/rpm-gpg/plover\n", "sections: [own]"},
		{"zypper, not checked", "chart-1", "/etc/zypp/repos.d/own.repo", "[own]\nname=own\nbaseurl=https://own.example/rpm\nenabled=1\ngpgcheck=0\n", "sections: [own]"},
		{"pacman", "model-1", "/etc/pacman.conf", "\n[own]\nServer = https://own.example/arch\n", "arch: { sections: [own] }"},
		{"a second one beside it stays", "gw-01", "/etc/apt/sources.list.d/own.list", "deb [signed-by=/usr/share/keyrings/plover.asc] https://own.example/apt stable main\ndeb [signed-by=/usr/share/keyrings/plover.asc] https://other.example/apt stable main\n", "own.example"},
	} {
		t.Run(c.name, func(t *testing.T) {
			folder := base(t)
			before := maps.Clone(folder)
			h := with(t, c.host, c.file, c.text)
			at := learn.Place{File: c.file}
			if strings.Contains(c.name, "second") {
				at.Line = 1
			}
			res, err := learn.Adopt(folder, []saved.Snapshot{h}, at, now)
			require.NoError(t, err)
			assert.Equal(t, before, folder, "nothing that is there is touched")
			text := ""
			for name, b := range res.Files {
				assert.NotContains(t, before, name)
				text += string(b)
			}
			assert.Contains(t, text, c.want)
			assert.Contains(t, text, "to: ["+h.Host+"]")
			assert.NotContains(t, text, "other.example")
			maps.Copy(folder, res.Files)
			_, err = learn.Adopt(folder, []saved.Snapshot{h}, at, now)
			assert.ErrorIs(t, err, learn.ErrNothing, "with it, nothing is found any more")
		})
	}
}

func TestWhatCannotBeTakenIsSaid(t *testing.T) {
	h := with(t, "gw-01", "/etc/apt/sources.list", "deb https://vendors.example/archive.skerry.example/skerry mussel-proposed main\n")
	_, err := learn.Adopt(base(t), []saved.Snapshot{h}, learn.Place{File: "/etc/apt/sources.list"}, now)
	assert.ErrorIs(t, err, learn.ErrOwn)
	_, err = learn.Adopt(base(t), []saved.Snapshot{h}, learn.Place{File: "/etc/apt/sources.list.d/none.list"}, now)
	assert.ErrorIs(t, err, learn.ErrNothing)
	_, err = learn.Adopt(policy.Folder{"p.yaml": []byte("format: patient-lantern/1\nrepositries: {}\n")}, []saved.Snapshot{h}, learn.Place{File: "/etc/apt/sources.list"}, now)
	assert.ErrorContains(t, err, "the folder has an error: p.yaml:2:1: error[unknown-key]")
}

func TestAKeyThatThePolicyKnowsIsNotTakenTwice(t *testing.T) {
	keys, err := standin.Keys()
	require.NoError(t, err)
	public, err := keys["plover-2024"].Public()
	require.NoError(t, err)
	folder := base(t)
	folder["keys.yaml"] = []byte("format: patient-lantern/1\nkeys: { telemetry: { file: t.asc, fingerprint: " + keys["plover-2024"].Fingerprint() + " } }\n")
	folder["t.asc"], folder["own.yaml"] = []byte(public), []byte("format: patient-lantern/1\n")
	h := with(t, "gw-01", "/etc/apt/sources.list.d/own.list", "deb [signed-by=/usr/share/keyrings/plover.asc] https://own.example/apt stable main\n")
	res, err := learn.Adopt(folder, []saved.Snapshot{h}, learn.Place{File: "/etc/apt/sources.list.d/own.list"}, now)
	require.NoError(t, err)
	require.Len(t, res.Files, 1)
	for name, text := range res.Files {
		assert.NotEqual(t, "own.yaml", name, "a file that is there is not written over")
		assert.Contains(t, string(text), "keys: [telemetry]")
	}
}

func TestOfManyHostsThoseThatHaveItGetIt(t *testing.T) {
	const own = "deb [trusted=yes] https://own.example/apt stable main\n"
	hosts := []saved.Snapshot{
		with(t, "gw-01", "/etc/apt/sources.list.d/own.list", own),
		with(t, "gw-02", "/etc/apt/sources.list.d/other.list", own),
		with(t, "gw-03", "/etc/apt/sources.list.d/own.list", own),
	}
	res, err := learn.Adopt(base(t), hosts, learn.Place{File: "/etc/apt/sources.list.d/own.list"}, now)
	require.NoError(t, err)
	assert.Equal(t, 2, res.Hosts)
	assert.Equal(t, []string{hosts[1].Host}, res.Without)
	for _, text := range res.Files {
		assert.NotContains(t, string(text), "gw-02")
	}
	_, err = learn.Adopt(base(t), hosts, learn.Place{File: "/etc/apt/sources.list.d/none.list"}, now)
	assert.ErrorIs(t, err, learn.ErrNothing)
	assert.ErrorContains(t, err, "none of the 3 hosts")
}

// Hosts of one file may follow several series, and have names without a dot.
func TestHostsThatFollowOtherSeriesAreTakenTogether(t *testing.T) {
	const own = "deb [signed-by=/usr/share/keyrings/plover.asc] https://own.example/%s.x stable main\n"
	hosts := []saved.Snapshot{
		with(t, "gw-01", "/etc/apt/sources.list.d/own.list", fmt.Sprintf(own, "8")),
		with(t, "gw-02", "/etc/apt/sources.list.d/own.list", fmt.Sprintf(own, "9")),
		with(t, "gw-03", "/etc/apt/sources.list.d/own.list", fmt.Sprintf(own, "8")),
	}
	hosts[1].Host = "gw-two"
	res, err := learn.Adopt(base(t), hosts, learn.Place{File: "/etc/apt/sources.list.d/own.list"}, now)
	require.NoError(t, err)
	require.Contains(t, res.Files, "own.yaml")
	text := string(res.Files["own.yaml"])
	assert.Contains(t, text, "groups:\n  gw-two: { hosts: [gw-two] }\n")
	assert.Contains(t, text, `deb: { url: "https://own.example/${series}", suites: [stable], components: [main] }`)
	assert.Contains(t, text, "assign:\n  - to: [gw-01.brinewick.test, gw-03.brinewick.test, gw-two]\n    repositories: [own]\n\n  - to: [gw-two]\n    settings: { own.series: \"9.x\" }\n")
}
