package resolve_test

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/core/policy"
	"patientlantern.example/lantern/core/resolve"
	"patientlantern.example/lantern/core/source"
)

func foreland(version string) *source.Traits {
	return &source.Traits{OS: source.OS{ID: "foreland", IDLike: []string{"rhel", "fedora"}, Version: version}, Family: "rpm", Arch: "x86_64", Tools: map[string]string{}}
}

// files maps the files of a sheet to "on", or "off" for those that are kept off
// where they stand.
func files(s *source.Sheet) map[string]string {
	out := map[string]string{}
	for _, f := range s.Files {
		out[f.Path] = map[bool]string{true: "off", false: "on"}[f.IfThere]
	}
	return out
}

func TestFollowingAChoiceKeepsTheOthersOff(t *testing.T) {
	r := resolve.New(load(t, ""))
	two := r.Resolve(host("gw-01.brinewick.test", traits("12", "mussel", "2.6.1"), nil))
	require.Empty(t, two.Trouble)
	const dir = "/etc/apt/sources.list.d/"
	assert.Equal(t, map[string]string{
		dir + "gannet-open.sources": "on", dir + "gannet-open-storage.sources": "on", dir + "saltmarsh.sources": "on",
		dir + "gannet-licensed.sources": "off", dir + "gannet-licensed-storage.sources": "off",
	}, files(two.Sheet), "two files on Skerry 12")
	one := r.Resolve(host("gw-04.brinewick.test", traits("11", "limpet", "2.4.1"), nil))
	assert.Equal(t, map[string]string{dir + "gannet-open.sources": "on", dir + "saltmarsh.sources": "on", dir + "gannet-licensed.sources": "off"}, files(one.Sheet), "one on Skerry 11")
	for _, f := range two.Sheet.Files {
		if f.IfThere {
			assert.Contains(t, f.Text, "\nEnabled: no\n")
		}
	}
	assert.Empty(t, two.Sheet.Access)
	assert.Empty(t, two.Given().Needs)
	require.Len(t, two.Given().Follows, 1)
	f := two.Given().Follows[0]
	assert.Equal(t, "open", f.Choice)
	assert.True(t, f.Licensed)
	assert.Equal(t, "tide-ops", f.Decision.Author)
}

func TestALicensedChoiceNeedsAccess(t *testing.T) {
	r := resolve.New(load(t, ""))
	res := r.Resolve(host("arc-2.brinewick.test", foreland("9"), nil))
	require.Empty(t, res.Trouble)
	assert.Equal(t, []resolve.Needs{{Contract: "gannet", Account: "gannet", Opens: []string{"gannet-licensed"}, Group: "archives", Automatic: true}}, res.Given().Needs)
	require.Len(t, res.Sheet.Access, 1)
	a := res.Sheet.Access[0]
	assert.Equal(t, "client-certificate", a.Kind)
	assert.Equal(t, []source.AccessFile{{Path: "/etc/pki/lantern/gannet.crt", Mode: "0644", Form: "certificate"}, {Path: "/etc/pki/lantern/gannet.key", Mode: "0600", Form: "private-key"}}, a.Files)
	for _, s := range res.Sheet.Sources {
		assert.Equal(t, map[string]string{"gannet-licensed": "gannet"}[s.Repository], s.Contract, s.Repository)
	}
	text, err := source.Canonical(res.Sheet)
	require.NoError(t, err)
	assert.NotContains(t, string(text), "arc-2", "nothing in it is particular to one host")
}

func TestTwoRepositoriesOfOneAccountShareAFile(t *testing.T) {
	p := load(t, "")
	for _, a := range p.Assignments {
		if f, ok := a.Channels["gannet"]; ok {
			f.Choice.Value = "licensed"
			a.Channels["gannet"], a.Without = f, nil
		}
	}
	res := resolve.New(p).Resolve(host("gw-01.brinewick.test", traits("12", "mussel", "2.6.1"), nil))
	require.Len(t, res.Sheet.Access, 1)
	require.Len(t, res.Sheet.Access[0].Files, 1)
	assert.Equal(t, source.AccessFile{Path: "/etc/apt/auth.conf.d/lantern-gannet.conf", Mode: "0600", Form: "netrc",
		URLs: []string{"http://127.0.0.1:7801/apt.gannet.example/licensed", "http://127.0.0.1:7801/apt.gannet.example/licensed-storage"}}, res.Sheet.Access[0].Files[0])
	assert.False(t, res.Given().Needs[0].Automatic, "by hand where the policy says nothing")
}

func TestVariantsComeOnlyWhenAskedFor(t *testing.T) {
	p := load(t, "")
	desk := host("desk-1.brinewick.test", traits("12", "mussel", "2.6.1"), nil)
	on := func() (out []string) {
		for _, s := range resolve.New(p).Resolve(desk).Sheet.Sources {
			if s.Enabled {
				out = append(out, s.Repository)
			}
		}
		return out
	}
	assert.Equal(t, []string{"brinewick-shelf", "plover-rolling"}, on())
	for _, a := range p.Assignments {
		if f, ok := a.Channels["plover"]; ok && f.Choice.Value == "rolling" {
			f.Variants = append(f.Variants, f.Choice)
			f.Variants[0].Value = "debug"
			a.Channels["plover"] = f
		}
	}
	assert.Equal(t, []string{"brinewick-shelf", "plover-debug", "plover-rolling"}, on())
}

func TestALicensedRepositoryOfAChannelThatIsNotFollowedIsKnown(t *testing.T) {
	r := resolve.New(load(t, ""))
	res := r.Resolve(host("gw-01.brinewick.test", traits("12", "mussel", "2.6.1"), nil))
	require.Len(t, res.Sheet.Licensed, 1)
	assert.Equal(t, "plover-pinned", res.Sheet.Licensed[0].Repository)
	assert.Equal(t, "plover", res.Sheet.Licensed[0].Contract)
	assert.Empty(t, res.Given().Needs)
	for _, reason := range res.Reasons() {
		assert.NotEqual(t, "plover-pinned", reason.Repository)
	}
	survey := &source.Survey{Sources: []source.Source{{Family: "deb", File: "/etc/apt/sources.list.d/own.list", Line: 3, Enabled: true,
		EffURLs: []string{"http://127.0.0.1:7801/metrics.plover.example/pinned-1.44/"}, EffSuites: []string{"rolling"}, Checks: source.Checks{Metadata: "required"}}}}
	i := slices.IndexFunc(drift.Compare(res.Sheet, survey), func(f drift.Finding) bool { return f.Class == drift.NoSeat })
	require.GreaterOrEqual(t, i, 0)
	f := drift.Compare(res.Sheet, survey)[i]
	assert.Equal(t, "plover-pinned needs a seat in the contract plover, and the policy gives this host none, so each refresh fails with 401: let its group follow a choice of the channel, or switch it off", f.Message)
	assert.Equal(t, 3, f.Line)
}

func TestALoginInTheURLMustBeAskedForInCasesToo(t *testing.T) {
	p := load(t, "")
	for _, a := range p.Assignments {
		if f, ok := a.Channels["gannet"]; ok {
			f.Choice.Value = "licensed"
			a.Channels["gannet"], a.Without = f, nil
		}
	}
	model := resolve.Host{Name: "model-2.brinewick.test", Class: "m", Labels: map[string]string{"duty": "model"},
		Traits: &source.Traits{OS: source.OS{ID: "driftwood"}, Family: "arch", Arch: "x86_64", CPU: source.CPU{Level: 3}}}
	require.Empty(t, resolve.New(p).Resolve(model).Trouble)
	repo := p.Repositories["gannet-licensed"]
	place := *repo.Arch
	place.Access, repo.Arch = nil, nil
	repo.Cases = append(repo.Cases, policy.Case{Where: p.Groups["models"].Where, Definition: policy.Definition{Arch: &place}})
	trouble := resolve.New(p).Resolve(model).Trouble
	require.Len(t, trouble, 1)
	assert.Contains(t, trouble[0].String(), "say access: login-in-url to insist")
}

func TestTwoChoicesOfOneChannelAreTroubleUnlessOneStandsOver(t *testing.T) {
	p := load(t, "")
	all := p.Assignments[0]
	require.Equal(t, "everyone", all.To[0].Value)
	for _, a := range p.Assignments {
		if f, ok := a.Channels["gannet"]; ok && f.Choice.Value == "licensed" {
			all.Channels = map[string]policy.Follow{"gannet": f}
		}
	}
	gw := host("gw-01.brinewick.test", traits("12", "mussel", "2.6.1"), nil)
	res := resolve.New(p).Resolve(gw)
	require.Len(t, res.Trouble, 1)
	assert.Contains(t, res.Trouble[0].Message, `the channel gannet is "open" here and "licensed" elsewhere, for the host gw-01.brinewick.test`)
	assert.Len(t, res.Trouble[0].Also, 1, "both places are named")
	for _, a := range p.Assignments {
		if a != all {
			a.Over = all.To
		}
	}
	assert.Empty(t, resolve.New(p).Resolve(gw).Trouble)
}

func TestADnfUrlThatDnfWouldReadOtherwiseIsTrouble(t *testing.T) {
	p := load(t, "")
	p.Repositories["gannet-licensed"].Rpm.URL.Value = "https://rpm.gannet.example/$releasever/"
	res := resolve.New(p).Resolve(host("arc-2.brinewick.test", foreland("9"), nil))
	require.Len(t, res.Trouble, 1)
	assert.Contains(t, res.Trouble[0].String(), `which dnf would not take as it is; use ${os.major}, ${arch} and the like, which are filled in here`)
}

func TestTheReasonsTellOfChannels(t *testing.T) {
	res := resolve.New(load(t, "")).Resolve(host("gw-01.brinewick.test", traits("12", "mussel", "2.6.1"), nil))
	because := map[string]resolve.Reason{}
	for _, r := range res.Reasons() {
		because[r.Repository] = r
	}
	assert.Contains(t, because["gannet-open"].Because, "gateways follows open of the channel gannet")
	assert.False(t, because["gannet-open"].Left)
	assert.Contains(t, because["gannet-licensed"].Because, "kept off where it stands: gateways follows open of the channel gannet")
	assert.True(t, because["gannet-licensed"].Left)
	assert.Len(t, because["gannet-open"].At, 4, "the assignment, the choice, the repository, the case")
}
