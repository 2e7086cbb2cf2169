package agent

import (
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/change"
	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/family/rpm"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/survey"
	"patientlantern.example/lantern/standin"
)

// attemptAt is an attempt at a change of some files on a host that had a survey.
func attemptAt(t *testing.T, root string, sheet *source.Sheet, was source.Survey, edited ...string) *attempt {
	t.Helper()
	h, err := OpenHost(root)
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, h.Close()) })
	var plan change.Change
	for _, p := range edited {
		plan.Edits = append(plan.Edits, change.FileEdit{Path: p, Action: change.Edit})
	}
	c := &carrier{host: h, log: slog.New(slog.DiscardHandler), now: time.Now, report: api.Report{}}
	return &attempt{carrier: c, sheet: sheet, before: &survey.Result{Survey: was}, plan: plan}
}

// Copies of keys that dnf has taken go where a change has to do with a repository's keys, and
// nowhere else: not of repositories whose names only begin alike, and nothing beside the keys.
func TestDnfForgetsTheKeysThatAChangeIsAbout(t *testing.T) {
	const digits = "0123456789abcdef"
	lost, err := standin.NewKey("lost", "Saltmarsh Packages <packages@saltmarsh.example>", time.Date(2024, 1, 15, 0, 0, 0, 0, time.UTC), 4)
	require.NoError(t, err)
	ring, err := lost.Binary()
	require.NoError(t, err)
	for _, c := range []struct {
		does   string
		edited []string
		gone   []string
	}{
		{"its file", []string{"/etc/yum.repos.d/saltmarsh.repo"}, []string{"saltmarsh-" + digits}},
		{"its key", []string{"/etc/pki/rpm-gpg/saltmarsh-2026.asc"}, []string{"saltmarsh-" + digits}},
		{"a key that two name", []string{"/etc/pki/rpm-gpg/shared.asc"}, []string{"saltmarsh-" + digits, "saltmarsh-debug-" + digits}},
		{"one that comes by the sheet", []string{"/etc/yum.repos.d/fresh.repo"}, []string{"fresh-" + digits}},
		{"a key that is withdrawn", []string{"withdrawn"}, []string{"saltmarsh-debug-" + digits}},
		{"something else", []string{"/etc/dnf/vars/lantern_gannet_token"}, nil},
	} {
		t.Run(c.does, func(t *testing.T) {
			root := t.TempDir()
			all := []string{"saltmarsh-" + digits, "saltmarsh-debug-" + digits, "fresh-" + digits, "saltmarsh-notdigits", "saltmarsh"}
			for _, cache := range dnfCaches {
				for _, name := range all {
					require.NoError(t, os.MkdirAll(filepath.Join(root, cache, name, "pubring"), 0o755))
					require.NoError(t, os.WriteFile(filepath.Join(root, cache, name, "pubring", "pubring.kbx"), []byte("k"), 0o644))
					require.NoError(t, os.MkdirAll(filepath.Join(root, cache, name, "repodata"), 0o755))
				}
			}
			was := source.Survey{Sources: []source.Source{
				{Family: rpm.Family, ID: "saltmarsh", File: "/etc/yum.repos.d/saltmarsh.repo", SignedBy: []string{
					"file:///etc/pki/rpm-gpg/saltmarsh-2026.asc", "file:///etc/pki/rpm-gpg/shared.asc"}},
				{Family: rpm.Family, ID: "saltmarsh-debug", File: "/etc/yum.repos.d/debug.repo", SignedBy: []string{"file:///etc/pki/rpm-gpg/shared.asc"}},
			}}
			sheet := &source.Sheet{Family: rpm.Family, Sources: []source.SheetSource{{ID: "fresh", File: "/etc/yum.repos.d/fresh.repo"}}}
			for _, cache := range dnfCaches {
				require.NoError(t, os.WriteFile(filepath.Join(root, cache, "saltmarsh-debug-"+digits, "pubring", "pubring.gpg"), ring, 0o644))
			}
			if slices.Contains(c.edited, "withdrawn") {
				sheet.Withdrawn = []source.SheetWithdrawn{{Key: "lost", Fingerprint: lost.Fingerprint()}}
			}
			attemptAt(t, root, sheet, was, c.edited...).forgetKeys()
			for _, cache := range dnfCaches {
				for _, name := range all {
					_, err := os.Stat(filepath.Join(root, cache, name, "pubring"))
					assert.Equal(t, slices.Contains(c.gone, name), os.IsNotExist(err), "%s/%s", cache, name)
					assert.DirExists(t, filepath.Join(root, cache, name, "repodata"), "metadata stays")
				}
			}
		})
	}
}

// apt is shown its configuration as it stood when the host was surveyed: without a proxy that the
// change has brought, with one that it took away, and with everything else as it stands.
func TestAptIsShownItsConfigurationAsItStood(t *testing.T) {
	proxy := deb.ProxyFile("http://proxy.reef.brinewick.test:3128", nil).Text
	for _, c := range []struct {
		does        string
		is, was     string // the proxy's file; empty where it is not there
		asItStands  bool
		wantedProxy string
	}{
		{"nothing was there and nothing is", "", "", true, ""},
		{"the same", proxy, proxy, true, ""},
		{"the change brought it", proxy, "", false, ""},
		{"the change took it away", "", proxy, false, proxy},
		{"the change made it another", proxy, "# other\n", false, "# other\n"},
	} {
		t.Run(c.does, func(t *testing.T) {
			root := t.TempDir()
			parts := filepath.Join(root, "etc/apt/apt.conf.d")
			require.NoError(t, os.MkdirAll(parts, 0o755))
			require.NoError(t, os.WriteFile(filepath.Join(parts, "90own"), []byte("APT::Color \"0\";\n"), 0o644))
			if c.is != "" {
				require.NoError(t, os.WriteFile(filepath.Join(root, deb.ProxyPath), []byte(c.is), 0o644))
			}
			a := attemptAt(t, root, &source.Sheet{Family: deb.Family}, source.Survey{})
			q := asked{survey: &survey.Result{Texts: map[string][]byte{}}}
			if c.was != "" {
				q.survey.Texts[deb.ProxyPath] = []byte(c.was)
			}
			dir, err := a.host.partsOf(q)
			require.NoError(t, err)
			assert.Equal(t, c.asItStands, dir == "")
			if dir == "" {
				return
			}
			own, err := os.ReadFile(filepath.Join(dir, "90own"))
			require.NoError(t, err)
			assert.Equal(t, "APT::Color \"0\";\n", string(own))
			got, err := os.ReadFile(filepath.Join(dir, filepath.Base(deb.ProxyPath)))
			assert.Equal(t, c.wantedProxy == "", os.IsNotExist(err))
			assert.Equal(t, c.wantedProxy, string(got))
		})
	}
}

// What depends on a file that the change has edited is not asked of before; what only connects is.
func TestWhatCannotBeAskedOfBeforeIsTheChangesOwn(t *testing.T) {
	const file, key, authority, list = "/etc/yum.repos.d/x.repo", "/etc/pki/rpm-gpg/x.asc", "/etc/pki/lantern/x-authority.pem", "/etc/dnf/mirrors/x.list"
	sources := []source.Source{{
		Family: rpm.Family, ID: "x", File: file, SignedBy: []string{"file://" + key}, Mirrorlist: "file://" + list,
		Options: map[string]string{"sslcacert": authority},
	}}
	const unreachable, tls, wrongKey = "Failed to connect to 127.0.0.1 port 1: Couldn't connect to server", "SSL certificate problem", "Bad GPG signature"
	for _, c := range []struct {
		does, edited, says string
		askable            bool
	}{
		{"the file alone", file, wrongKey, true},
		{"a key, and the signature is bad", key, wrongKey, false},
		{"a key, and nobody answers", key, unreachable, true},
		{"an authority, and TLS fails", authority, tls, false},
		{"an authority, and nobody answers", authority, unreachable, true},
		{"a list of mirrors, and nobody answers", list, unreachable, false},
		{"a key, for a reason that nobody knows", key, "something odd", false},
	} {
		a := attemptAt(t, t.TempDir(), &source.Sheet{Family: rpm.Family}, source.Survey{Sources: sources}, c.edited)
		after := &survey.Result{Survey: source.Survey{Sources: sources}}
		assert.Equal(t, c.askable, a.askable(&api.SourceOutcome{File: file, Message: c.says}, after), c.does)
	}
}
