package learn_test

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"patientlantern.example/lantern/core/diag"
	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/core/learn"
	"patientlantern.example/lantern/core/policy"
	"patientlantern.example/lantern/core/resolve"
	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/saved"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/survey"
	"patientlantern.example/lantern/standin"
)

var now = time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)

// noDrift resolves a learnt folder for hosts and compares it with their surveys.
func noDrift(t require.TestingT, res *learn.Result, hosts []saved.Snapshot) map[string][]drift.Finding {
	p, diags := policy.Load(res.Files, now)
	require.False(t, diag.HasErrors(diags), "%v", diags)
	for name, text := range res.Files {
		if strings.HasSuffix(name, ".yaml") {
			tidy, err := policy.Tidy(text)
			require.NoError(t, err, "%s\n%s", name, text)
			require.Equal(t, string(text), string(tidy), "it is written as the formatter would")
		}
	}
	out := map[string][]drift.Finding{}
	r := resolve.New(p)
	for i := range hosts {
		h := &hosts[i]
		res := r.Resolve(resolve.Host{Name: h.Host, Class: h.Host, Labels: h.Labels, Traits: &h.Traits})
		require.Empty(t, res.Trouble, h.Host)
		if found := drift.Compare(res.Sheet, &h.Survey); len(found) > 0 {
			out[h.Host] = found
		}
	}
	return out
}

// demo surveys the scenario's hosts as they come.
func demo(t *testing.T) (out []saved.Snapshot) {
	t.Helper()
	keys, err := standin.Keys()
	require.NoError(t, err)
	read := func(name string, labels map[string]string, write func(root, base string, keys map[string]*standin.Key) error) {
		root := filepath.Join(t.TempDir(), name)
		require.NoError(t, write(root, "https://vendors.example", keys))
		dir, err := os.OpenRoot(root)
		require.NoError(t, err)
		defer dir.Close()
		s := survey.Read(rootfs.New(dir.FS()), survey.Machine{})
		texts := s.Masked()
		out = append(out, saved.Of(name+"."+standin.Domain, labels, s.Survey, texts))
	}
	for _, h := range standin.Fleet() {
		read(h.Name, h.Labels, h.Write)
	}
	for _, h := range standin.FamilyHosts {
		read("old-"+h.Name, nil, h.Write)
	}
	slices.SortFunc(out, func(a, b saved.Snapshot) int { return strings.Compare(a.Host, b.Host) })
	return out
}

func TestWhatIsLearntFromTheScenarioGivesNoDrift(t *testing.T) {
	hosts := demo(t)
	res, err := learn.Learn(hosts, now)
	require.NoError(t, err)
	found := noDrift(t, res, hosts)
	delete(found, "old-desk-2.brinewick.test") // a remote there waits to be taken up by flatpak, which no policy can say
	assert.Empty(t, found)
	text := string(res.Files["repositories.yaml"])
	for _, line := range []string{
		`    deb: { suites: ["${os.codename}"], components: [main] }`, `    rpm: { sections: [foreland-base] }`, `    zypp: { sections: [halyard-oss] }`, `    arch: { sections: [driftwood] }`,
	} {
		assert.Contains(t, text, line)
	}
	said := fmt.Sprint(res.Notes)
	assert.Contains(t, said, "only this one of 13 hosts of its kind has plover")
	assert.Contains(t, said, "desk-2.brinewick.test the remote brinewick of flatpak cannot be said in the policy")

	followed := slices.DeleteFunc(hosts, func(h saved.Snapshot) bool {
		return strings.HasPrefix(h.Host, "old-desk-2") || strings.HasPrefix(h.Host, "desk-1")
	})
	res, err = learn.Learn(followed, now)
	require.NoError(t, err)
	assert.Empty(t, noDrift(t, res, followed))
	assert.NotContains(t, string(res.Files["repositories.yaml"]), "plover", "only desk-1 has it, which is left out")
}

func TestASurveyWithoutTextsIsEnough(t *testing.T) {
	hosts := demo(t)
	for i := range hosts {
		hosts[i].Texts, hosts[i].Certificates, hosts[i].Survey.Files = nil, nil, nil
	}
	hosts = slices.DeleteFunc(hosts, func(h saved.Snapshot) bool { return strings.HasPrefix(h.Host, "old-desk-2") })
	res, err := learn.Learn(hosts, now)
	require.NoError(t, err)
	assert.Empty(t, noDrift(t, res, hosts))
	assert.Zero(t, res.Keys, "no certificate is known")
	assert.Equal(t, res.Repositories, res.InPlace)
}

// site makes a fleet by hand.
type site struct{ keys map[string]*standin.Key }

func (s site) host(t require.TestingT, name, osRelease string, labels map[string]string, files map[string]string) saved.Snapshot {
	root := fstest.MapFS{"etc/os-release": {Data: []byte(osRelease)}, "usr/bin/sh": {Data: []byte("x")}}
	for p, text := range files {
		root[p] = &fstest.MapFile{Data: []byte(text), Mode: 0o644}
	}
	r := survey.Read(rootfs.New(root), survey.Machine{Arch: "x86_64"})
	texts := r.Masked()
	return saved.Of(name, labels, r.Survey, texts)
}

func newSite(t require.TestingT) site {
	keys, err := standin.Keys()
	require.NoError(t, err)
	return site{keys}
}

func (s site) public(t require.TestingT, name string) string {
	text, err := s.keys[name].Public()
	require.NoError(t, err)
	return text
}

func skerry(version, codename string) string {
	return fmt.Sprintf("ID=skerry\nID_LIKE=debian\nVERSION_ID=%s\nVERSION_CODENAME=%s\n", version, codename)
}

func foreland(version string) string {
	return "ID=foreland\nID_LIKE=\"rhel fedora\"\nVERSION_ID=" + version + "\n"
}

const status = "Package: dpkg\nStatus: install ok installed\nArchitecture: amd64\nVersion: 1.21\n\nPackage: apt\nStatus: install ok installed\nArchitecture: amd64\nVersion: 2.6.1\n\n"

// gateway is a host of apt with Saltmarsh's repository, written by hand.
func (s site) gateway(t require.TestingT, name, version, codename, series string, labels map[string]string) saved.Snapshot {
	return s.host(t, name, skerry(version, codename), labels, map[string]string{
		"var/lib/dpkg/status":      status,
		"etc/apt/sources.list":     fmt.Sprintf("deb https://archive.skerry.example/skerry %s main\ndeb https://archive.skerry.example/skerry %s-updates main\n", codename, codename),
		"etc/apt/keyrings/s.asc":   s.public(t, "saltmarsh-2026"),
		"etc/apt/keyrings/s.asc~":  "",
		"etc/apt/sources.list.d/s": "",
		"etc/apt/sources.list.d/saltmarsh.list": fmt.Sprintf("# by hand\ndeb [signed-by=/etc/apt/keyrings/s.asc] https://packages.saltmarsh.example/apt/%s.x stable main\n", series) +
			fmt.Sprintf("deb [signed-by=/etc/apt/keyrings/s.asc] https://packages.saltmarsh.example/tools/%s stable main\n", codename),
	})
}

func (s site) archive(t require.TestingT, name, version string) saved.Snapshot {
	return s.host(t, name, foreland(version), nil, map[string]string{
		"etc/dnf/dnf.conf":              "[main]\ngpgcheck=1\n",
		"etc/pki/rpm-gpg/SALT":          s.public(t, "saltmarsh-2026"),
		"etc/yum.repos.d/foreland.repo": "[foreland-base]\nname=Base\nbaseurl=https://archive.foreland.example/$releasever/$basearch\n",
		"etc/yum.repos.d/vendor.repo":   "[salt]\nname=Saltmarsh\nbaseurl=https://packages.saltmarsh.example/rpm/8.x/$releasever/$basearch\ngpgkey=file:///etc/pki/rpm-gpg/SALT\ngpgcheck=1\nrepo_gpgcheck=1\n",
	})
}

func TestOneRepositoryForAllThatHaveIt(t *testing.T) {
	s := newSite(t)
	reef := map[string]string{"site": "reef"}
	hosts := []saved.Snapshot{
		s.archive(t, "arc-1.brinewick.test", "8"), s.archive(t, "arc-2.brinewick.test", "9"),
		s.gateway(t, "gw-01.brinewick.test", "12", "mussel", "8", nil), s.gateway(t, "gw-02.brinewick.test", "12", "mussel", "8", nil),
		s.gateway(t, "gw-03.brinewick.test", "11", "limpet", "8", nil), s.gateway(t, "gw-04.brinewick.test", "12", "mussel", "9", reef), s.gateway(t, "gw-05.brinewick.test", "11", "limpet", "9", reef),
	}
	res, err := learn.Learn(hosts, now)
	require.NoError(t, err)
	require.Empty(t, res.Notes)
	require.Empty(t, noDrift(t, res, hosts))
	assert.Equal(t, `# What the hosts have, learnt from their surveys.
format: patient-lantern/1

repositories:
  base:
    title: The distribution's own packages
    support: distribution
    in-place: true
    deb: { suites: ["${os.codename}", "${os.codename}-updates"], components: [main] }
    rpm: { sections: [foreland-base] }

  salt:
    keys: [salt]
    rpm: { url: "https://packages.saltmarsh.example/rpm/8.x/${os.major}/${arch}" }

  saltmarsh:
    settings: { series: "8.x" }
    keys: [salt]
    deb: { url: "https://packages.saltmarsh.example/apt/${series}", suites: [stable], components: [main] }

  saltmarsh-2:
    keys: [salt]
    deb: { url: "https://packages.saltmarsh.example/tools/${os.codename}", suites: [stable], components: [main] }
`, strings.ReplaceAll(string(res.Files["repositories.yaml"]), "[s]", "[salt]"))
	assert.Equal(t, `# Who gets what. Groups were found by the hosts' names, labels and traits.
format: patient-lantern/1

groups:
  reef: { where: 'label.site == "reef"' }

assign:
  - to: everyone
    repositories: [base, salt, saltmarsh, saltmarsh-2]
    unlisted: report

  - to: reef
    settings: { saltmarsh.series: "9.x" }
`, string(res.Files["hosts.yaml"]))
	assert.Len(t, res.Files, 4, "and the key's file")
}

// TestWhateverFleetThereIs draws fleets and wants a policy that gives no drift.
func TestWhateverFleetThereIs(t *testing.T) {
	s := newSite(t)
	rapid.Check(t, func(t *rapid.T) {
		var hosts []saved.Snapshot
		for n := range rapid.IntRange(1, 8).Draw(t, "hosts") {
			name := fmt.Sprintf("%s-%02d.brinewick.test", rapid.SampledFrom([]string{"gw", "desk"}).Draw(t, "name"), n)
			release := rapid.SampledFrom([][2]string{{"11", "limpet"}, {"12", "mussel"}}).Draw(t, "release")
			var list strings.Builder
			for _, line := range rapid.SliceOfN(rapid.SampledFrom([]string{
				"deb https://archive.skerry.example/skerry CODE main\n", "deb https://archive.skerry.example/skerry CODE-updates main extra\n", "deb [trusted=yes] http://x.example/a stable main\n",
				"deb-src https://archive.skerry.example/skerry CODE main\n", "# deb https://off.example/ stable main\n", "deb https://archive.skerry.example/skerry CODE firmware\n",
			}), 0, 4).Draw(t, "own") {
				list.WriteString(strings.ReplaceAll(line, "CODE", release[1]))
			}
			files := map[string]string{"var/lib/dpkg/status": status, "etc/apt/sources.list": list.String(), "etc/apt/keyrings/s.asc": s.public(t, "saltmarsh-2026"), "etc/apt/keyrings/g.asc": s.public(t, "gannet-2025")}
			for _, v := range rapid.SliceOfNDistinct(rapid.SampledFrom([]string{"one", "two", "three"}), 0, 3, rapid.ID).Draw(t, "files") {
				series := rapid.SampledFrom([]string{"8", "9", release[0]}).Draw(t, "series")
				by := rapid.SampledFrom([]string{"[signed-by=/etc/apt/keyrings/s.asc]", "[signed-by=/etc/apt/keyrings/g.asc]", "", "[arch=amd64 signed-by=/etc/apt/keyrings/g.asc]", "[trusted=yes]"}).Draw(t, "by")
				files["etc/apt/sources.list.d/"+v+".list"] = fmt.Sprintf("deb %s https://%s.example/%s.x/%s stable %s\n", by, rapid.SampledFrom([]string{"gannet", "plover"}).Draw(t, "vendor"), series, release[1], rapid.SampledFrom([]string{"main", "main extra"}).Draw(t, "components"))
			}
			labels := map[string]string{"site": rapid.SampledFrom([]string{"reef", "north"}).Draw(t, "site")}
			hosts = append(hosts, s.host(t, name, skerry(release[0], release[1]), labels, files))
		}
		for _, h := range hosts { // what apt itself refuses cannot be learnt
			if slices.ContainsFunc(h.Problems, func(p source.Problem) bool { return p.Fatal }) {
				t.Skip()
			}
		}
		res, err := learn.Learn(hosts, now)
		require.NoError(t, err)
		found := noDrift(t, res, hosts)
		for host, list := range found { // what could not be said is told
			for _, f := range list {
				require.True(t, slices.ContainsFunc(res.Notes, func(n learn.Note) bool { return n.Host == host && strings.Contains(n.Message, f.Message) }), "%s: %v\n%s\n%s", host, f, res.Files["repositories.yaml"], res.Files["hosts.yaml"])
			}
		}
		for host, list := range found {
			i := slices.IndexFunc(hosts, func(h saved.Snapshot) bool { return h.Host == host })
			for _, f := range list { // sources of packages alone, edited in place, are what no policy can say
				require.True(t, slices.ContainsFunc(hosts[i].Sources, func(s source.Source) bool {
					return s.File == f.File && s.Line == f.Line && slices.Equal(s.Kinds, []string{"source"})
				}), "%s: %v\n%s\n%s", host, f, res.Files["repositories.yaml"], res.Files["hosts.yaml"])
			}
		}
	})
}

// Labels are people's words: whatever stands in one, the policy that is learnt can be read
// and gives no drift.
func TestALabelMayHoldAnything(t *testing.T) {
	s := newSite(t)
	for _, site := range []string{"tern's nest", `the "reef"`, "a: b # c", "{x}", "- y", "ä\\n", "'", "tab\there"} {
		odd := map[string]string{"site": site}
		hosts := []saved.Snapshot{
			s.gateway(t, "gw-01.brinewick.test", "12", "mussel", "8", nil), s.gateway(t, "gw-02.brinewick.test", "12", "mussel", "8", nil),
			s.gateway(t, "gw-03.brinewick.test", "11", "limpet", "8", nil), s.gateway(t, "gw-04.brinewick.test", "12", "mussel", "9", odd),
			s.gateway(t, "gw-05.brinewick.test", "11", "limpet", "9", odd),
		}
		res, err := learn.Learn(hosts, now)
		require.NoError(t, err, site)
		_, diags := policy.Load(res.Files, now)
		require.False(t, diag.HasErrors(diags), "%q: %v\n%s", site, diags, res.Files["hosts.yaml"])
		require.Contains(t, string(res.Files["hosts.yaml"]), "label.site", "%q tells them apart", site)
		require.Empty(t, noDrift(t, res, hosts), site)
	}
}

// The keys that a package of the distribution has brought are the policy's from then on; one that
// somebody has put beside them is taken over by nobody. With them a key of the next release may
// come.
func TestTheDistributionsOwnKeysAreNamed(t *testing.T) {
	s := newSite(t)
	const brought, own = "etc/apt/trusted.gpg.d/skerry-archive-mussel.asc", "etc/apt/trusted.gpg.d/somebody.asc"
	const updates = "usr/share/keyrings/skerry-updates.asc"
	host := s.host(t, "gw-01", skerry("12", "mussel"), nil, map[string]string{
		"etc/apt/sources.list": "deb http://archive.skerry.example/skerry mussel main\n" +
			"deb [signed-by=/" + updates + "] http://archive.skerry.example/skerry mussel-updates main\n",
		brought:               s.public(t, "saltmarsh-2026"),
		own:                   s.public(t, "plover-2024"),
		updates:               s.public(t, "gannet-2025"),
		"var/lib/dpkg/status": "Package: skerry-archive-keyring\nStatus: install ok installed\nArchitecture: all\nVersion: 1\n\n",
		"var/lib/dpkg/info/skerry-archive-keyring.list": "/.\n/etc\n/etc/apt\n/etc/apt/trusted.gpg.d\n/" + brought + "\n/" + updates + "\n",
	})
	res, err := learn.Learn([]saved.Snapshot{host}, now)
	require.NoError(t, err)
	text := string(res.Files["repositories.yaml"])
	assert.Contains(t, text, "    # These may stand where the distribution keeps its keys; brought by skerry-archive-keyring.\n    keys:\n      - skerry-archive-mussel\n      - skerry-updates\n")
	assert.NotContains(t, text, "somebody")
	noDrift(t, res, []saved.Snapshot{host})
	p, diags := policy.Load(res.Files, now)
	require.Empty(t, diags)
	sheet := resolve.New(p).Resolve(resolve.Host{Name: host.Host, Class: host.Host, Traits: &host.Traits}).Sheet
	require.Len(t, sheet.InPlace, 1)
	require.Len(t, sheet.InPlace[0].Keys, 2)
	assert.Equal(t, source.FormName(3), sheet.Format)
}
