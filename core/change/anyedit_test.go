package change_test

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/survey"
	"patientlantern.example/lantern/core/verdict"
	"patientlantern.example/lantern/internal/cell"
)

// typed is what somebody may write into a file of sources or settings, whether or not it belongs there.
var typed = []string{
	"deb http://elsewhere.example/x y z", "deb [trusted=yes] http://elsewhere.example/x y z", "Trusted: yes", "Enabled: no",
	"URIs: http://elsewhere.example/", "Suites: x", "", "# a comment", "enabled=0", "enabled=1", "gpgcheck=0", "sslverify=0",
	"baseurl=http://elsewhere.example/", "[reed]", "[saltmarsh]", "priority=5", "exclude=tern", "SigLevel = Never",
	"Server = http://elsewhere.example/x", "Include = /etc/pacman.d/x", "gpg-verify=false", "url=http://elsewhere.example",
	"Signed-By: /etc/apt/keyrings/plover.asc", "Pin-Priority: 1001", "Package: *", "proxy=http://p.example:1",
	"mirrorlist=http://elsewhere.example/", "cost=1", "Allow-Insecure: yes", "Architectures: i386", "metalink=http://e.example/",
	"includepkgs=reed", "APT::Get::AllowUnauthenticated \"true\";", "IgnorePkg = sedge", "Acquire::https::Verify-Peer \"false\";",
}

// edit draws one edit of one line.
func edit(rt *rapid.T, text string) (string, string) {
	lines := strings.SplitAfter(text, "\n")
	k := rapid.IntRange(0, len(lines)-1).Draw(rt, "line")
	was := strings.TrimSpace(lines[k])
	switch rapid.IntRange(0, 6).Draw(rt, "kind") {
	case 0:
		return strings.Join(slices.Delete(lines, k, k+1), ""), "takes out " + was
	case 1:
		return strings.Join(slices.Insert(lines, k, lines[k]), ""), "writes twice " + was
	case 2:
		if k+1 < len(lines) {
			lines[k], lines[k+1] = lines[k+1], lines[k]
		}
		return strings.Join(lines, ""), "moves down " + was
	case 3:
		lines[k] = "#" + lines[k]
		return strings.Join(lines, ""), "comments out " + was
	case 4:
		if words := strings.Fields(lines[k]); len(words) > 0 {
			w := rapid.SampledFrom(words).Draw(rt, "word")
			by := rapid.SampledFrom([]string{"x", "yes", "no", "0", "1", "main", "http://elsewhere.example/x"}).Draw(rt, "by")
			lines[k] = strings.Replace(lines[k], w, by, 1)
			return strings.Join(lines, ""), fmt.Sprintf("writes %s for %s in %s", by, w, was)
		}
	case 5:
		if at := strings.IndexAny(lines[k], "=: "); at > 0 { // another case, for part of what is in front
			from := rapid.IntRange(0, at-1).Draw(rt, "from")
			lines[k] = lines[k][:from] + strings.ToUpper(lines[k][from:at]) + lines[k][at:]
			return strings.Join(lines, ""), "writes in capitals " + lines[k]
		}
	}
	v := rapid.SampledFrom(typed).Draw(rt, "typed")
	return strings.Join(slices.Insert(lines, k, v+"\n"), ""), fmt.Sprintf("writes %s above %s", v, was)
}

// newFiles are where somebody may put a new file, and what may stand in it.
var newFiles = []string{
	"etc/apt/sources.list.d/a.list", "etc/apt/sources.list.d/z.sources", "etc/apt/preferences.d/a", "etc/apt/apt.conf.d/00a",
	"etc/apt/apt.conf.d/99z", "etc/yum.repos.d/a.repo", "etc/yum.repos.d/z.repo", "etc/distro.repos.d/a.repo", "etc/dnf/vars/releasever",
	"etc/dnf/vars/x", "etc/yum/vars/basearch", "etc/zypp/repos.d/a.repo", "etc/zypp/repos.d/z.repo", "etc/zypp/services.d/a.service",
	"etc/zypp/vars.d/releasever", "etc/pacman.d/a.conf", "etc/pacman.d/hooks/a.hook", "etc/flatpak/remotes.d/a.flatpakrepo",
	"etc/dpkg/dpkg.cfg.d/a", "etc/rpm/macros.a", "etc/zypp/vendors.d/a.conf", "etc/dnf/plugins/a.conf", "etc/yum.conf",
	"etc/dnf/repos.override.d/a.repo", "etc/dnf/libdnf5.conf.d/a.conf",
}

// of are those that a package manager may look at.
func of(family string) []string {
	begins := map[string][]string{
		source.FamilyDeb: {"etc/apt", "etc/dpkg"}, source.FamilyRpm: {"etc/yum", "etc/d", "etc/rpm"}, source.FamilyZypp: {"etc/zypp", "etc/rpm"},
		source.FamilyArch: {"etc/pacman"},
	}[family]
	return slices.DeleteFunc(slices.Clone(newFiles), func(f string) bool {
		return !slices.ContainsFunc(begins, func(b string) bool {
			return strings.HasPrefix(f, b) && !strings.HasPrefix(f, "etc/dpkg") || family == source.FamilyDeb && strings.HasPrefix(f, b)
		})
	})
}

var newTexts = []string{
	"deb http://elsewhere.example/x y z\n", "deb [trusted=yes] https://packages.saltmarsh.example/apt/8.x stable main\n",
	"Types: deb\nURIs: http://elsewhere.example/x\nSuites: y\nComponents: z\nTrusted: yes\n",
	"Types: deb\nURIs: https://packages.saltmarsh.example/apt/8.x\nSuites: stable\nComponents: main\n",
	"Package: *\nPin: origin elsewhere.example\nPin-Priority: 1001\n", "Acquire::AllowInsecureRepositories \"true\";\n",
	"Dir::Etc::sourceparts \"/srv/sources\";\n", "Dir::Etc::sourcelist \"/srv/list\";\n", "APT::Default-Release \"limpet\";\n",
	"Acquire::http::Proxy::packages.saltmarsh.example \"http://p.example:1\";\n",
	"[saltmarsh]\nname=x\nbaseurl=http://elsewhere.example/x\nenabled=1\ngpgcheck=0\n",
	"[base]\nname=x\nbaseurl=http://elsewhere.example/x\nenabled=1\ngpgcheck=0\n",
	"[oss]\nname=x\nbaseurl=http://elsewhere.example/x\nenabled=1\ngpgcheck=0\n",
	"[reed]\nname=x\nbaseurl=http://elsewhere.example/x\nenabled=1\ngpgcheck=1\n", "[main]\nreposdir=/srv/repos\n", "8\n", "x\n", "",
	"[reed]\nurl=http://elsewhere.example/service\nenabled=1\n", "[Trigger]\nType = Package\nOperation = Install\nTarget = *\n\n[Action]\nWhen = PreTransaction\nExec = /bin/x\n",
	"[*]\ngpgcheck=0\n", "[salt*]\nbaseurl=http://elsewhere.example/x\n", "[main]\ngpgcheck=0\nsslverify=0\n",
	"[Flatpak Repo]\nTitle=x\nUrl=http://elsewhere.example/x\n", "force-unsafe-io\nno-debsig\n", "%_pkgverify_level none\n", "[main]\nvendors = elsewhere,saltmarsh\n",
}

// meaning is what a host's configuration comes to: where packages come from, what is believed,
// what is kept.
func meaning(r *survey.Result) []string {
	set := func(list []string) string {
		list = slices.Clone(list)
		slices.Sort(list)
		return strings.Join(slices.Compact(list), " ")
	}
	var out []string
	s := &r.Survey
	for i := range s.Sources {
		x := &s.Sources[i]
		if !x.Enabled {
			continue
		}
		priority := 0
		if x.Priority != nil {
			priority = *x.Priority
		}
		keys := set(verdict.Fingerprints(s, x))
		for _, u := range append([]string{x.Mirrorlist + x.Metalink}, x.EffURLs...) {
			for _, suite := range append([]string{""}, x.EffSuites...) {
				if len(x.EffSuites) > 0 && suite == "" {
					continue
				}
				out = append(out, fmt.Sprint("source ", x.Family, x.ID, strings.TrimRight(u, "/"), suite, set(x.Components), set(x.Kinds),
					set(x.EffArchs), keys, x.Checks.Metadata, x.Checks.Packages, priority, x.Weakened(nil)))
			}
		}
	}
	for _, t := range s.Settings {
		if !source.OptionKeeps(t.Name) && !t.Usual() {
			out = append(out, "setting "+t.Family+" "+strings.ToLower(t.Name)+" "+t.Value)
		}
	}
	for _, p := range s.Pins {
		out = append(out, fmt.Sprint("pin ", p.Packages, p.Pin, p.Priority, p.Valid))
	}
	for _, h := range s.Holds {
		if h.Source != "" && !slices.ContainsFunc(s.Sources, func(x source.Source) bool { return x.Enabled && x.ID == h.Source }) {
			continue // of a source that gives nothing
		}
		out = append(out, fmt.Sprint("hold ", h.Family, h.Kind, h.What, h.Source))
	}
	for _, p := range s.Problems {
		if p.Fatal {
			out = append(out, "refused by "+p.Family)
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// TestAnyEditIsFound draws edits of single lines, sensible and not, in any file of a host: what
// makes packages come from elsewhere, or be believed or kept otherwise, is found; a package
// manager that gives up is one finding, and not one for each thing that is not there because of
// it; and healing puts it back.
func TestAnyEditIsFound(t *testing.T) {
	for name, p := range map[string]place{
		"apt": debPlace(), "dnf": rpmPlace(), "dnf 5": five(rpmPlace()), "zypper": zyppPlace(t), "pacman": archPlace(), "flatpak": flatpakPlace(),
	} {
		t.Run(name, func(t *testing.T) { anyEdit(t, p.carried(t)) })
	}
}

// five is a place where dnf is dnf 5, and something is laid over its repositories.
func five(p place) place {
	p.files["usr/bin/dnf5"] = ""
	p.files["etc/dnf/repos.override.d/50-local.repo"] = "[base]\ncost=900\n"
	p.files["etc/dnf/libdnf5.conf.d/50-local.conf"] = "[main]\nskip_if_unavailable=1\n"
	return p
}

func anyEdit(t *testing.T, p place) {
	before := look(p.files, p.modes, p.sheet)
	anyEditSince(t, p, &drift.Base{Sheet: p.sheet, Survey: &before.Survey}, before.Texts)
}

// anyEditSince is anyEdit for a place that was another when the policy came.
func anyEditSince(t *testing.T, p place, base *drift.Base, stood map[string][]byte) {
	before := look(p.files, p.modes, p.sheet)
	usual := map[string]bool{}
	for _, f := range drift.Judge(drift.Input{Sheet: p.sheet, Before: p.sheet, Survey: &before.Survey, Base: base}) {
		usual[f.Key()] = true
	}
	was := meaning(&before)
	var files []string
	for f, text := range p.files {
		if strings.HasPrefix(f, "etc/") && f != "etc/os-release" && !strings.Contains(text, "BEGIN PGP") || strings.Contains(f, "flatpak") {
			files = append(files, f)
		}
	}
	slices.Sort(files)
	done, most := 0, cell.Rounds(20)
	rapid.Check(t, func(rt *rapid.T) {
		if done == most {
			return
		}
		file := rapid.SampledFrom(files).Draw(rt, "file")
		text, did := edit(rt, p.files[file])
		if rapid.IntRange(0, 4).Draw(rt, "new") == 0 {
			file = rapid.SampledFrom(of(p.sheet.Family)).Draw(rt, "new file")
			text = rapid.SampledFrom(newTexts).Draw(rt, "new text")
			did = "is new: " + text
		}
		now := place{files: maps.Clone(p.files), sheet: p.sheet, modes: p.modes}
		now.files[file] = text
		r := look(now.files, now.modes, now.sheet)
		is := meaning(&r)
		var found []drift.Finding
		refused := 0
		for _, f := range drift.Judge(drift.Input{Sheet: p.sheet, Before: p.sheet, Survey: &r.Survey, Base: base}) {
			if usual[f.Key()] {
				continue
			}
			found = append(found, f)
			require.NotEqual(rt, "not in the policy: ", f.Message)
			if f.Class == drift.Refused {
				refused++
			}
		}
		if !slices.Equal(was, is) {
			require.NotEmpty(rt, found, "%s: %s\nwas %v\nis  %v", file, did, was, is)
		}
		heals(rt, now, []string{file, did}, base, before, stood)
		if refused > 0 {
			require.LessOrEqual(rt, len(found), refused+2, "%s: %s\n%+v", file, did, found)
		}
		done++
	})
}
