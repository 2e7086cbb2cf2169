package policy_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/diag"
	"patientlantern.example/lantern/core/policy"
)

// both has two keys and a good policy.
const two = head + `keys:
  saltmarsh:
    file: keys/saltmarsh-2026.asc
    fingerprint: 3BFF 8224 5BEC AD4F 2FA4  8C0D 0019 5878 414C C58E
  gannet:
    file: keys/gannet-2025.asc
    fingerprint: DC3B 5F6F 0982 9689 A99A  91D6 5E99 6511 6CD5 2072
repositories:
  saltmarsh:
    keys: [saltmarsh]
    deb: { url: "https://packages.saltmarsh.example/apt/8.x", suites: [stable], components: [main] }
  gannet:
    keys: [gannet]
    deb: { url: "https://apt.gannet.example/open", suites: [stable], components: [main] }
groups:
  gateways: { hosts: ["gw-{01..12}.brinewick.test"] }
assign:
  - to: gateways
    repositories: [saltmarsh, gannet]
`

func TestTheLanguageSaysWhatIsWrong(t *testing.T) {
	for _, c := range []struct{ name, old, new, want string }{
		{"order in a circle", "    keys: [saltmarsh]", "    keys: [saltmarsh]\n    above: [saltmarsh]", `p.yaml:12:13: error[cycle]: the repository "saltmarsh" stands above "saltmarsh" and below it, by way of others; take one above: or below: out`},
		{"order of what there is not", "    keys: [saltmarsh]", "    keys: [saltmarsh]\n    above: [ganet]", `p.yaml:12:13: error[unknown-name]: there is no repository "ganet"; define it first; did you mean "gannet"?`},
		{"a url and mirrors", "suites: [stable], components: [main] }\n  gannet:", "mirrors: [\"https://m.example\"], suites: [stable], components: [main] }\n  gannet:", `p.yaml:12:73: error[value]: the repository "saltmarsh" has a url and mirrors; keep one of them`},
		{"no mirrors", "url: \"https://apt.gannet.example/open\"", "mirrors: []", `p.yaml:15:12: error[value]: the list of mirrors is empty; name at least one, or give url`},
		{"a mirror without a scheme", "url: \"https://apt.gannet.example/open\"", "mirrors: [apt.gannet.example]", `p.yaml:15:22: error[value]: the url "apt.gannet.example" has no scheme; write it as https://HOST/PATH`},
		{"a priority that is no number", "https://apt.gannet.example/open\",", "https://apt.gannet.example/open\", priority: high,", `p.yaml:15:62: error[value]: priority is "high"; it must be a whole number of at most four digits`},
		{"a pin of another kind", "https://apt.gannet.example/open\",", "https://apt.gannet.example/open\", pin: Gannet,", `p.yaml:15:57: error[value]: the pin is "Gannet"; write it as Pin: of preferences(5), such as release o=Saltmarsh`},
		{"a pin that is too wide", "https://apt.gannet.example/open\",", "https://apt.gannet.example/open\", pin: release o=*,", `p.yaml:15:57: warning[wide-trust]: the pin of "gannet" has a pattern, so it can put other repositories in order as well; write the value out: release o=…, n=…`},
		{"the distribution's keys are all withdrawn", "    keys: [gannet]\n    deb: { url: \"https://apt.gannet.example/open\", suites: [stable], components: [main] }", "    keys: [gannet, saltmarsh]\n    in-place: true\n    deb: { suites: [stable], components: [main] }\nwithdrawn:\n  gannet: { because: lost }\n  saltmarsh: { because: lost }", `p.yaml:18:3: warning[key-withdrawn]: every key of the repository "gannet" is withdrawn, and it stays on: hosts believe what their distribution has brought (also p.yaml:13:3); take the distribution's key away with the package that brings it, or switch the entries off with enabled: false`},
		{"sections elsewhere than in place", "    keys: [gannet]", "    keys: [gannet]\n    rpm: { url: https://rpm.gannet.example, sections: [a] }", `p.yaml:15:56: error[value]: the repository "gannet" names sections and is not edited in place; add: in-place: true, or drop sections`},
		{"in place without sections", "    keys: [gannet]", "    in-place: true\n    rpm: { url: https://rpm.gannet.example }", `p.yaml:15:5: error[missing]: the repository "gannet" is edited in place and does not say which sections are meant; add: sections: [NAME]`},
		{"in place with an order", "    keys: [gannet]", "    in-place: true\n    above: [saltmarsh]", `p.yaml:15:13: error[value]: the repository "gannet" is edited in place and keeps its place in the order; say above or below in the other repository`},
		{"in place with flatpak", "    keys: [gannet]", "    in-place: true\n    flatpak: { url: https://apps.gannet.example }", `p.yaml:15:5: error[value]: the repository "gannet" is edited in place, and flatpak has no entries of the distribution's own; drop in-place, or flatpak`},
		{"entries that come by a package and are written", "    keys: [gannet]", "    keys: [gannet]\n    rpm: { url: https://rpm.gannet.example, comes-by: gannet-release }", `p.yaml:15:55: error[value]: the entries of "gannet" come by a package, and the policy writes them as well; add: in-place: true, or say the package under needs`},
		{"entries that come by a command", "    keys: [gannet]", "    in-place: true\n    rpm: { sections: [gannet], comes-by: \"gannet-release; true\" }", `p.yaml:15:42: error[value]: comes-by is "gannet-release; true"; give the name of one package`},
		{"media without a path", "    keys: [gannet]", "    keys: [gannet]\n    media: { host: desk-1.brinewick.test }", `p.yaml:15:5: error[missing]: media needs the host that holds it and the path there; add: host: desk-1.brinewick.test, path: /srv/shelf`},
		{"media at a path that is none", "    keys: [gannet]", "    keys: [gannet]\n    media: { host: desk-1.brinewick.test, path: srv/shelf/ }", `p.yaml:15:49: error[value]: the path of the media is "srv/shelf/"; write it from the root, without blanks, commas or a slash at its end: /srv/shelf`},
		{"an amount of space", "    keys: [gannet]", "    keys: [gannet]\n    needs: { free: { /boot: 200 } }", `p.yaml:15:29: error[value]: the free space of "/boot" is "200"; write it as /boot: 200MiB`},
		{"a repository that is needed", "    keys: [gannet]", "    keys: [gannet]\n    needs: { repositories: [bse] }", `p.yaml:15:29: error[unknown-name]: there is no repository "bse"; define it first`},
		{"a witness without a package", "    keys: [gannet]", "    keys: [gannet]\n    witness: { at-least: 1 }", `p.yaml:15:5: error[missing]: the witness names no package; add: package: NAME`},
		{"a witness with a pattern", "    keys: [gannet]", "    keys: [gannet]\n    witness: { package: gannet-* }", `p.yaml:15:25: error[value]: package is "gannet-*"; write one word without blanks and patterns`},
		{"a notice", "groups:", "notice: { keys: soon }\ngroups:", `p.yaml:16:17: error[value]: the notice for keys is "soon"; write it as 60 days`},
		{"a key that succeeds nothing", "    file: keys/gannet-2025.asc", "    succeeds: saltmrash\n    file: keys/gannet-2025.asc", `p.yaml:7:15: error[unknown-name]: there is no key "saltmrash"; define it first; did you mean "saltmarsh"?`},
		{"a key that succeeds itself", "    file: keys/gannet-2025.asc", "    succeeds: gannet\n    file: keys/gannet-2025.asc", `p.yaml:7:15: error[cycle]: the key "gannet" succeeds itself by way of others; take one succeeds: out`},
		{"keys that have nothing to do with each other", "    keys: [gannet]", "    keys: [gannet, saltmarsh]", `p.yaml:14:12: warning[wide-trust]: the repository "gannet" trusts 2 keys that have nothing to do with each other: whoever has one of them can sign for it; keep the key that it is signed with; where one takes over from another, say so at the key: succeeds: NAME`},
		{"a reason for nothing", "    keys: [gannet]", "    keys: [gannet]\n    because: it is so", `p.yaml:13:3: warning[unused]: the repository "gannet" gives a reason, and no check of it is weakened; drop because, or say signatures: off`},
		{"the same place twice", "https://apt.gannet.example/open", "https://packages.saltmarsh.example/apt/8.x", `p.yaml:12:17: warning[url-twice]: the repository "saltmarsh" is the same place as "gannet" (also p.yaml:15:17); keep one of them, or give each its own url`},
		{"a setting that is a secret", "    keys: [gannet]", "    keys: [gannet]\n    settings: { api-token: abc }", `p.yaml:15:28: error[secret]: the setting "api-token" looks like a secret; take it out, and change it: accounts are the service's to keep (lantern account add)`},
		{"a setting that nobody uses", "    keys: [gannet]", "    keys: [gannet]\n    settings: { series: \"8\" }", `p.yaml:15:25: warning[unused]: nothing of the repository "gannet" uses its setting "series"; use it as ${series}, or take it out`},
		{"a group made of itself", "groups:", "groups:\n  a: { groups: [b] }\n  b: { groups: [a] }", `p.yaml:17:3: error[cycle]: the group "a" is made of itself by way of others; take it out of one of them`},
		{"a group without anything", "groups:", "groups:\n  a: { except: [gateways] }", `p.yaml:17:3: error[missing]: the group "a" says neither hosts nor where nor groups; add: hosts: ["gw-{01..12}.brinewick.test"]`},
		{"a group of what there is not", "groups:", "groups:\n  a: { groups: [gateway] }", `p.yaml:17:17: error[unknown-name]: there is no group "gateway"; define it first; did you mean "gateways"?`},
		{"an assignment to a range that is none", "to: gateways", "to: \"gw-{12..01}.brinewick.test\"", `p.yaml:19:9: error[range]: the range {12..01} in "gw-{12..01}.brinewick.test" is empty: it counts down; write it as gw-{01..12}.brinewick.test`},
		{"labels that contradict", "groups:", "labels:\n  a.test: { site: reef }\n  \"{a,b}.test\": { site: north }\ngroups:", `p.yaml:18:25: error[conflict]: the label site of a.test is "north" here and "reef" elsewhere (also p.yaml:17:19); keep one of them`},
		{"http without checks", "    keys: [gannet]\n    deb: { url: \"https:", "    signatures: off\n    because: an old one\n    deb: { url: \"http:", `p.yaml:16:17: warning[plain-transport]: the repository "gannet" comes over http without a signature check: anybody on the way can change it; use https, or check signatures`},
		{"a mirror by http without checks", "    keys: [gannet]\n    deb: { url: \"https://apt.gannet.example/open\",", "    signatures: off\n    because: an old one\n    deb: { mirrors: [\"http://m.gannet.example\"],", `p.yaml:16:22: warning[plain-transport]: the repository "gannet" comes over http without a signature check: anybody on the way can change it; use https, or check signatures`},
		{"what the policy only reports is to be healed", "    repositories: [saltmarsh, gannet]", "    repositories: [saltmarsh, gannet]\n    findings: { unlisted-source: heal }", `p.yaml:21:34: warning[heal-idle]: healing leaves sources that are not in the policy where the policy only reports them; say unlisted: switch-off, or leave this out`},
		{"what nothing heals is to be healed", "    repositories: [saltmarsh, gannet]", "    repositories: [saltmarsh, gannet]\n    findings: { no-seat: { do: heal } }", `p.yaml:21:32: warning[heal-idle]: healing does not close findings of "no-seat"; leave it out: such a finding says what closes it`},
		{"an unknown way of access", "    keys: [gannet]", "    keys: [gannet]\n    rpm: { url: https://rpm.gannet.example, access: card }", `p.yaml:15:53: error[value]: access is "card"; it must be one of login, client-certificate, token-url`},
	} {
		t.Run(c.name, func(t *testing.T) {
			require.Contains(t, two, c.old, "the test itself")
			_, diags := policy.Load(folder(t, map[string]string{"p.yaml": strings.Replace(two, c.old, c.new, 1)}), now)
			var all []string
			for _, d := range diags {
				all = append(all, d.String())
				assert.Equal(t, policy.Codes[d.Code].Severity, d.Severity, d.Code)
			}
			assert.Contains(t, all, c.want)
		})
	}
}

func TestHealingThatActsIsNotSpokenOf(t *testing.T) {
	for _, says := range []string{
		"unlisted: switch-off\n    findings: { unlisted-source: heal }",
		"findings: { changed-source: heal, unlisted-source: report, no-seat: { severity: note } }",
	} {
		text := strings.Replace(two, "    repositories: [saltmarsh, gannet]", "    repositories: [saltmarsh, gannet]\n    "+says, 1)
		_, diags := policy.Load(folder(t, map[string]string{"p.yaml": text}), now)
		for _, d := range diags {
			assert.NotEqual(t, "heal-idle", d.Code, says)
		}
	}
}

func TestKeysThatEndAreSpokenOfInTime(t *testing.T) {
	codes := func(at time.Time, text string) string {
		_, diags := policy.Load(folder(t, map[string]string{"p.yaml": text}), at)
		var out []string
		for _, d := range diags {
			out = append(out, d.String())
		}
		return strings.Join(out, "\n")
	}
	end := time.Date(2028, 1, 14, 0, 0, 0, 0, time.UTC) // of saltmarsh-2026
	assert.Empty(t, codes(end.AddDate(0, 0, -31), good))
	assert.Equal(t, `p.yaml:3:3: warning[key-ends]: the key "saltmarsh" ends on 2028-01-14; get the vendor's next key, or the same with a later end, and let it succeed this one`, codes(end.AddDate(0, 0, -29), good))
	longer := strings.Replace(good, "groups:", "notice: { keys: 90 days }\ngroups:", 1)
	assert.Contains(t, codes(end.AddDate(0, 0, -89), longer), "warning[key-ends]")
	assert.Empty(t, codes(end.AddDate(0, 0, -91), longer))
	next := strings.Replace(good, "repositories:\n  saltmarsh:", "  next: { file: keys/saltmarsh-2029.asc, fingerprint: 8D6D 581A 37A0 41F8 EFDB  FDBD 7BE4 EC10 F290 EC00, succeeds: saltmarsh }\nrepositories:\n  saltmarsh:", 1)
	assert.Empty(t, codes(end.AddDate(0, 0, -1), next), "another takes over")
	assert.Equal(t, `p.yaml:3:3: warning[key-ends]: the key "saltmarsh" ended on 2028-01-14, and "next" has taken over; take it out: lantern key retire saltmarsh FOLDER`, codes(end.AddDate(0, 0, 1), next))
}

func TestAWeakKeyIsSpokenOfUnlessThereIsAReason(t *testing.T) {
	home := t.TempDir()
	require.NoError(t, os.Chmod(home, 0o700))
	gpg := func(args ...string) []byte {
		cmd := exec.CommandContext(t.Context(), "gpg", append([]string{"--homedir", home, "--batch", "--no-tty", "--pinentry-mode", "loopback", "--passphrase", ""}, args...)...)
		out, err := cmd.Output()
		require.NoError(t, err)
		return out
	}
	defer exec.Command("gpgconf", "--homedir", home, "--kill", "all").Run()
	gpg("--quick-gen-key", "old@saltmarsh.example", "rsa1024", "sign", "never")
	var fpr string
	for line := range strings.Lines(string(gpg("--with-colons", "--list-keys"))) {
		if f := strings.Split(line, ":"); f[0] == "fpr" {
			fpr = f[9]
		}
	}
	f := folder(t, map[string]string{"p.yaml": strings.Replace(good, "3BFF 8224 5BEC AD4F 2FA4  8C0D 0019 5878 414C C58E", fpr, 1)})
	f["keys/saltmarsh-2026.asc"] = gpg("--armor", "--export")
	_, diags := policy.Load(f, time.Now())
	require.Len(t, diags, 1)
	assert.Equal(t, `p.yaml:3:3: warning[key-weak]: the key "saltmarsh" is weak: it is an RSA key of 1024 bits, and 2048 are the least; ask the vendor for a stronger one, or say why it is trusted all the same: because: "…"`, diags[0].String())
	f["p.yaml"] = []byte(strings.Replace(string(f["p.yaml"]), "    fingerprint:", "    because: the vendor has no other yet\n    fingerprint:", 1))
	_, diags = policy.Load(f, time.Now())
	assert.Empty(t, diags)
}

// TestWhatIsNoPolicyIsRefusedQuickly gives the loader what could make it work for ever.
func TestWhatIsNoPolicyIsRefusedQuickly(t *testing.T) {
	var bomb strings.Builder
	bomb.WriteString("a: &a [x,x,x,x,x,x,x,x,x]\n")
	for c := 'b'; c < 'k'; c++ {
		before := string(c - 1)
		bomb.WriteString(string(c) + ": &" + string(c) + " [" + strings.TrimSuffix(strings.Repeat("*"+before+",", 9), ",") + "]\n")
	}
	costly := "[" + strings.Repeat("1,", 200) + "1]"
	for name, c := range map[string]struct{ text, want string }{
		"a bomb of aliases":       {head + bomb.String(), "error[alias]: a policy does not use YAML's anchors and aliases"},
		"an anchor in itself":     {head + "groups: &g { a: *g }\n", "error[alias]: a policy does not use YAML's anchors and aliases"},
		"a merge of itself":       {head + "groups: &g\n  <<: *g\n", "error[alias]"},
		"UTF-16":                  {"\xff\xfef\x00o\x00r\x00m\x00a\x00t\x00", "error[encoding]: the file is not UTF-8 text"},
		"deep braces":             {head + "groups: " + strings.Repeat("{a: ", 5000), "error[syntax]: brackets are nested more than 32 deep"},
		"deep blocks":             {head + "groups:\n" + deep(3000), "error["},
		"a long expression":       {head + "groups: { a: { where: '" + strings.Repeat("!", 5000) + "true' } }\nassign: [{ to: a }]\n", "the expression is longer than 4096 bytes"},
		"nested brackets in CEL":  {head + "groups: { a: { where: '" + strings.Repeat("(", 1500) + "true" + strings.Repeat(")", 1500) + "' } }\nassign: [{ to: a }]\n", "error[expression]"},
		"a key of many megabytes": {head + strings.Repeat("k", 3<<20) + ": 1\n", "error[unknown-key]"},
		"a setting of itself":     {strings.Replace(good, `"8"`, `"${series}${series}"`, 1), ""},
		"costly but finite":       {head + "groups: { a: { where: '" + costly + ".all(x, " + costly + ".exists(y, x == y))' } }\nassign: [{ to: a }]\n", ""},
	} {
		begun := time.Now()
		_, diags := policy.Load(folder(t, map[string]string{"p.yaml": c.text}), now)
		assert.Less(t, time.Since(begun), 10*time.Second, name) // a guard against hanging, not a measure
		var all []string
		for _, d := range diags {
			all = append(all, d.String())
			assert.NotContains(t, d.String(), "\n", name)
			assert.Less(t, len(d.String()), 20_000, name)
		}
		if c.want != "" {
			assert.True(t, diag.HasErrors(diags), name)
			assert.Contains(t, strings.Join(all, " "), c.want, name)
		}
	}
}

func deep(n int) string {
	var b strings.Builder
	for i := range n {
		b.WriteString(strings.Repeat(" ", i+1) + "a:\n")
	}
	return b.String()
}

func TestAFolderThatLeadsRoundAndAFileOfHundredMegabytes(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "p.yaml"), []byte(good), 0o644))
	require.NoError(t, os.Symlink(dir, filepath.Join(dir, "round")))
	require.NoError(t, os.Symlink("p.yaml", filepath.Join(dir, "q.yaml")))
	f, diags := policy.Collect(os.DirFS(dir))
	assert.Len(t, diags, 2, "and that is said")
	assert.Len(t, f, 1, "links are not followed")
	require.NoError(t, os.Remove(filepath.Join(dir, "round")))
	require.NoError(t, os.Remove(filepath.Join(dir, "q.yaml")))
	big, err := os.Create(filepath.Join(dir, "big.yaml"))
	require.NoError(t, err)
	require.NoError(t, big.Truncate(100<<20))
	require.NoError(t, big.Close())
	_, diags = policy.Collect(os.DirFS(dir))
	require.Len(t, diags, 1)
	assert.Equal(t, "big.yaml: error[size]: the file has 104857600 bytes; a policy file may have 4 MiB, a folder 32 MiB; split it, or move what is no policy elsewhere", diags[0].String())
}
