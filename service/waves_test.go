package service_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/client"
	"patientlantern.example/lantern/core/rollout"
	"patientlantern.example/lantern/datafolder"
	"patientlantern.example/lantern/internal/rig"
)

// played is for hosts that a test plays itself: they check in where it says so, and must not
// fall silent where the machine is slow.
func played(o *datafolder.Options) { o.Interval = 10 * time.Minute }

// gateways are hosts that the test plays itself, gw-01 first.
func gateways(t *testing.T, r *rig.Rig, count int) (out []*puppet) {
	t.Helper()
	for n := range count {
		p := newPuppet(t, r, fmt.Sprintf("gw-%02d.brinewick.test", n+1))
		p.surveyed("a")
		out = append(out, p)
	}
	return out
}

// does says that a host is at work, and then how that went.
func (p *puppet) does(id int64, state string) {
	p.t.Helper()
	// A wave is let begin in batches, behind what shows it: an agent reports once its task waits.
	p.r.Until("its task waits", func() bool { return p.surveyed("a").Work })
	require.Equal(p.t, http.StatusNoContent, p.post("/api/agent/reports", api.Report{Rollout: id, State: "working", Step: api.StepVerify}, nil))
	rep := api.Report{Rollout: id, State: state, Step: api.StepProve}
	if state == "failed" {
		rep.Step, rep.Message, rep.Undone = api.StepRefresh, p.name+" is refused by the vendor", true
	} else {
		d, err := p.r.Operator.Host(ctx, p.name)
		require.NoError(p.t, err)
		rep.Sheet, rep.Survey = p.delivered().Sheet, d.Document
	}
	require.Equal(p.t, http.StatusNoContent, p.post("/api/agent/reports", rep, nil))
}

// delivered is what waits for a host.
func (p *puppet) delivered() (d api.Delivery) {
	p.t.Helper()
	status, text := p.get("/api/agent/delivery")
	require.Equal(p.t, http.StatusOK, status, string(text))
	jws, err := jose.ParseSignedCompact(string(text), []jose.SignatureAlgorithm{jose.EdDSA})
	require.NoError(p.t, err)
	require.NoError(p.t, json.Unmarshal(jws.UnsafePayloadWithoutVerification(), &d))
	return d
}

func show(t *testing.T, r *rig.Rig, id int64) api.Rollout {
	t.Helper()
	ro, err := r.Operator.Rollout(ctx, id, client.List{PerPage: 1000})
	require.NoError(t, err)
	return ro
}

// comesTo waits until a rollout is at a phase.
func comesTo(t *testing.T, r *rig.Rig, id int64, phase rollout.Phase) (ro api.Rollout) {
	t.Helper()
	r.Until("the rollout is "+string(phase), func() bool {
		ro = show(t, r, id)
		return ro.Phase == phase
	})
	return ro
}

// builtIn says what holds where the policy says nothing.
const builtIn = "    waves:\n      - { hosts: 1 }\n      - { share: 10 % }\n"

// withPlan is the demo's policy with a plan for everyone.
func withPlan(t *testing.T, r *rig.Rig, text string) map[string][]byte {
	t.Helper()
	files := r.Policy()
	hosts := string(files["hosts.yaml"])
	require.Contains(t, hosts, "  careful:")
	files["hosts.yaml"] = []byte(hosts[:strings.Index(hosts, "plans:\n")] +
		strings.Replace(hosts[strings.Index(hosts, "assign:\n"):], "plan: careful", "plan: ours", 1))
	files["plans.yaml"] = []byte("format: patient-lantern/1\nplans:\n  ours:\n" + text)
	return files
}

// The first host fails: nobody else begins. Somebody lets that pass, and the next wave is
// judged by its own limits.
func TestTheFirstHostThatFailsHoldsTheRollout(t *testing.T) {
	t.Parallel()
	r := rig.New(t, played)
	all := gateways(t, r, 12)
	publish(t, r, withPlan(t, r, builtIn))
	tried, err := r.Operator.BeginRollout(ctx, api.RolloutOrder{Try: true})
	require.NoError(t, err)
	assert.Equal(t, []int{1, 2, 9}, []int{tried.Parts[0].Hosts, tried.Parts[1].Hosts, tried.Parts[2].Hosts})
	assert.Equal(t, []string{"gw-01.brinewick.test"}, tried.Parts[0].Names)
	page, err := r.Operator.Rollouts(ctx, client.List{})
	require.NoError(t, err)
	assert.Zero(t, page.Total, "nothing was begun")

	ro, err := r.Operator.BeginRollout(ctx, api.RolloutOrder{})
	require.NoError(t, err)
	assert.Equal(t, 1, ro.Counts[rollout.Waiting])
	assert.Equal(t, 11, ro.Counts[rollout.Queued])
	assert.False(t, all[1].surveyed("a").Work, "its wave has not come")
	assert.True(t, all[0].surveyed("a").Work)
	all[0].does(ro.ID, "failed")
	held := comesTo(t, r, ro.ID, rollout.Held)
	assert.Equal(t, "held: 1 of 1 host of wave 1 failed, and the limit is 5 %, which is 0", held.Says)
	require.Len(t, held.Causes, 1)
	assert.Equal(t, "this host is refused by the vendor", strings.ReplaceAll(held.Causes[0].Message, ".brinewick.test", ""))
	for _, p := range all[1:] {
		assert.False(t, p.surveyed("a").Work)
	}

	_, err = r.Operator.PullLever(ctx, ro.ID, client.LeverProceed, api.LeverOrder{Because: "its disk was full"})
	require.NoError(t, err)
	assert.Equal(t, 2, show(t, r, ro.ID).Wave)
	all[1].does(ro.ID, "done")
	all[2].does(ro.ID, "done")
	r.Until("the rest may begin", func() bool { return show(t, r, ro.ID).Wave == 3 })
	for _, p := range all[3:] {
		p.does(ro.ID, "done")
	}
	ended := r.Ended(ro.ID)
	assert.Equal(t, 11, ended.Counts[rollout.Done])
	assert.Equal(t, 1, ended.Counts[rollout.Failed])
}

// Hosts that have what a revision carries take no part, and are at that revision.
func TestOnlyHostsThatWouldChangeTakePart(t *testing.T) {
	t.Parallel()
	r := rig.New(t, played)
	all := gateways(t, r, 3)
	publish(t, r, withPlan(t, r, "    limits: { failed: none, silent: none }\n    waves: [{ rest: true }]\n"))
	ro, err := r.Operator.BeginRollout(ctx, api.RolloutOrder{To: []string{"gw-{01..02}.brinewick.test"}})
	require.NoError(t, err)
	assert.Equal(t, 2, ro.All())
	assert.Equal(t, 1, ro.Others)
	assert.False(t, all[2].surveyed("a").Work)
	_, err = r.Operator.BeginRollout(ctx, api.RolloutOrder{To: []string{"nowhere"}})
	require.ErrorContains(t, err, "still under way")
	all[0].does(ro.ID, "done")
	all[1].does(ro.ID, "failed")
	r.Ended(ro.ID)
	for _, bad := range []string{"nowhere", "gw-09", "gw-{01..99"} {
		_, err = r.Operator.BeginRollout(ctx, api.RolloutOrder{To: []string{bad}})
		require.Error(t, err, bad)
	}
	publish(t, r, withPlan(t, r, "    limits: { failed: 3, silent: none }\n    waves: [{ rest: true }]\n")) // no sheet is another
	again, err := r.Operator.BeginRollout(ctx, api.RolloutOrder{})
	require.NoError(t, err)
	// A puppet's survey lacks the files, so that it has drifted: it takes part. One that has
	// failed does, and one that nothing was carried to.
	assert.Equal(t, 3, again.All())
	assert.Zero(t, again.Counts[rollout.Unchanged])
	stopped, err := r.Operator.StopRollout(ctx, again.ID)
	require.NoError(t, err)
	assert.NotNil(t, stopped.Ended)
}

func TestConsentFreezeQuietHoursAndSkipping(t *testing.T) {
	t.Parallel()
	r := rig.New(t, played)
	all := gateways(t, r, 4)
	now := r.Clock.Now().UTC()
	from, until := now.Add(-time.Hour), now.Add(time.Hour)
	publish(t, r, withPlan(t, r, fmt.Sprintf(
		"    quiet: { from: \"%s\", until: \"%s\" }\n    limits: { silent: none }\n    waves: [{ hosts: 1, consent: true }, { rest: true }]\n",
		from.Format("15:04"), until.Format("15:04"))))
	ro, err := r.Operator.BeginRollout(ctx, api.RolloutOrder{})
	require.NoError(t, err)
	assert.Equal(t, rollout.Asking, ro.Phase)
	assert.Contains(t, ro.Says, "wave 1 of 2 waits for the consent of somebody else than first")
	_, err = r.Operator.PullLever(ctx, ro.ID, client.LeverConsent, api.LeverOrder{})
	require.ErrorContains(t, err, "whoever began it cannot agree")
	mira, err := r.Operator.AddOperator(ctx, api.OperatorOrder{Name: "mira", Role: "operator"})
	require.NoError(t, err)
	other := client.New(r.Server.URL, mira.Token)
	ro, err = other.PullLever(ctx, ro.ID, client.LeverConsent, api.LeverOrder{})
	require.NoError(t, err)
	assert.Equal(t, rollout.Changing, ro.Phase)
	assert.Contains(t, ro.Says, "1 host is in quiet hours")
	assert.False(t, all[0].surveyed("a").Work)

	// the next one is taken out before it begins, and stays out
	ro, err = r.Operator.PullLever(ctx, ro.ID, client.LeverSkip, api.LeverOrder{Host: "gw-04", Because: "is being moved"})
	require.NoError(t, err)
	assert.Equal(t, 1, ro.Counts[rollout.Skipped])

	// the quiet hours end, and somebody freezes the fleet
	f, err := r.Operator.Freeze(ctx, api.FreezeOrder{Until: now.Add(100 * time.Hour), Because: "year's end"})
	require.NoError(t, err)
	r.Clock.Forward(2 * time.Hour)
	r.Until("it says that it is frozen", func() bool { return strings.Contains(show(t, r, ro.ID).Says, "frozen until") })
	_, err = r.Operator.BeginRollout(ctx, api.RolloutOrder{})
	require.ErrorContains(t, err, "is still under way (")
	require.ErrorContains(t, err, "frozen until") // whoever waits for it is told what it waits for
	assert.False(t, all[0].surveyed("a").Work)
	_, err = r.Operator.Freeze(ctx, api.FreezeOrder{Until: now, Because: "too late"})
	require.ErrorContains(t, err, "that is past")
	_, err = r.Operator.Freeze(ctx, api.FreezeOrder{Group: "gatways", Until: now.Add(9 * time.Hour), Because: "mistyped"})
	require.ErrorContains(t, err, `there is no group "gatways"`)
	_, err = r.Operator.Thaw(ctx, f.ID)
	require.NoError(t, err)
	r.Until("it may begin", func() bool { return all[0].surveyed("a").Work })
	all[0].does(ro.ID, "done")
	r.Until("the rest may", func() bool { return show(t, r, ro.ID).Counts[rollout.Waiting] == 2 })
	all[1].does(ro.ID, "done")
	all[2].does(ro.ID, "done")
	ended := r.Ended(ro.ID)
	assert.Equal(t, 3, ended.Counts[rollout.Done])
	assert.Equal(t, 1, ended.Counts[rollout.Skipped])
	assert.False(t, all[3].surveyed("a").Work)
}

// What stands of a rollout when the service goes is where it goes on when it comes again.
func TestARolloutGoesOnWhereItStood(t *testing.T) {
	t.Parallel()
	r := rig.New(t, played)
	all := gateways(t, r, 12)
	publish(t, r, withPlan(t, r, builtIn))
	ro, err := r.Operator.BeginRollout(ctx, api.RolloutOrder{})
	require.NoError(t, err)
	all[0].does(ro.ID, "failed")
	held := comesTo(t, r, ro.ID, rollout.Held)
	r.Restart()
	assert.Equal(t, held.Says, show(t, r, ro.ID).Says)
	for _, p := range all[1:3] {
		assert.False(t, p.surveyed("b").Work)
	}
	_, err = r.Operator.PullLever(ctx, ro.ID, client.LeverProceed, api.LeverOrder{})
	require.NoError(t, err)
	assert.True(t, all[1].surveyed("b").Work)
}

// One that is held makes way for a newer one, and says so.
func TestANewerRolloutTakesOverFromOneThatIsHeld(t *testing.T) {
	t.Parallel()
	r := rig.New(t, played)
	all := gateways(t, r, 3)
	publish(t, r, withPlan(t, r, builtIn))
	ro, err := r.Operator.BeginRollout(ctx, api.RolloutOrder{})
	require.NoError(t, err)
	_, err = r.Operator.PullLever(ctx, ro.ID, client.LeverHold, api.LeverOrder{Because: "the vendor has an outage"})
	require.NoError(t, err)
	assert.Equal(t, "held by first: the vendor has an outage", show(t, r, ro.ID).Says)
	assert.False(t, all[0].surveyed("a").Work)
	_, err = r.Operator.PullLever(ctx, ro.ID, client.LeverHold, api.LeverOrder{})
	require.ErrorContains(t, err, "it is held already")
	publish(t, r, withPlan(t, r, builtIn+"      - { hosts: 7 }\n"))
	next, err := r.Operator.BeginRollout(ctx, api.RolloutOrder{})
	require.NoError(t, err)
	assert.Equal(t, ro.ID, next.TookOver)
	assert.NotNil(t, show(t, r, ro.ID).Stopped)
	assert.True(t, all[0].surveyed("a").Work)
	_, err = r.Operator.PullLever(ctx, ro.ID, client.LeverProceed, api.LeverOrder{})
	require.ErrorContains(t, err, "it is not held")
}

// tree is every file below a folder of a host with its mode, but for the agent's own and
// what package managers fetch.
func tree(t *testing.T, root string) map[string]string {
	t.Helper()
	out := map[string]string{}
	require.NoError(t, filepath.WalkDir(filepath.Join(root, "etc"), func(name string, d os.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if d.IsDir() && d.Name() == "gnupg" { // pacman's keyring is looked at by its keys
			out[strings.TrimPrefix(name, root)] = "a keyring"
			return filepath.SkipDir
		}
		info, err := os.Lstat(name)
		if err != nil {
			return err
		}
		text := info.Mode().String()
		if info.Mode().IsRegular() {
			b, err := os.ReadFile(name)
			if err != nil {
				return err
			}
			text += " " + info.ModTime().String() + " " + string(b)
		}
		out[strings.TrimPrefix(name, root)] = text
		return nil
	}))
	return out
}

// Hosts of all families have every byte again after a rollout was taken back, and the
// policy's again after that was taken back; what somebody wrote meanwhile is kept.
func TestARolloutIsTakenBackToTheByte(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	r.Accounts()
	roots := map[string]string{}
	before := map[string]map[string]string{}
	names := []string{"gw-01", "desk-1", "arc-2", "chart-2", "model-2", "desk-3"}
	for _, n := range names {
		roots[n] = r.Up(n)
		if n == "model-2" {
			_, err := r.Operator.Label(ctx, n, map[string]string{"duty": "model"})
			require.NoError(t, err)
		}
		before[n] = tree(t, roots[n])
	}
	r.Publish()
	ro := r.Carry()
	require.Zero(t, ro.Counts[rollout.Failed], "%+v", ro.Causes)
	after := map[string]map[string]string{}
	for _, n := range names {
		after[n] = tree(t, roots[n])
		assert.NotEqual(t, before[n], after[n], n)
	}
	edited := filepath.Join(roots["gw-01"], "etc/apt/sources.list.d/saltmarsh.sources")
	require.NoError(t, os.WriteFile(edited, []byte("# by hand\n"), 0o644))

	would, err := r.Operator.PullLever(ctx, ro.ID, client.LeverBackOut, api.LeverOrder{Try: true})
	require.NoError(t, err)
	assert.Equal(t, ro.Counts[rollout.Done], would.All())
	back, err := r.Operator.PullLever(ctx, ro.ID, client.LeverBackOut, api.LeverOrder{Because: "the witness lies"})
	require.NoError(t, err)
	ended := r.Ended(back.ID)
	require.Zero(t, ended.Counts[rollout.Failed], "%+v", ended.Causes)
	for _, n := range names {
		assert.Equal(t, before[n], tree(t, roots[n]), n)
		assert.Equal(t, api.StateNew, state(t, r, n), "nothing is carried to it any more")
	}
	i := slices.IndexFunc(ended.Hosts, func(h api.HostProgress) bool { return strings.HasPrefix(h.Host, "gw-01") })
	kept := ""
	for _, e := range ended.Hosts[i].Report.Edits {
		for _, why := range e.Why {
			if _, where, found := strings.Cut(why, "that is kept in "); found {
				kept = where
			}
		}
	}
	assert.Equal(t, "# by hand\n", read(t, kept), "what somebody wrote")

	// twice is refused, and the way back can be taken back
	_, err = r.Operator.PullLever(ctx, ro.ID, client.LeverBackOut, api.LeverOrder{})
	require.ErrorContains(t, err, "has changed no host that could be taken back")
	again, err := r.Operator.PullLever(ctx, back.ID, client.LeverBackOut, api.LeverOrder{})
	require.NoError(t, err)
	ended = r.Ended(again.ID)
	require.Zero(t, ended.Counts[rollout.Failed], "%+v", ended.Causes)
	assert.Equal(t, "# by hand\n", read(t, edited), "as it stood before it was taken back")
	is := tree(t, roots["arc-2"])
	for name, text := range after["arc-2"] {
		if !strings.HasPrefix(name, "/etc/pki/lantern/gannet.") { // access is had anew
			assert.Equal(t, text, is[name], name)
		}
	}
	assert.Equal(t, api.StateSteady, state(t, r, "arc-2"))
}

// Hosts that a rollout has changed, and that cannot be taken back, stand in the way back with
// the reason: whoever looks at it later sees what stayed.
func TestWhatCannotBeTakenBackStandsInTheWayBack(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	for _, n := range []string{"gw-01", "gw-02", "gw-05"} {
		r.Up(n)
	}
	publish(t, r, withPlan(t, r, builtIn))
	first := r.Carry()
	require.Equal(t, 3, first.Counts[rollout.Done], "%+v", first.Causes)
	files := withPlan(t, r, builtIn)
	const gateways = "  - to: gateways\n    repositories: [saltmarsh]\n"
	require.Contains(t, string(files["hosts.yaml"]), gateways)
	files["hosts.yaml"] = []byte(strings.Replace(string(files["hosts.yaml"]), gateways, gateways+"    settings: { saltmarsh.series: \"9\" }\n", 1))
	publish(t, r, files)
	second, err := r.Operator.BeginRollout(ctx, api.RolloutOrder{To: []string{"gw-02"}})
	require.NoError(t, err)
	require.Equal(t, 1, r.Ended(second.ID).Counts[rollout.Done])
	require.NoError(t, r.Operator.Retire(ctx, "gw-05"))

	would, err := r.Operator.PullLever(ctx, first.ID, client.LeverBackOut, api.LeverOrder{Try: true})
	require.NoError(t, err)
	assert.Equal(t, [2]int{1, 2}, [2]int{would.Counts[rollout.Queued], would.Counts[rollout.Skipped]})
	assert.Equal(t, []string{"gw-02.brinewick.test: changed since by rollout 2; take that back first", "gw-05.brinewick.test: retired"}, would.Unknown)
	back, err := r.Operator.PullLever(ctx, first.ID, client.LeverBackOut, api.LeverOrder{Because: "the witness lies"})
	require.NoError(t, err)
	ended := r.Ended(back.ID)
	assert.Equal(t, [3]int{1, 2, 3}, [3]int{ended.Counts[rollout.Done], ended.Counts[rollout.Skipped], ended.All()})
	page, err := r.Operator.Rollout(ctx, back.ID, client.List{Filter: map[string][]string{"state": {"skipped"}}})
	require.NoError(t, err)
	said := map[string]string{}
	for _, h := range page.Hosts {
		said[h.Host] = h.Report.Message
	}
	assert.Equal(t, map[string]string{
		"gw-02.brinewick.test": "not taken back: changed since by rollout 2; take that back first", "gw-05.brinewick.test": "not taken back: retired",
	}, said)
	h, err := r.Operator.Host(ctx, "gw-02")
	require.NoError(t, err)
	assert.EqualValues(t, 2, h.Revision, "it is at what the newer one brought")
}

// Hosts that have sent no survey are no silence in a rollout: they stand in it as passed over, and
// where it is for a group, as hosts of which it is not known whether they are meant.
func TestHostsWithoutASurveyStandInTheRollout(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	r.Up("gw-01")
	newPuppet(t, r, "gw-07.brinewick.test")
	publish(t, r, withPlan(t, r, builtIn))

	would, err := r.Operator.BeginRollout(ctx, api.RolloutOrder{Try: true})
	require.NoError(t, err)
	assert.Equal(t, [2]int{1, 1}, [2]int{would.Counts[rollout.Queued], would.Counts[rollout.Skipped]})
	some, err := r.Operator.BeginRollout(ctx, api.RolloutOrder{Try: true, To: []string{"gateways"}})
	require.NoError(t, err)
	assert.Equal(t, [2]int{0, 1}, [2]int{some.Counts[rollout.Skipped], some.Unsure})
	some, err = r.Operator.BeginRollout(ctx, api.RolloutOrder{Try: true, To: []string{"gw-01"}})
	require.NoError(t, err)
	assert.Equal(t, [2]int{0, 0}, [2]int{some.Counts[rollout.Skipped], some.Unsure}, "only one host was asked for")

	ended := r.Carry()
	assert.Equal(t, [2]int{1, 1}, [2]int{ended.Counts[rollout.Done], ended.Counts[rollout.Skipped]})
	page, err := r.Operator.Rollout(ctx, ended.ID, client.List{Filter: map[string][]string{"state": {"skipped"}}})
	require.NoError(t, err)
	require.Len(t, page.Hosts, 1)
	assert.Equal(t, "nothing was carried to it: it has sent no survey", page.Hosts[0].Report.Message)
	h, err := r.Operator.Host(ctx, "gw-07")
	require.NoError(t, err)
	assert.Equal(t, api.StateNew, h.State)
	again := r.Carry()
	assert.Equal(t, [2]int{1, 1}, [2]int{again.Counts[rollout.Unchanged], again.Counts[rollout.Skipped]}, "it ends, though nothing is known of one")
}

// Findings of a class are healed on all hosts that have them, by waves; each stays at its
// own revision.
func TestAClassIsHealedByWaves(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	roots := []string{r.Up("gw-01"), r.Up("gw-02"), r.Up("gw-05")}
	publish(t, r, withPlan(t, r, builtIn))
	require.Zero(t, r.Carry().Counts[rollout.Failed])
	_, err := r.Operator.HealMany(ctx, api.HealManyOrder{Class: []string{"changed-source"}})
	require.ErrorContains(t, err, "no host that was asked for has such a finding")
	_, err = r.Operator.HealMany(ctx, api.HealManyOrder{Class: []string{"altered"}})
	require.ErrorContains(t, err, `there is no class "altered"`)
	was := map[string]string{}
	for _, root := range roots[:2] {
		file := filepath.Join(root, "etc/apt/sources.list.d/saltmarsh.sources")
		was[file] = read(t, file)
		edited(t, file, "Components: main", "Components: main testing")
	}
	publish(t, r, withPlan(t, r, builtIn+"      - { hosts: 7 }\n")) // a newer one that nobody has yet
	var class string
	r.Until("both have drifted", func() bool {
		for _, n := range []string{"gw-01", "gw-02"} {
			d, err := r.Operator.Host(ctx, n)
			if err != nil || len(d.Drift) != 1 {
				return false
			}
			class = d.Drift[0].Class
		}
		return true
	})
	tried, err := r.Operator.HealMany(ctx, api.HealManyOrder{Class: []string{class}, Try: true})
	require.NoError(t, err)
	assert.Equal(t, 2, tried.All())
	assert.Equal(t, 2, tried.Waves)
	ro, err := r.Operator.HealMany(ctx, api.HealManyOrder{Class: []string{class}, Because: "edited by hand"})
	require.NoError(t, err)
	ended := r.Ended(ro.ID)
	assert.Equal(t, 2, ended.Counts[rollout.Done], "%+v", ended.Causes)
	for file, text := range was {
		assert.Equal(t, text, read(t, file))
	}
	d, err := r.Operator.Host(ctx, "gw-01")
	require.NoError(t, err)
	assert.EqualValues(t, 1, d.Revision)
	page, err := r.Operator.Audit(ctx, client.List{Filter: map[string][]string{"what": {"heal-hosts"}}})
	require.NoError(t, err)
	require.NotEmpty(t, page.Entries)
	assert.Equal(t, "edited by hand", page.Entries[0].Why)
	chain, err := r.Operator.AuditChain(ctx, "")
	require.NoError(t, err)
	assert.True(t, chain.Whole)
	assert.Greater(t, chain.Entries, 5)
}

// While a rollout waits for somebody, nothing is written of it again and again.
func TestARolloutThatWaitsWritesNothing(t *testing.T) {
	t.Parallel()
	r := rig.New(t, played, func(o *datafolder.Options) { o.Patience = time.Second })
	gateways(t, r, 2)
	publish(t, r, withPlan(t, r, "    waves: [{ hosts: 1, consent: true }]\n"))
	ro, err := r.Operator.BeginRollout(ctx, api.RolloutOrder{})
	require.NoError(t, err)
	require.Equal(t, rollout.Asking, ro.Phase)
	before, err := r.Operator.AuditChain(ctx, "")
	require.NoError(t, err)
	time.Sleep(time.Second) // ten looks for hosts that give no sign of life
	after, err := r.Operator.AuditChain(ctx, "")
	require.NoError(t, err)
	assert.Equal(t, before.Entries, after.Entries)
}

// TestALeverIsMeantAsItWasRead: whoever read why a rollout is held lets it go on for that reason, and
// not for another one that it has been held for since.
func TestALeverIsMeantAsItWasRead(t *testing.T) {
	t.Parallel()
	r := rig.New(t, played)
	gateways(t, r, 2)
	publish(t, r, withPlan(t, r, "    limits: { silent: none }\n    waves: [{ hosts: 1, consent: true }, { rest: true }]\n"))
	ro, err := r.Operator.BeginRollout(ctx, api.RolloutOrder{})
	require.NoError(t, err)
	pull := func(lever, why string, read *time.Time) (api.Rollout, error) {
		r.Clock.Forward(time.Second)
		return r.Operator.PullLever(ctx, ro.ID, lever, api.LeverOrder{Because: why, Since: read})
	}
	first, err := pull(client.LeverHold, "a disk is full", nil)
	require.NoError(t, err)
	_, err = pull(client.LeverProceed, "the disk has room", first.Since)
	require.NoError(t, err)
	second, err := pull(client.LeverHold, "the vendor took a package back", nil)
	require.NoError(t, err)
	_, err = pull(client.LeverProceed, "the disk has room", first.Since)
	said := refusal(t, err, http.StatusConflict)
	assert.Contains(t, said.Detail, "has gone on since that was read: held by first: the vendor took a package back. Look at it, and say so again")
	assert.Equal(t, rollout.Held, show(t, r, ro.ID).Phase)
	_, err = pull(client.LeverProceed, "there is another one", second.Since)
	require.NoError(t, err)
	assert.Equal(t, rollout.Asking, show(t, r, ro.ID).Phase)
}
