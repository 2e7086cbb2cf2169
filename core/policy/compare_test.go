package policy_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/diag"
	"patientlantern.example/lantern/core/policy"
)

func loaded(t *testing.T, text string) *policy.Policy {
	t.Helper()
	p, diags := policy.Load(folder(t, map[string]string{"p.yaml": text}), now)
	require.False(t, diag.HasErrors(diags), "%v", diags)
	return p
}

func TestCompareSaysWhatChangedInMeaning(t *testing.T) {
	for _, c := range []struct{ name, old, new, want string }{
		{"nothing", "", "", ""},
		{"a comment and blanks", "keys: [saltmarsh]", "# the vendor's\n    keys:   [ saltmarsh ]", ""},
		{"the order of definitions", "suites: [stable], components: [main]", "components: [main], suites: [stable]", ""},
		{"a setting", `series: "8"`, `series: "9"`, `changed repository saltmarsh, setting series: "8" → "9"`},
		{"a list", "suites: [stable]", "suites: [stable, testing]", "changed repository saltmarsh, deb suites: [stable] → [stable, testing]"},
		{"hosts", "gw-{01..12}", "gw-{02..13}", "changed group gateways, hosts: gw-01.brinewick.test → gw-13.brinewick.test"},
		{"more hosts", "gw-{01..12}", "gw-{01..14}", "changed group gateways, hosts: now gw-13.brinewick.test, gw-14.brinewick.test"},
		{"a case", "groups:", "    cases: [{ where: 'os.major  >= 12', enabled: false }]\ngroups:", "changed repository saltmarsh, case 1 enabled: now false\nchanged repository saltmarsh, case 1 where: now os.major >= 12"},
		{"an order", "    repositories: [saltmarsh]", "    repositories: [saltmarsh]\n    unlisted: remove", "changed assignment to gateways, unlisted: now remove"},
		{"a group", "groups:", "groups:\n  reef: { where: 'label.site == \"reef\"' }", `added group reef`},
		{"a notice", "groups:", "notice: { keys: 60 days }\ngroups:", "added notice for keys"},
	} {
		t.Run(c.name, func(t *testing.T) {
			a, b := loaded(t, good), loaded(t, strings.Replace(good, c.old, c.new, 1))
			var got []string
			for _, d := range policy.Compare(a, b) {
				got = append(got, d.String())
			}
			assert.Equal(t, c.want, strings.Join(got, "\n"))
			back := policy.Compare(b, a)
			assert.Len(t, back, len(got), "and the other way round")
		})
	}
}
