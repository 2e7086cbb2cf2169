package service_test

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/reason"
	"patientlantern.example/lantern/internal/rig"
)

// edited changes a file of a host by hand, as editors do: no look meets it half written.
func edited(t *testing.T, file, old, new string) {
	t.Helper()
	text := read(t, file)
	require.Contains(t, text, old, file)
	aside := filepath.Join(t.TempDir(), "edited")
	require.NoError(t, os.WriteFile(aside, []byte(strings.Replace(text, old, new, 1)), 0o644))
	require.NoError(t, os.Rename(aside, file))
}

// foundAndHealed waits for a finding, heals the host, and wants the file as it was.
func foundAndHealed(t *testing.T, r *rig.Rig, host, finding, file, was string) {
	t.Helper()
	r.Until(finding, func() bool {
		for _, f := range r.Findings(host) {
			if f == finding {
				return true
			}
		}
		return false
	})
	heal, err := r.Operator.Heal(ctx, host)
	require.NoError(t, err)
	ro := r.Ended(heal.ID)
	require.Equal(t, 1, ro.Counts["done"], "%+v", ro.Hosts[0].Report)
	assert.Equal(t, was, read(t, file))
	r.Until(host+" is steady", func() bool { return len(r.Findings(host)) == 0 })
}

func TestPacmansOrderKeysAndWitness(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	root := r.Up("model-2")
	_, err := r.Operator.Label(ctx, "model-2", map[string]string{"duty": "model"})
	require.NoError(t, err)
	files := r.Policy()
	files["policy.yaml"] = []byte(strings.Replace(string(files["policy.yaml"]), `at-least: "6.12"`, `at-least: "7.0"`, 1))
	publish(t, r, files)
	before := read(t, filepath.Join(root, "etc/pacman.conf"))
	ro := r.Carry()
	require.Equal(t, 1, ro.Counts["failed"])
	assert.Equal(t, "the witness is too old: fulmar offers fulmar-kernel 6.12.4-1, and the policy wants 7.0 or newer", ro.Hosts[0].Report.Message)
	assert.Equal(t, before, read(t, filepath.Join(root, "etc/pacman.conf")), "put back")

	files["policy.yaml"] = []byte(strings.Replace(string(files["policy.yaml"]), "packages: [pacman]", "packages: [sonar-tools]", 1))
	publish(t, r, files)
	ro = r.Carry()
	require.Equal(t, 1, ro.Counts["failed"])
	assert.Equal(t, "nothing was changed: fulmar needs the package sonar-tools, which is not installed on this host; install it: pacman -S sonar-tools", ro.Hosts[0].Report.Message)

	publish(t, r, r.Policy())
	ro = r.Carry()
	require.Equal(t, 1, ro.Counts["done"], "%+v", ro.Hosts[0].Report)
	require.Len(t, ro.Hosts[0].Report.Witnesses, 1)
	assert.Equal(t, "6.12.4-1", ro.Hosts[0].Report.Witnesses[0].Version)
	conf := filepath.Join(root, "etc/pacman.conf")
	text := read(t, conf)
	upper, own, lower := strings.Index(text, "lantern-fulmar.conf"), strings.Index(text, "[driftwood]"), strings.Index(text, "lantern-gannet-open.conf")
	assert.True(t, upper > 0 && upper < own && own < lower, text)
	r.Until("the host is steady", func() bool { return len(r.Findings("model-2")) == 0 })

	// Somebody puts the base on top.
	edited(t, conf, "Include = /etc/pacman.d/lantern-fulmar.conf\n", "")
	edited(t, conf, "[driftwood]\nInclude = /etc/pacman.d/mirrorlist\n", "[driftwood]\nInclude = /etc/pacman.d/mirrorlist\n\nInclude = /etc/pacman.d/lantern-fulmar.conf\n")
	foundAndHealed(t, r, "model-2", "order-changed fault /etc/pacman.d/lantern-fulmar.conf", filepath.Join(root, "etc/pacman.d/lantern-fulmar.conf"), read(t, filepath.Join(root, "etc/pacman.d/lantern-fulmar.conf")))
	text = read(t, conf)
	assert.Less(t, strings.Index(text, "lantern-fulmar.conf"), strings.Index(text, "[driftwood]"))

	// Somebody comments the distribution's own section out.
	was := read(t, conf)
	edited(t, conf, "[driftwood]\nInclude", "#[driftwood]\n#Include")
	foundAndHealed(t, r, "model-2", "switched-off fault /etc/pacman.conf", conf, was)

	// The keyring is lost.
	require.NoError(t, os.RemoveAll(filepath.Join(root, "etc/pacman.d/gnupg")))
	edited(t, conf, "HoldPkg = pacman glibc", "HoldPkg = pacman  glibc")
	r.Until("the key is missed", func() bool {
		return strings.Contains(strings.Join(r.Findings("model-2"), ","), "missing-key fault /etc/pacman.d/gnupg/pubring.gpg")
	})
	heal, err := r.Operator.Heal(ctx, "model-2")
	require.NoError(t, err)
	ro = r.Ended(heal.ID)
	require.Zero(t, ro.Counts["failed"], "%+v", ro.Hosts[0].Report)

	// The keyring has another key of its own now, which vouches: the agent has made it.
	r.Until("the host is steady", func() bool { return len(r.Findings("model-2")) == 0 })
}

func TestFlatpaksRemotes(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	root := r.Up("desk-3")
	r.Publish()
	ro := r.Carry()
	require.Equal(t, 1, ro.Counts["done"], "%+v", ro.Hosts[0].Report)
	config := filepath.Join(root, "var/lib/flatpak/repo/config")
	was := read(t, config)
	assert.True(t, strings.HasPrefix(was, "[core]\nrepo_version=1\nmode=bare-user-only\nmin-free-space-size=500MB\n\n[remote \"curlew\"]\n"), was)
	seen := false
	for _, s := range ro.Hosts[0].Report.Sources {
		seen = seen || strings.HasSuffix(s.URL, "/apps.curlew.example/repo") && s.OK
	}
	assert.True(t, seen, "flatpak has read the summary and checked it: %+v", ro.Hosts[0].Report.Sources)

	edited(t, config, "gpg-verify=true", "gpg-verify=false")
	foundAndHealed(t, r, "desk-3", "checks-weakened danger /var/lib/flatpak/repo/config", config, was)
	edited(t, config, "[remote \"curlew\"]", "[remote \"terns\"]")
	r.Until("the remote is missed", func() bool {
		return strings.Contains(strings.Join(r.Findings("desk-3"), ","), "missing-source fault /var/lib/flatpak/repo/config")
	})

	require.NoError(t, os.WriteFile(config, []byte(was), 0o644))
	require.NoError(t, r.Upstreams.SetFault("apps.curlew.example", "wrong-key"))
	edited(t, config, "xa.title=Curlew applications", "xa.title=Tern applications")
	files := r.Policy()
	files["policy.yaml"] = []byte(strings.Replace(string(files["policy.yaml"]), "title: Curlew applications", "title: Curlew for desks", 1))
	publish(t, r, files)
	ro = r.Carry()
	require.Equal(t, 1, ro.Counts["done"], "%+v", ro.Hosts[0].Report)
	assert.Contains(t, ro.Hosts[0].Report.Message, "/apps.curlew.example/repo: ", "what the change has not brought about is said")
	assert.Contains(t, read(t, config), "xa.title=Curlew for desks")
}

func TestMediaComesAndGoes(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	root := r.Up("desk-1")
	file := filepath.Join(root, "etc/apt/sources.list.d/brinewick-shelf.sources")
	media := func() string {
		e, err := r.Operator.Explain(ctx, "desk-1", 0)
		require.NoError(t, err)
		for _, f := range e.Files {
			if f.Repository == "brinewick-shelf" && f.While != "" {
				return f.Media
			}
		}
		return "no file"
	}
	r.Publish()
	assert.Equal(t, reason.MediaUnknown, media(), "nobody has looked yet")
	require.Equal(t, 1, r.Carry().Counts["done"])
	r.Until("what is in the drive is known", func() bool { return media() == reason.MediaAway })
	assert.NoFileExists(t, file, "nothing is in the drive")
	assert.Empty(t, r.Findings("desk-1"))
	require.NoError(t, r.Upstreams.AttachShelf(root))
	r.Until("the source comes with the media", func() bool { _, err := os.Stat(file); return err == nil })
	assert.Contains(t, read(t, file), "\nURIs: file:///srv/shelf/deb\n")
	r.Until("it is told that they are there", func() bool { return media() == reason.MediaThere })
	heal, err := r.Operator.Heal(ctx, "desk-1")
	require.NoError(t, err)
	ro := r.Ended(heal.ID)
	require.Zero(t, ro.Counts["failed"], "%+v", ro.Hosts[0].Report)
	require.NoError(t, os.RemoveAll(filepath.Join(root, "srv/shelf/deb")))
	r.Until("the source goes with the media", func() bool { _, err := os.Stat(file); return err != nil })
	r.Until("it is told that they are away", func() bool { return media() == reason.MediaAway })
	r.Until("the host is steady", func() bool { return len(r.Findings("desk-1")) == 0 })
}

func TestTheDistributionsOwnSections(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	r.Accounts()
	roots := map[string]string{"arc-2": r.Up("arc-2"), "chart-2": r.Up("chart-2")}
	r.Publish()
	ro := r.Carry()
	require.Zero(t, ro.Counts["failed"], "%+v", ro.Hosts)
	for host, c := range map[string]struct{ file, line string }{
		"arc-2":   {"etc/yum.repos.d/foreland.repo", "enabled=1\n"},
		"chart-2": {"etc/zypp/repos.d/halyard.repo", "enabled=1\n"},
	} {
		file := filepath.Join(roots[host], c.file)
		was := read(t, file)
		r.Until("steady", func() bool { return len(r.Findings(host)) == 0 })
		edited(t, file, c.line, "enabled=0\n")
		foundAndHealed(t, r, host, "switched-off fault /"+c.file, file, was)
		require.NoError(t, os.WriteFile(file, []byte("# nothing\n"), 0o644))
		r.Until("the section is missed", func() bool { return strings.Contains(strings.Join(r.Findings(host), ","), "missing-source fault") })
		heal, err := r.Operator.Heal(ctx, host)
		require.NoError(t, err)
		ended := r.Ended(heal.ID)
		require.Equal(t, 1, ended.Counts["done"], "%+v", ended.Hosts[0].Report)
		assert.True(t, strings.HasPrefix(read(t, file), "# nothing\n"), "what somebody wrote stays")
		assert.Contains(t, read(t, file), "\n[")
		r.Until("steady", func() bool { return len(r.Findings(host)) == 0 })
	}
}

// TestALinkInThePlaceOfAFileStopsNothing: whatever a file of the policy is a link to, healing mends what stands there and all
// else on the host, and the link is told until somebody takes it away.
func TestALinkInThePlaceOfAFileStopsNothing(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	root := r.Up("gw-01")
	r.Publish()
	r.Carry()
	own := filepath.Join(root, "etc/apt/sources.list.d/saltmarsh.sources")
	other := filepath.Join(root, "etc/apt/sources.list.d/gannet-open.sources")
	was, otherWas := read(t, own), read(t, other)
	for name, there := range map[string]string{"to the same": was, "to another text": "# nothing\n", "to nothing": ""} {
		at := filepath.Join(root, "etc/away")
		require.NoError(t, os.RemoveAll(at))
		if there != "" {
			require.NoError(t, os.WriteFile(at, []byte(there), 0o644))
		}
		require.NoError(t, os.Remove(own))
		require.NoError(t, os.Symlink("/etc/away", own))
		edited(t, other, "Types: deb\n", "Enabled: no\nTypes: deb\n")
		r.Until("both are found", func() bool { return len(r.Findings("gw-01")) >= 2 })
		heal, err := r.Operator.Heal(ctx, "gw-01")
		require.NoError(t, err)
		ro := r.Ended(heal.ID)
		require.Equal(t, 1, ro.Counts["done"], "%s: %+v", name, ro.Hosts[0].Report)
		assert.Equal(t, otherWas, read(t, other), name)
		assert.Equal(t, was, read(t, at), name)
		link := "changed-mode fault /etc/apt/sources.list.d/saltmarsh.sources"
		r.Until("the link is left", func() bool { return slices.Equal(r.Findings("gw-01"), []string{link}) })
	}
	require.NoError(t, os.Remove(own))
	heal, err := r.Operator.Heal(ctx, "gw-01")
	require.NoError(t, err)
	require.Equal(t, 1, r.Ended(heal.ID).Counts["done"])
	assert.Equal(t, was, read(t, own))
	r.Until("all is well", func() bool { return len(r.Findings("gw-01")) == 0 })
}
