package learn_test

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"patientlantern.example/lantern/core/change"
	"patientlantern.example/lantern/core/diag"
	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/core/learn"
	"patientlantern.example/lantern/core/policy"
	"patientlantern.example/lantern/core/resolve"
	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/saved"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/survey"
	"patientlantern.example/lantern/internal/cell"
)

// heir is a host of which a policy is learnt, with its files.
type heir struct {
	name   string
	labels map[string]string
	files  map[string]string
	result survey.Result
}

func (h *heir) read() {
	root := fstest.MapFS{"usr/bin/sh": {Data: []byte("x")}}
	for name, text := range h.files {
		root[name] = &fstest.MapFile{Data: []byte(text), Mode: 0o644}
	}
	h.result = survey.Read(rootfs.New(root), survey.Machine{Arch: "x86_64"})
	h.result.Masked()
	if h.result.Survey.Traits.Tools == nil {
		h.result.Survey.Traits.Tools = map[string]string{}
	}
	h.result.Survey.Traits.Tools["flatpak"] = "1.14.10"
}

func (h *heir) snapshot() saved.Snapshot {
	return saved.Of(h.name, h.labels, h.result.Survey, h.result.Masked())
}

// pieces are what readers, templates and YAML stumble over.
var pieces = []string{
	"#", ";", ":", "=", `"`, "'", `\`, "$", "${", "${x}", "$$", "$releasever", "$basearch", "$(ARCH)", "$repo", "$arch", "%", "%20", "%41", "@", "/", "//", "?a=b", "&", "+", ",", "[", "]", "{", "}",
	"*", "!", "|", "<", ">", "~", "é", "\u2028", "-", "_", "a", "Z", "7", ".", "..", "main", "true", "0", "012", "1e3", "8.x",
}

func oddly(rt *rapid.T, what string, plain ...string) string {
	text := rapid.SampledFrom(plain).Draw(rt, what)
	for range max(0, rapid.IntRange(-8, 2).Draw(rt, what+", odd")) {
		at := rapid.IntRange(min(strings.Index(text, "://")+12, len(text)), len(text)).Draw(rt, what+", at")
		text = text[:at] + rapid.SampledFrom(pieces).Draw(rt, what+", piece") + text[at:]
	}
	return text
}

const heirsPassword = "herring-In-Vinegar-9"

func oddURL(rt *rapid.T, what string) string {
	if rapid.IntRange(0, 7).Draw(rt, what+", with access") == 0 {
		return rapid.SampledFrom([]string{"https://tern:" + heirsPassword + "@gannet.example/x", "https://gannet.example/x?token=" + heirsPassword}).Draw(rt, what)
	}
	return oddly(rt, what, "https://packages.saltmarsh.example/apt/8.x", "https://packages.saltmarsh.example/apt/9.x", "http://127.0.0.1:7801/a/b/",
		"https://gannet.example/stable?repo=a-9", "file:///srv/shelf", "ftp://h.example/")
}

func (s site) oddHeir(rt *rapid.T, n int) *heir {
	d := func(what string) string { return fmt.Sprint(what, " ", n) }
	h := &heir{
		name:   fmt.Sprintf("%s-%02d%s", rapid.SampledFrom([]string{"gw", "desk", "12", "e_h"}).Draw(rt, d("name")), n, rapid.SampledFrom([]string{".brinewick.test", ""}).Draw(rt, d("domain"))),
		labels: map[string]string{"site": oddly(rt, d("site"), "reef", "north")},
		files:  map[string]string{},
	}
	version := rapid.SampledFrom([]string{"12", "9.4", "", "rolling", "08", "15.3"}).Draw(rt, d("version"))
	codename := rapid.SampledFrom([]string{"mussel", "limpet", "", "mussel/sid"}).Draw(rt, d("codename"))
	family := rapid.SampledFrom([]string{"deb", "rpm", "zypp", "arch"}).Draw(rt, d("family"))
	id := map[string]string{"deb": "skerry\nID_LIKE=debian", "rpm": "foreland\nID_LIKE=\"rhel fedora\"", "zypp": "halyard\nID_LIKE=\"suse\"", "arch": "driftwood\nID_LIKE=arch"}[family]
	h.files["etc/os-release"] = fmt.Sprintf("ID=%s\nVERSION_ID=%q\nVERSION_CODENAME=%q\n", id, version, codename)
	for _, k := range []string{"saltmarsh-2026", "gannet-2025"} {
		text, err := s.keys[k].Public()
		require.NoError(rt, err)
		h.files["etc/pki/rpm-gpg/"+k], h.files["etc/apt/keyrings/"+k+".asc"] = text, text
	}
	var text strings.Builder
	entries := rapid.IntRange(0, 3).Draw(rt, d("entries"))
	switch family {
	case "deb":
		h.files["var/lib/dpkg/status"] = status
		h.files["etc/apt/sources.list"] = strings.ReplaceAll("deb https://archive.skerry.example/skerry CODE main\n", "CODE", max(codename, "stable"))
		for i := range entries {
			e := fmt.Sprint(d("deb"), i)
			suites := rapid.SampledFrom([]string{"stable", "stable testing", "./", max(codename, "x") + "-tools"}).Draw(rt, e+"suites")
			fmt.Fprintf(&text, "Types: %s\nURIs: %s\nSuites: %s\n%s%s%s\n", rapid.SampledFrom([]string{"deb", "deb", "deb deb-src", "deb-src"}).Draw(rt, e+"types"), oddURL(rt, e), suites,
				map[bool]string{false: "Components: " + oddly(rt, e+"components", "main", "main extra") + "\n"}[suites == "./"],
				rapid.SampledFrom([]string{"Signed-By: /etc/apt/keyrings/saltmarsh-2026.asc\n", "Signed-By: /etc/apt/keyrings/gannet-2025.asc\n", "Signed-By: " + s.keys["gannet-2025"].Fingerprint() + "\n", "Trusted: yes\n", ""}).Draw(rt, e+"by"),
				rapid.SampledFrom([]string{"", "", "", "Architectures: amd64\n", "Enabled: no\n", "By-Hash: no\n", "Check-Valid-Until: no\n", "Languages: none\n"}).Draw(rt, e+"option"))
		}
		h.files["etc/apt/sources.list.d/"+rapid.SampledFrom([]string{"salt", "8", "a_b", "main"}).Draw(rt, d("file"))+".sources"] = text.String()
	case "rpm", "zypp":
		dir := map[string]string{"rpm": "etc/yum.repos.d/", "zypp": "etc/zypp/repos.d/"}[family]
		h.files[map[string]string{"rpm": "etc/dnf/dnf.conf", "zypp": "etc/zypp/zypp.conf"}[family]] = "[main]\n"
		h.files[dir+"own.repo"] = map[string]string{"rpm": "[foreland-base]\nname=Base\nbaseurl=https://archive.foreland.example/$releasever/$basearch\n", "zypp": "[halyard-oss]\nname=OSS\nbaseurl=https://archive.halyard.example/oss\n"}[family]
		for i := range entries {
			e := fmt.Sprint(d("repo"), i)
			fmt.Fprintf(&text, "[%s]\nname=%s\n%s%s%s%s\n", oddly(rt, e+"id", "salt", "gannet-tools", "9", "foreland-extra"), oddly(rt, e+"title", "Saltmarsh", "x"),
				rapid.SampledFrom([]string{"baseurl=" + oddURL(rt, e) + "\n", "baseurl=" + oddURL(rt, e+"one") + "\n  " + oddURL(rt, e+"two") + "\n", "mirrorlist=" + oddURL(rt, e+"list") + "\n", "metalink=" + oddURL(rt, e+"link") + "\n"}).Draw(rt, e+"from"),
				rapid.SampledFrom([]string{"gpgcheck=1\nrepo_gpgcheck=1\npkg_gpgcheck=1\n", "gpgcheck=1\nrepo_gpgcheck=1\npkg_gpgcheck=1\n", "gpgcheck=0\n", "gpgcheck=1\n", ""}).Draw(rt, e+"checks"),
				rapid.SampledFrom([]string{"gpgkey=file:///etc/pki/rpm-gpg/saltmarsh-2026\n", "gpgkey=file:///etc/pki/rpm-gpg/gannet-2025 file:///etc/pki/rpm-gpg/saltmarsh-2026\n", "gpgkey=https://gannet.example/key\n", ""}).Draw(rt, e+"by"),
				rapid.SampledFrom([]string{"", "", "", "priority=10\n", "cost=7\n", "enabled=0\n", "sslverify=0\n", "proxy=http://p.example:3128\n", "username=tern\npassword=" + heirsPassword + "\n", "exclude=x*\n", "autorefresh=1\n"}).Draw(rt, e+"option"))
		}
		h.files[dir+rapid.SampledFrom([]string{"salt", "8", "a_b"}).Draw(rt, d("file"))+".repo"] = text.String()
	case "arch":
		text.WriteString("[options]\nArchitecture = x86_64\n\n[core]\nServer = https://archive.driftwood.example/$repo/$arch\n")
		for i := range entries {
			e := fmt.Sprint(d("arch"), i)
			fmt.Fprintf(&text, "[%s]\n%sServer = %s\n", oddly(rt, e+"id", "salt", "gannet-tools", "9"), rapid.SampledFrom([]string{"", "SigLevel = Required\n", "SigLevel = Never\n", "Usage = Sync\n"}).Draw(rt, e+"level"), oddURL(rt, e))
		}
		h.files["etc/pacman.conf"] = text.String()
	}
	if rapid.IntRange(0, 3).Draw(rt, d("flatpak")) == 0 {
		h.files["var/lib/flatpak/repo/config"] = fmt.Sprintf("[core]\nrepo_version=1\nmode=bare-user-only\n\n[remote %q]\nurl=%s\n%s", oddly(rt, d("remote"), "salt", "desk"), oddURL(rt, d("flatpak url")),
			rapid.SampledFrom([]string{"gpg-verify=true\ngpg-verify-summary=true\n", "gpg-verify=false\n", "xa.prio=7\ngpg-verify=true\n", "xa.disable=true\n"}).Draw(rt, d("verify")))
	}
	h.read()
	return h
}

// places are what a host gets packages from, and whether anything is checked there.
func places(s *source.Survey) (out []string) {
	for i := range s.Sources {
		if x := &s.Sources[i]; x.Enabled {
			out = append(out, fmt.Sprint(x.Family, x.EffURLs, x.EffSuites, x.Mirrorlist, x.Metalink, x.Checks))
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// TestWhateverHostsHaveCanBeLearnt: of whatever hosts have a policy is learnt that our readers take, that finds on them nothing that was not
// told, that holds no login, and that changes nothing when it is rolled out.
func TestWhateverHostsHaveCanBeLearnt(t *testing.T) {
	s, drawn := newSite(t), 0
	rapid.Check(t, func(rt *rapid.T) {
		if drawn++; drawn > cell.Rounds(40) {
			return
		}
		heirs, hosts, story := s.oddFleet(rt)
		if len(hosts) == 0 {
			return
		}
		res, err := learn.Learn(hosts, now)
		require.NoError(rt, err, story)
		for name, text := range res.Files {
			require.NotContains(rt, string(text), heirsPassword, name)
			if strings.HasSuffix(name, ".yaml") {
				story += string(text) + "\n"
			}
		}
		require.NotContains(rt, fmt.Sprint(res.Notes), heirsPassword)
		found := noDrift(rt, res, hosts)
		for host, list := range found { // what could not be said is told
			for _, f := range list {
				require.True(rt, slices.ContainsFunc(res.Notes, func(n learn.Note) bool { return n.Host == host && strings.Contains(n.Message, f.Message) }), "%s: %v\n%s", host, f, story)
			}
		}
		p, _ := policy.Load(res.Files, now)
		for _, h := range heirs {
			h.follows(rt, p, len(found[h.name]) == 0, story)
		}
	})
}

// follows carries a policy to a host that it was learnt from. Nothing changes there but how things are written.
func (h *heir) follows(rt *rapid.T, p *policy.Policy, whole bool, story string) {
	was, access := places(&h.result.Survey), strings.Count(fmt.Sprint(h.files), heirsPassword)
	res := resolve.New(p).Resolve(resolve.Host{Name: h.name, Class: h.name, Labels: h.labels, Traits: &h.result.Survey.Traits})
	require.Empty(rt, res.Trouble, story)
	plan := change.Compute(change.Input{Sheet: res.Sheet, Survey: &h.result.Survey, Texts: h.result.Texts})
	require.Empty(rt, plan.Impossible, story)
	for _, e := range plan.Edits {
		if e.Action == change.Remove {
			delete(h.files, e.Path[1:])
		} else {
			h.files[e.Path[1:]] = string(e.New)
		}
	}
	h.read()
	require.Equal(rt, access, strings.Count(fmt.Sprint(h.files), heirsPassword), "%s: access is lost\n%s", h.name, story)
	if whole {
		require.Equal(rt, was, places(&h.result.Survey), "%s, %v\n%s", h.name, plan.Edits, story)
		require.Empty(rt, drift.Compare(res.Sheet, &h.result.Survey), "%s\n%s", h.name, story)
	}
}

// fleet draws hosts, and tells what they have.
func (s site) oddFleet(rt *rapid.T) (heirs []*heir, hosts []saved.Snapshot, story string) {
	for n := range rapid.IntRange(1, 4).Draw(rt, "hosts") {
		h := s.oddHeir(rt, n)
		if slices.ContainsFunc(h.result.Survey.Problems, func(p source.Problem) bool { return p.Fatal }) {
			continue // what the package manager refuses cannot be learnt
		}
		heirs, hosts = append(heirs, h), append(hosts, h.snapshot())
		story += fmt.Sprintf("%s %q\n", h.name, h.labels)
		for _, name := range slices.Sorted(maps.Keys(h.files)) {
			if !strings.Contains(h.files[name], "PGP") {
				story += fmt.Sprintf("  %s %q\n", name, h.files[name])
			}
		}
	}
	return heirs, hosts, story
}

// TestWhateverHostsHaveCanBeAdopted: a file that a policy does not list is taken into it, or it is said why not; with it the policy can be
// carried to every host, and changes none of the sources.
func TestWhateverHostsHaveCanBeAdopted(t *testing.T) {
	s, drawn, taken := newSite(t), 0, 0
	rapid.Check(t, func(rt *rapid.T) {
		if drawn++; drawn > cell.Rounds(30) {
			return
		}
		heirs, hosts, story := s.oddFleet(rt)
		folder := policy.Folder{"policy.yaml": []byte("format: patient-lantern/1\ngroups: { salt: { hosts: [gw-00] } }\nassign: [{ to: [everyone, salt], unlisted: report }]\n")}
		for _, h := range heirs {
			for i := range h.result.Survey.Sources {
				x := &h.result.Survey.Sources[i]
				if !x.Enabled {
					continue
				}
				at := learn.Place{File: x.File, Line: rapid.SampledFrom([]int{0, x.Line}).Draw(rt, "line")}
				res, err := learn.Adopt(folder, hosts, at, now)
				if err != nil {
					continue // and it says why
				}
				taken++
				with := maps.Clone(folder)
				for name, text := range res.Files {
					require.NotContains(rt, with, name)
					require.NotContains(rt, string(text), heirsPassword)
					with[name] = text
				}
				p, diags := policy.Load(with, now)
				require.False(rt, diag.HasErrors(diags), "%v\n%s", diags, story)
				tale := story + fmt.Sprintf("%s:%d\n%s", at.File, at.Line, slices.Collect(maps.Values(res.Files)))
				for _, h := range heirs {
					copied := *h
					copied.files = maps.Clone(h.files)
					copied.follows(rt, p, false, tale)
					require.Equal(rt, places(&h.result.Survey), places(&copied.result.Survey), tale)
				}
			}
		}
	})
	assert.Positive(t, taken)
}
