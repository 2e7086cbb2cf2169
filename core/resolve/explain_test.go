package resolve_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/reason"
	"patientlantern.example/lantern/core/resolve"
)

func told(list []reason.Cause) string {
	var out []string
	for _, c := range list {
		s := c.What
		if c.At != nil {
			s += " @" + c.At.File
		}
		out = append(out, s)
	}
	return strings.Join(out, " | ")
}

// demoHosts are hosts of all families.
func demoHosts() []resolve.Host {
	desk := traits("12", "mussel", "2.6.1")
	desk.Tools["flatpak"] = "1.14.10"
	return []resolve.Host{
		host("gw-01.brinewick.test", traits("12", "mussel", "2.6.1"), nil),
		host("gw-04.brinewick.test", traits("11", "limpet", "2.4.1"), nil),
		host("gw-05.brinewick.test", traits("12", "mussel", "2.2.4"), map[string]string{"site": "reef"}),
		host("desk-1.brinewick.test", traits("12", "mussel", "2.6.1"), nil),
		host("desk-3.brinewick.test", desk, nil),
		host("arc-2.brinewick.test", foreland("9"), nil),
		host("chart-2.brinewick.test", halyard(), nil),
		host("model-2.brinewick.test", driftwood(3), map[string]string{"duty": "model"}),
		host("model-3.brinewick.test", driftwood(2), map[string]string{"duty": "model"}),
	}
}

// TestEveryLineIsExplained holds the explanation against the sheet: the same files, line
// by line, each line with a cause, and every repository of the policy with its state.
func TestEveryLineIsExplained(t *testing.T) {
	p := load(t, "")
	r := resolve.New(p)
	for _, h := range demoHosts() {
		e, err := r.Explain(h)
		require.NoError(t, err)
		sheet := r.Resolve(h).Sheet
		texts := map[string]string{}
		for _, f := range e.Files {
			var lines []string
			placed := false
			for _, l := range f.Lines {
				lines = append(lines, l.Text)
				assert.NotEmpty(t, l.Causes, "%s:%d %s", f.Path, l.Number, l.Text)
				for _, c := range l.Causes {
					placed = placed || c.At != nil
					assert.NotEmpty(t, c.What)
				}
			}
			assert.True(t, placed, "%s leads back to the policy", f.Path)
			texts[f.Path] = strings.Join(lines, "\n") + "\n"
		}
		for _, f := range sheet.Files {
			assert.Equal(t, f.Text, texts[f.Path], f.Path)
		}
		assert.Len(t, e.Repositories, len(p.Repositories))
		on := map[string]bool{}
		for _, s := range sheet.Sources {
			on[s.Repository] = on[s.Repository] || s.Enabled
		}
		for _, x := range e.Repositories {
			assert.NotEmpty(t, x.Causes, x.Name)
			if x.Name != "base" {
				assert.Equal(t, on[x.Name], x.State == reason.On, x.Name)
			}
		}
	}
}

func TestExplainLeadsBackToSettingsCasesAndFacts(t *testing.T) {
	r := resolve.New(load(t, ""))
	line := func(h resolve.Host, path, begins string) string {
		e, err := r.Explain(h)
		require.NoError(t, err)
		for _, f := range e.Files {
			for _, l := range f.Lines {
				if f.Path == path && strings.HasPrefix(l.Text, begins) {
					return told(l.Causes)
				}
			}
		}
		return "there is no such line"
	}
	hosts := map[string]resolve.Host{}
	for _, h := range demoHosts() {
		hosts[strings.TrimSuffix(h.Name, ".brinewick.test")] = h
	}
	for _, c := range []struct{ host, file, line, want string }{
		{"gw-05", "/etc/apt/sources.list.d/saltmarsh.sources", "URIs", `url: ${base}/apt/${series}.x @policy.yaml | ${base} is "http://127.0.0.1:7801/packages.saltmarsh.example" @policy.yaml | ${series} is "9" for reef @hosts.yaml`},
		{"gw-01", "/etc/apt/sources.list.d/gannet-open-storage.sources", "Suites", `suites: ${os.codename} @policy.yaml | the case where os.id == "skerry" && os.major >= 12 (os.id skerry, os.major 12) @policy.yaml | ${os.codename} is "mussel" on this host`},
		{"gw-05", "/etc/apt/keyrings/saltmarsh-2029.asc", "-----BEGIN", `the key saltmarsh-2029, which succeeds saltmarsh-2026 @keys.yaml | pinned as 8D6D581A37A041F8EFDBFDBD7BE4EC10F290EC00 @keys.yaml`},
		{"gw-05", "/etc/apt/sources.list.d/plover-rolling.sources", "Enabled", `kept off where it stands: reef follows 1.44 of the channel plover @hosts.yaml`},
		{"desk-1", "/etc/apt/sources.list.d/brinewick-shelf.sources", "URIs", `url: ${media}/deb @policy.yaml | ${media} is a folder of this host, which holds the media @policy.yaml`},
		{"desk-3", "/etc/apt/sources.list.d/brinewick-shelf.sources", "URIs", `url: ${media}/deb @policy.yaml | ${media} is a URL: desk-1.brinewick.test holds the media @policy.yaml`},
		{"desk-3", "/etc/apt/preferences.d/lantern-plover-rolling.pref", "Pin-Priority", `stands below base @policy.yaml`},
		{"desk-3", "/var/lib/flatpak/repo/config", "url=", `url: http://127.0.0.1:7801/apps.curlew.example/repo @policy.yaml`},
		{"arc-2", "/etc/yum.repos.d/gannet-licensed.repo", "sslclientcert", `access: client-certificate @policy.yaml | archives follows licensed of the channel gannet @hosts.yaml`},
		{"model-2", "/etc/pacman.d/lantern-fulmar.mirrors", "Server", `url: http://127.0.0.1:7801/north.fulmar.example/v${cpu.level} @policy.yaml | ${cpu.level} is "3" on this host | url: http://127.0.0.1:7801/south.fulmar.example/v${cpu.level} @policy.yaml | ${cpu.level} is "3" on this host`},
	} {
		assert.Equal(t, c.want, line(hosts[c.host], c.file, c.line), "%s %s %s", c.host, c.file, c.line)
	}
}

func TestExplainSaysWhyNot(t *testing.T) {
	files := map[string]string{}
	r := resolve.New(load(t, ""))
	for _, h := range demoHosts() {
		e, err := r.Explain(h)
		require.NoError(t, err)
		for _, x := range e.Repositories {
			files[h.Name[:strings.IndexByte(h.Name, '.')]+" "+x.Name] = x.State + ": " + told(x.Causes)
		}
	}
	for what, want := range map[string]string{
		"model-3 fulmar":        "absent: assigned to models @hosts.yaml | the group models needs cpu.level >= 3, this host has cpu.level 2 @hosts.yaml",
		"gw-01 fulmar":          `absent: assigned to models @hosts.yaml | the group models needs label.duty == "model", this host has no label duty @hosts.yaml`,
		"gw-01 curlew":          "absent: assigned to desks @hosts.yaml | the group desks names 3 hosts, and this is none of them @hosts.yaml",
		"desk-1 curlew":         "absent: assigned to desks @hosts.yaml | but it says nothing about deb, and this host has no flatpak @policy.yaml",
		"gw-01 plover-debug":    "absent: a debug variant of rolling in the channel plover, for those who ask for it @hosts.yaml | the group desks names 3 hosts, and this is none of them @hosts.yaml",
		"gw-01 gannet-licensed": `off: kept off where it stands: gateways follows open of the channel gannet @hosts.yaml | the case where os.id == "skerry" && os.major >= 12 (os.id skerry, os.major 12) @policy.yaml`,
		"gw-04 gannet-open":     `on: gateways follows open of the channel gannet @hosts.yaml | not the case where os.id == "skerry" && os.major >= 12: needs os.major >= 12, this host has os.major 11 @policy.yaml`,
	} {
		assert.Equal(t, want, files[what], what)
	}
}
