package service_test

import (
	"bytes"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/client"
	"patientlantern.example/lantern/core/subscription"
	"patientlantern.example/lantern/internal/rig"
	"patientlantern.example/lantern/standin"
)

// licensed is the demo's policy with the gateways on the licensed choice.
func licensed(t *testing.T, r *rig.Rig) map[string][]byte {
	files := r.Policy()
	text := string(files["hosts.yaml"])
	from := strings.Index(text, "    channels: { gannet: open }")
	to := strings.Index(text, "  - to: archives")
	require.True(t, from > 0 && to > from)
	files["hosts.yaml"] = []byte(text[:from] + "    channels: { gannet: licensed }\n    seats: automatic\n\n" + text[to:])
	return files
}

func publish(t *testing.T, r *rig.Rig, files map[string][]byte) {
	t.Helper()
	_, err := r.Operator.Publish(ctx, api.Publication{Files: files})
	require.NoError(t, err)
}

func seats(t *testing.T, r *rig.Rig) (out []string) {
	t.Helper()
	page, err := r.Operator.Seats(ctx, client.List{})
	require.NoError(t, err)
	for _, s := range page.Seats {
		host, _, _ := strings.Cut(s.Host, ".")
		out = append(out, host+" "+s.Contract)
	}
	return out
}

func read(t *testing.T, name string) string {
	t.Helper()
	b, err := os.ReadFile(name)
	require.NoError(t, err)
	return string(b)
}

func refusal(t *testing.T, err error, status int) *client.Error {
	t.Helper()
	var no *client.Error
	require.ErrorAs(t, err, &no)
	require.Equal(t, status, no.Status, no.Detail)
	return no
}

// carried sets a rig up with one apt host whose sources need a seat.
func carried(t *testing.T, names ...string) (*rig.Rig, map[string]string) {
	r := rig.New(t)
	r.Accounts()
	roots := map[string]string{}
	for _, n := range names {
		roots[n] = r.Up(n)
	}
	publish(t, r, licensed(t, r))
	ro := r.Carry()
	require.Zero(t, ro.Counts["failed"], "%+v", ro.Hosts)
	return r, roots
}

const loginFile = "etc/apt/auth.conf.d/lantern-gannet.conf"

func TestARolloutTakesTheSeatsAndOpensTheSources(t *testing.T) {
	t.Parallel()
	r, roots := carried(t, "gw-01", "gw-04")
	assert.Equal(t, []string{"gw-01 GN-2026-014", "gw-04 GN-2026-014"}, seats(t, r))
	for host, files := range map[string]int{"gw-01": 2, "gw-04": 1} {
		info, err := os.Stat(filepath.Join(roots[host], loginFile))
		require.NoError(t, err)
		assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
		list, err := filepath.Glob(filepath.Join(roots[host], "etc/apt/sources.list.d/gannet-licensed*.sources"))
		require.NoError(t, err)
		assert.Len(t, list, files, "%s: two files on Skerry 12, one on 11", host)
		assert.Equal(t, files, strings.Count(read(t, filepath.Join(roots[host], loginFile)), "machine http://"))
	}
	d, err := r.Operator.Host(ctx, "gw-01")
	require.NoError(t, err)
	require.Len(t, d.Seats, 1)
	assert.Equal(t, "cheapest of 2: 180.00 EUR, next 540.00 EUR", d.Seats[0].Why)
	assert.True(t, d.Seats[0].Needed)
	assert.Equal(t, "steady", d.State)
}

func TestAGroupMovesToTheOpenChoiceAndBack(t *testing.T) {
	t.Parallel()
	r, roots := carried(t, "gw-01")
	dir := filepath.Join(roots["gw-01"], "etc/apt/sources.list.d")
	before := read(t, filepath.Join(dir, "gannet-licensed.sources"))
	publish(t, r, r.Policy())
	require.Zero(t, r.Carry().Counts["failed"])
	assert.Contains(t, read(t, filepath.Join(dir, "gannet-licensed.sources")), "\nEnabled: no\n", "kept, and off")
	assert.Contains(t, read(t, filepath.Join(dir, "gannet-licensed-storage.sources")), "\nEnabled: no\n")
	assert.NotContains(t, read(t, filepath.Join(dir, "gannet-open.sources")), "Enabled: no")
	assert.NoFileExists(t, filepath.Join(roots["gw-01"], loginFile), "what opened it goes")
	r.Tend()
	assert.Empty(t, seats(t, r), "a seat that the policy took is given back")
	d, err := r.Operator.Host(ctx, "gw-01")
	require.NoError(t, err)
	assert.Equal(t, "open by decision: gannet follows open until 2027-03-31", d.Detail)
	assert.Empty(t, d.Drift)

	publish(t, r, licensed(t, r))
	require.Zero(t, r.Carry().Counts["failed"])
	assert.Equal(t, before, read(t, filepath.Join(dir, "gannet-licensed.sources")), "as it was, to the byte")
	assert.Contains(t, read(t, filepath.Join(dir, "gannet-open.sources")), "\nEnabled: no\n")
	assert.Equal(t, []string{"gw-01 GN-2026-014"}, seats(t, r))
}

func TestDnfsHostsAreOpenedByCertificate(t *testing.T) {
	t.Parallel()
	r, roots := carried(t, "arc-2", "arc-3")
	for _, host := range []string{"arc-2", "arc-3"} {
		for file, mode := range map[string]os.FileMode{"gannet.crt": 0o644, "gannet.key": 0o600} {
			info, err := os.Stat(filepath.Join(roots[host], "etc/pki/lantern", file))
			require.NoError(t, err)
			assert.Equal(t, mode, info.Mode().Perm(), file)
		}
		d, err := r.Operator.Host(ctx, host)
		require.NoError(t, err)
		require.Len(t, d.Access, 1)
		assert.Contains(t, d.Access[0].Identity, "CN="+host+".brinewick.test")
		assert.NotNil(t, d.Access[0].Expires)
		require.Len(t, d.Report.Report.Sources, 3)
		for _, s := range d.Report.Report.Sources {
			assert.True(t, s.OK, "%s: %s", s.URL, s.Message)
		}
	}
}

func TestNotEnoughSeatsAreNamedBeforeTheRolloutAndNoneIsTaken(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	for _, number := range []string{"GN-2026-014", "GN-2026-031"} {
		require.NoError(t, r.Desk.Change("gannet", number, func(c *subscription.Contract) { c.Seats = 1 }))
	}
	r.Accounts()
	for _, n := range []string{"gw-01", "gw-02", "gw-04"} {
		r.Up(n)
	}
	publish(t, r, licensed(t, r))
	p, err := r.Operator.Preview(ctx, 0)
	require.NoError(t, err)
	require.Len(t, p.Seats.Short, 1)
	assert.Equal(t, "gateways", p.Seats.Short[0].Group)
	assert.Equal(t, 3, p.Seats.Short[0].Needed)
	assert.Equal(t, 1, p.Seats.Short[0].Short)
	assert.Len(t, p.Seats.Short[0].Hosts, 1)
	_, err = r.Operator.BeginRollout(ctx, rig.AtOnce)
	no := refusal(t, err, http.StatusConflict)
	assert.Equal(t, "seats are missing, so nothing was begun", no.Detail)
	require.Len(t, no.Details, 1)
	assert.Contains(t, no.Details[0], "gateways: 1 of 3 seats are missing, so gw-0")
	assert.Empty(t, seats(t, r), "never half a group")
}

func TestASeatThatIsGoneAtTheLastMomentLeavesNoHalfGroup(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	r.Accounts()
	for _, n := range []string{"gw-01", "gw-02", "gw-03"} {
		r.Up(n)
	}
	publish(t, r, licensed(t, r))
	for _, number := range []string{"GN-2026-014", "GN-2026-031"} { // the service has not heard of it yet
		require.NoError(t, r.Desk.Change("gannet", number, func(c *subscription.Contract) { c.Seats = 1 }))
	}
	_, err := r.Operator.BeginRollout(ctx, rig.AtOnce)
	no := refusal(t, err, http.StatusConflict)
	assert.Contains(t, no.Detail, "all 1 seats of GN-2026-014 are taken; nothing was begun, and the seats that were taken on the way are given back")
	assert.Empty(t, seats(t, r))
	page, err := r.Operator.Rollouts(ctx, client.List{})
	require.NoError(t, err)
	assert.Zero(t, page.Total)
}

func TestSeatsByHand(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	r.Up("gw-01")
	files := licensed(t, r)
	files["hosts.yaml"] = bytes.Replace(files["hosts.yaml"], []byte("    seats: automatic\n\n  - to: archives"), []byte("\n  - to: archives"), 1)
	publish(t, r, files)
	_, err := r.Operator.TakeSeat(ctx, api.SeatOrder{Host: "gw-01"})
	assert.Contains(t, refusal(t, err, http.StatusConflict).Detail, `the service has no account "gannet" at a vendor's desk; give it one: lantern account add gannet`)
	r.Accounts()
	_, err = r.Operator.BeginRollout(ctx, rig.AtOnce)
	assert.Equal(t, []string{"gw-01.brinewick.test needs a seat in the account gannet: lantern seat take gw-01"}, refusal(t, err, http.StatusConflict).Details)

	seat, err := r.Operator.TakeSeat(ctx, api.SeatOrder{Host: "gw-01"})
	require.NoError(t, err)
	assert.Equal(t, "GN-2026-014", seat.Contract)
	assert.False(t, seat.Automatic)
	require.Zero(t, r.Carry().Counts["failed"])

	_, err = r.Operator.ReleaseSeat(ctx, "gw-01", "ganet")
	assert.Contains(t, refusal(t, err, http.StatusNotFound).Detail, `did you mean "gannet"?`)
	_, err = r.Operator.ReleaseSeat(ctx, "gw-01", "gannet")
	require.NoError(t, err)
	assert.Empty(t, seats(t, r))
	assert.Contains(t, r.Findings("gw-01"), "no-seat fault /etc/apt/sources.list.d/gannet-licensed.sources")
	_, err = r.Operator.TakeSeat(ctx, api.SeatOrder{Host: "gw-01", Contract: "GN-2026-031"})
	require.NoError(t, err)
	assert.Equal(t, []string{"gw-01 GN-2026-031"}, seats(t, r), "somebody asked for this one")
}

func TestAccessGoesWithTheSeat(t *testing.T) {
	t.Parallel()
	r, roots := carried(t, "gw-01")
	file := filepath.Join(roots["gw-01"], loginFile)
	_, err := r.Operator.ReleaseSeat(ctx, "gw-01", "gannet")
	require.NoError(t, err)
	r.Until("the access goes", func() bool {
		_, err := os.Stat(file)
		return os.IsNotExist(err)
	})
	d, err := r.Operator.Host(ctx, "gw-01")
	require.NoError(t, err)
	require.NotEmpty(t, d.Drift)
	i := slices.IndexFunc(d.Drift, func(f api.Finding) bool { return f.Class == "no-seat" })
	require.GreaterOrEqual(t, i, 0, "%+v", d.Drift)
	assert.Equal(t, "gannet-licensed is on and the host has no seat in gannet, so each refresh fails with 401: take a seat (lantern seat take gw-01), or let gateways follow the open choice", d.Drift[i].Message)

	// and in words when it does fail
	ro, err := r.Operator.Heal(ctx, "gw-01")
	require.NoError(t, err)
	ended := r.Ended(ro.ID)
	require.Equal(t, 1, ended.Counts["failed"])
	assert.Equal(t, "access", ended.Hosts[0].Report.Step)
	assert.Equal(t, "gannet-licensed: this host has no seat in a contract of the account gannet", ended.Hosts[0].Report.Message)
}

func TestAVendorWhoRefusesIsExplainedInWords(t *testing.T) {
	t.Parallel()
	r, _ := carried(t, "gw-01")
	r.Upstreams.Admits = func(string, string, *http.Request) bool { return false }
	ro, err := r.Operator.Heal(ctx, "gw-01")
	require.NoError(t, err)
	ended := r.Ended(ro.ID)
	require.Equal(t, 1, ended.Counts["unchanged"], "%+v", ended.Hosts[0].Report)
	msg := ended.Hosts[0].Report.Message
	assert.Contains(t, msg, "the vendor does not let this host in (401")
	assert.Contains(t, msg, "gannet-licensed needs a seat in the contract gannet")
}

func TestAccessThatSomebodyTouchesIsDriftAndHeals(t *testing.T) {
	t.Parallel()
	r, roots := carried(t, "gw-01")
	file := filepath.Join(roots["gw-01"], loginFile)
	was := read(t, file)
	for _, c := range []struct {
		name, want string
		do         func() error
	}{
		{"mode", "access-mode danger /" + loginFile, func() error { return os.Chmod(file, 0o644) }},
		{"owner", "access-mode danger /" + loginFile, func() error { return os.Chown(file, 12, 0) }},
		{"text", "access-changed fault /" + loginFile, func() error { return os.WriteFile(file, []byte("machine x login y password z\n"), 0o600) }},
		{"gone", "access-missing fault /" + loginFile, func() error { return os.Remove(file) }},
	} {
		t.Run(c.name, func(t *testing.T) {
			require.NoError(t, c.do())
			r.Until("it is found", func() bool { return slices.Contains(r.Findings("gw-01"), c.want) })
			ro, err := r.Operator.Heal(ctx, "gw-01")
			require.NoError(t, err)
			ended := r.Ended(ro.ID)
			require.Equal(t, 1, ended.Counts["done"], "%+v", ended.Hosts[0].Report)
			assert.Equal(t, was, read(t, file))
			info, err := os.Stat(file)
			require.NoError(t, err)
			assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
			assert.Empty(t, r.Findings("gw-01"))
		})
	}
}

func TestTheDeskIsAwayForADay(t *testing.T) {
	t.Parallel()
	r, roots := carried(t, "gw-01")
	file := filepath.Join(roots["gw-01"], loginFile)
	was := read(t, file)
	sheet := func() string {
		d, err := r.Operator.Host(ctx, "gw-01")
		require.NoError(t, err)
		assert.Equal(t, "steady", d.State)
		assert.Empty(t, d.Drift)
		return d.Seats[0].Contract
	}
	require.NoError(t, r.Desk.SetFault("gannet", standin.DeskBroken))
	since := r.Clock.Now()
	for range 4 { // through the day, past the moment at which the access would be renewed
		r.Tend()
		r.Clock.Forward(10 * time.Hour)
	}
	r.Tend()
	list, err := r.Operator.Accounts(ctx)
	require.NoError(t, err)
	i := slices.IndexFunc(list.Accounts, func(a api.Account) bool { return a.Name == "gannet" })
	assert.Equal(t, "the desk does not answer: it answered 503 Service Unavailable", list.Accounts[i].Trouble)
	require.NotNil(t, list.Accounts[i].Since)
	assert.WithinDuration(t, since, *list.Accounts[i].Since, time.Minute)
	r.Surveyed("gw-01")
	r.Until("the agent is heard again", func() bool {
		d, err := r.Operator.Host(ctx, "gw-01")
		return err == nil && d.State == "steady"
	})
	assert.Equal(t, "GN-2026-014", sheet())
	assert.Equal(t, was, read(t, file), "nothing changes on any host")

	require.NoError(t, r.Desk.SetFault("gannet", ""))
	r.Tend()
	r.Until("the access is renewed", func() bool { return read(t, file) != was })
	assert.Equal(t, "GN-2026-014", sheet())
	list, err = r.Operator.Accounts(ctx)
	require.NoError(t, err)
	assert.Empty(t, list.Accounts[i].Trouble)
	assert.Nil(t, list.Accounts[i].Since)
}

func TestAccessEndsWhileTheServiceIsAway(t *testing.T) {
	t.Parallel()
	r, roots := carried(t, "gw-01")
	file := filepath.Join(roots["gw-01"], loginFile)
	was := read(t, file)
	r.Away(true)
	r.Clock.Forward(rig.AccessLife + time.Hour)
	time.Sleep(3 * rig.Interval) // the agent calls and hears nothing
	assert.Equal(t, was, read(t, file))
	r.Away(false)
	require.NoError(t, r.Desk.SetFault("gannet", standin.DeskBroken))
	r.Tend()
	assert.Contains(t, r.Findings("gw-01"), "access-expired fault /"+loginFile)
	require.NoError(t, r.Desk.SetFault("gannet", ""))
	r.Tend()
	r.Until("the access is renewed", func() bool { return read(t, file) != was })
	r.Until("the finding goes", func() bool { r.Tend(); return len(r.Findings("gw-01")) == 0 })
}

func TestASeatTakenTwiceAtTheSameMomentIsOneSeat(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	r.Accounts()
	r.Up("gw-01")
	r.Up("gw-02")
	publish(t, r, licensed(t, r))
	take := func(hosts ...string) (got []api.Seat, errs []error) {
		var all sync.WaitGroup
		var mu sync.Mutex
		for _, h := range hosts {
			all.Go(func() {
				s, err := r.Operator.TakeSeat(ctx, api.SeatOrder{Host: h})
				mu.Lock()
				defer mu.Unlock()
				if err != nil {
					errs = append(errs, err)
				} else {
					got = append(got, s)
				}
			})
		}
		all.Wait()
		return got, errs
	}
	got, errs := take("gw-01", "gw-01", "gw-01", "gw-01")
	assert.Empty(t, errs)
	require.Len(t, got, 4)
	for _, s := range got {
		assert.Equal(t, got[0].Taken, s.Taken)
	}
	assert.Equal(t, []string{"gw-01 GN-2026-014"}, seats(t, r))

	_, err := r.Operator.ReleaseSeat(ctx, "gw-01", "gannet")
	require.NoError(t, err)
	for number, n := range map[string]int{"GN-2026-014": 1, "GN-2026-031": 0} {
		require.NoError(t, r.Desk.Change("gannet", number, func(c *subscription.Contract) { c.Seats = n }))
	}
	r.Tend()
	got, errs = take("gw-01", "gw-02")
	require.Len(t, got, 1, "the last seat goes to one of two")
	require.Len(t, errs, 1)
	assert.Contains(t, refusal(t, errs[0], http.StatusConflict).Detail, "GN-2026-014: all of its 1 seat are taken")
}

func TestAContractThatShrinksBelowItsSeats(t *testing.T) {
	t.Parallel()
	r, roots := carried(t, "gw-01", "gw-02")
	require.NoError(t, r.Desk.Change("gannet", "GN-2026-014", func(c *subscription.Contract) { c.Seats = 1 }))
	require.NoError(t, r.Desk.Change("gannet", "GN-2026-031", func(c *subscription.Contract) { c.Seats = 0 }))
	r.Tend()
	page, err := r.Operator.Contracts(ctx, client.List{Filter: map[string][]string{"state": {"over"}}})
	require.NoError(t, err)
	require.Len(t, page.Contracts, 1)
	assert.Equal(t, 1, page.Contracts[0].Over)
	assert.Zero(t, page.Contracts[0].Free)
	assert.Len(t, seats(t, r), 2, "nothing is taken from a host by itself")

	r.Clock.Forward(rig.AccessLife/2 + time.Hour)
	r.Tend()
	var lost []string
	for _, n := range []string{"gw-01", "gw-02"} {
		assert.FileExists(t, filepath.Join(roots[n], loginFile))
		d, err := r.Operator.Host(ctx, n)
		require.NoError(t, err)
		for _, f := range d.Drift {
			if f.Class == "seat-ends" && f.Severity == "fault" {
				lost = append(lost, n)
				assert.Contains(t, f.Message, "the desk does not renew the access: GN-2026-014 has 1 seats, and "+n+".brinewick.test sits beyond them")
			}
		}
	}
	assert.Len(t, lost, 1, "the host that the desk serves no more is named while its access still works")
}

func TestAWithdrawnContract(t *testing.T) {
	t.Parallel()
	r, _ := carried(t, "arc-2", "arc-3")
	require.NoError(t, r.Desk.Change("gannet", "GN-2026-014", func(c *subscription.Contract) { c.Withdrawn = true }))
	r.Tend()
	assert.Equal(t, []string{"arc-2 GN-2026-031", "arc-3 GN-2026-014"}, seats(t, r), "the policy moves on whom another contract takes")
	r.Tend()
	d, err := r.Operator.Host(ctx, "arc-3")
	require.NoError(t, err)
	i := slices.IndexFunc(d.Drift, func(f api.Finding) bool { return f.Class == "seat-ends" })
	require.GreaterOrEqual(t, i, 0)
	assert.Contains(t, d.Drift[i].Message, "the host's seat is in the contract GN-2026-014, and it was withdrawn")
	o, err := r.Operator.Outlook(ctx)
	require.NoError(t, err)
	i = slices.IndexFunc(o.Ending, func(e subscription.Ending) bool { return e.Contract.Number == "GN-2026-014" })
	require.GreaterOrEqual(t, i, 0)
	assert.Equal(t, []string{"arc-3.brinewick.test"}, o.Ending[i].Falling)
}

func TestADeskWhoseClockIsOff(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	require.NoError(t, r.Desk.SetFault("gannet", standin.DeskSkewed))
	r.Accounts()
	r.Up("arc-2")
	list, err := r.Operator.Accounts(ctx)
	require.NoError(t, err)
	assert.Equal(t, "it answers, and its clock is off by 3h0m0s", list.Accounts[0].Trouble)
	r.Publish()
	ro := r.Carry()
	require.Equal(t, 1, ro.Counts["failed"])
	assert.Contains(t, ro.Hosts[0].Report.Message, "the desk's access cannot be used: the client certificate is good from ")
	assert.Contains(t, ro.Hosts[0].Report.Message, "(the desk's clock is off by 3h0m0s)")
}

func TestAHostWhoseClockIsOffIsToldSo(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	r.Accounts()
	_, h := r.Enrol("gw-01")
	stop := r.Start(h)
	r.Surveyed("gw-01")
	publish(t, r, licensed(t, r))
	require.Zero(t, r.Carry().Counts["failed"])
	stop()
	r.Clock.Forward(rig.AccessLife/2 + time.Hour)
	r.Tend() // the access is renewed though the host is not there
	behind := func() time.Time { return r.Clock.Now().Add(-3 * time.Minute) }
	r.StartAt(h, behind)
	r.Until("the agent says why", func() bool {
		return strings.Contains(r.Log.String(), "is the clock of the host right? It differs by 3m")
	})
}

func TestARetiredHostGivesItsSeatsBackEvenWhenTheDeskIsAway(t *testing.T) {
	t.Parallel()
	r, _ := carried(t, "gw-01", "gw-02")
	require.NoError(t, r.Operator.Retire(ctx, "gw-01"))
	assert.Equal(t, []string{"gw-02 GN-2026-014"}, seats(t, r))
	require.NoError(t, r.Desk.SetFault("gannet", standin.DeskBroken))
	require.NoError(t, r.Operator.Retire(ctx, "gw-02"))
	page, err := r.Operator.Seats(ctx, client.List{})
	require.NoError(t, err)
	require.Len(t, page.Seats, 1)
	assert.True(t, page.Seats[0].Leaving)
	require.NoError(t, r.Desk.SetFault("gannet", ""))
	r.Tend()
	assert.Empty(t, seats(t, r))
}

func TestAWrongLoginIsSaidAtOnce(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	_, err := r.Operator.AddAccount(ctx, api.AccountOrder{Name: "gannet", Desk: "http://" + r.World.Desks + "/gannet", Login: "brinewick", Password: "wrong-one"})
	assert.Equal(t, "the desk does not take the organisation's login; give the right one: lantern account add", refusal(t, err, http.StatusConflict).Detail)
	_, err = r.Operator.AddAccount(ctx, api.AccountOrder{Name: "gannet", Desk: "http://127.0.0.1:1/gannet", Login: "brinewick", Password: "x"})
	assert.Contains(t, refusal(t, err, http.StatusServiceUnavailable).Detail, "the desk does not answer")
	_, err = r.Operator.AddAccount(ctx, api.AccountOrder{Name: "gannet", Desk: "http://a:b@127.0.0.1:1/", Login: "brinewick", Password: "x"})
	refusal(t, err, http.StatusUnprocessableEntity)
	list, err := r.Operator.Accounts(ctx)
	require.NoError(t, err)
	assert.Empty(t, list.Accounts)
}

func TestAnAccountWithSeatsIsNotForgotten(t *testing.T) {
	t.Parallel()
	r, _ := carried(t, "gw-01")
	assert.Contains(t, refusal(t, r.Operator.RemoveAccount(ctx, "gannet"), http.StatusConflict).Detail, "1 seats are taken in the account gannet")
	require.NoError(t, r.Operator.RemoveAccount(ctx, "plover"))
	refusal(t, r.Operator.RemoveAccount(ctx, "plover"), http.StatusNotFound)
}

func TestChannelsShowVariantsOnlyWhenAsked(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	r.Accounts()
	r.Publish()
	choices := func(variants string) (out []string) {
		page, err := r.Operator.Channels(ctx, client.List{Filter: map[string][]string{"variants": {variants}}})
		require.NoError(t, err)
		assert.Equal(t, 2, page.Total)
		for _, c := range page.Channels {
			for _, x := range c.Choices {
				out = append(out, strings.TrimSpace(c.Name+" "+x.Name+" "+x.Variant))
			}
		}
		return out
	}
	plain := []string{"gannet licensed", "gannet open", "plover 1.44", "plover rolling"}
	assert.Equal(t, plain, choices(""))
	assert.Equal(t, append(plain, "plover rolling debug", "plover rolling source"), choices("true"))
}

// modelled is the demo's policy with the models on the licensed choice.
func modelled(t *testing.T, r *rig.Rig) map[string][]byte {
	files := r.Policy()
	text := string(files["hosts.yaml"])
	from := strings.Index(text, "  - to: models")
	to := strings.Index(text, "  - to: desks\n")
	require.True(t, from > 0 && to > from)
	files["hosts.yaml"] = []byte(text[:from] + "  - to: models\n    channels: { gannet: licensed }\n    seats: automatic\n\n" + text[to:])
	return files
}

// TestEveryFamilysOwnWay lets the real zypper and pacman in by what they read.
func TestEveryFamilysOwnWay(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	r.Accounts()
	roots := map[string]string{"chart-2": r.Up("chart-2"), "model-2": r.Up("model-2")}
	_, err := r.Operator.Label(ctx, "model-2", map[string]string{"duty": "model"})
	require.NoError(t, err)
	publish(t, r, modelled(t, r))
	ro := r.Carry()
	require.Zero(t, ro.Counts["failed"], "%+v", ro.Hosts)
	for host, c := range map[string]struct{ file, by, begins string }{
		"chart-2": {"etc/zypp/credentials.d/lantern-gannet", "zypper", "username = chart-2.brinewick.test-"},
		"model-2": {"etc/pacman.d/lantern-gannet-licensed.gannet", "pacman", "Server = http://model-2.brinewick.test-"},
	} {
		file := filepath.Join(roots[host], c.file)
		info, err := os.Stat(file)
		require.NoError(t, err)
		assert.Equal(t, os.FileMode(0o600), info.Mode().Perm(), host)
		assert.True(t, strings.HasPrefix(read(t, file), c.begins), read(t, file))
		d, err := r.Operator.Host(ctx, host)
		require.NoError(t, err)
		assert.Equal(t, "steady", d.State, d.Detail)
		require.NotNil(t, d.Report.Report)
		assert.Equal(t, c.by, d.Report.Report.Refresh)
		require.NotEmpty(t, d.Report.Report.Sources)
		for _, s := range d.Report.Report.Sources {
			assert.True(t, s.OK, "%s: %s", s.URL, s.Message)
		}

		_, err = r.Operator.ReleaseSeat(ctx, host, "gannet")
		require.NoError(t, err)
		r.Until("the access goes", func() bool {
			b, err := os.ReadFile(file)
			return err != nil || !strings.Contains(string(b), host+".brinewick")
		})
	}
	assert.NoFileExists(t, filepath.Join(roots["chart-2"], "etc/zypp/credentials.d/lantern-gannet"))
	assert.Equal(t, "Server = http://"+r.World.Plain+"/arch.gannet.example/licensed/x86_64\n", read(t, filepath.Join(roots["model-2"], "etc/pacman.d/lantern-gannet-licensed.gannet")),
		"without access pacman still works: a file that it includes must be there")
}

func TestPacmanAndZypperGoBackToTheOpenChoice(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	r.Accounts()
	root := r.Up("model-2")
	_, err := r.Operator.Label(ctx, "model-2", map[string]string{"duty": "model"})
	require.NoError(t, err)
	conf := filepath.Join(root, "etc/pacman.conf")
	was := read(t, conf)
	publish(t, r, modelled(t, r))
	require.Zero(t, r.Carry().Counts["failed"])
	assert.Equal(t, was+"\n# Patient Lantern's repositories, each in a file of its own.\nInclude = /etc/pacman.d/lantern-gannet-licensed.conf\n", read(t, conf))
	r.Publish()
	ro := r.Carry()
	require.Zero(t, ro.Counts["failed"], "%+v", ro.Hosts)
	assert.Contains(t, read(t, filepath.Join(root, "etc/pacman.d/lantern-gannet-licensed.conf")), "\n#[gannet-licensed]\n")
	assert.Contains(t, read(t, filepath.Join(root, "etc/pacman.d/lantern-gannet-open.conf")), "\n[gannet-open]\n")
	assert.NoFileExists(t, filepath.Join(root, "etc/pacman.d/lantern-gannet-licensed.gannet"))
}

func TestATokenInTheURL(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	r.Accounts()
	roots := map[string]string{"arc-2": r.Up("arc-2"), "chart-2": r.Up("chart-2")}
	files := r.Policy()
	base := "http://" + r.World.Plain + "/token/${access.token}/rpm.gannet.example/licensed"
	text := string(files["policy.yaml"])
	text = strings.Replace(text, "https://"+r.World.Secure+"/rpm.gannet.example/licensed", base, 1)
	text = strings.Replace(text, "access: client-certificate", "access: token-url", 1)
	text = strings.Replace(text, `zypp: { url: "http://`+r.World.Plain+`/rpm.gannet.example/licensed/halyard-${os.major}/${arch}" }`, `zypp: { access: token-url, url: "`+base+`/halyard-${os.major}/${arch}" }`, 1)
	require.Equal(t, 2, strings.Count(text, "access: token-url"))
	files["policy.yaml"] = []byte(text)
	publish(t, r, files)
	ro := r.Carry()
	require.Zero(t, ro.Counts["failed"], "%+v", ro.Hosts)
	for host, dir := range map[string]string{"arc-2": "etc/dnf/vars", "chart-2": "etc/zypp/vars.d"} {
		token := strings.TrimSpace(read(t, filepath.Join(roots[host], dir, "lantern_gannet_token")))
		assert.Len(t, token, 32)
		d, err := r.Operator.Host(ctx, host)
		require.NoError(t, err)
		assert.Equal(t, "steady", d.State, d.Detail)
		shown := false
		for _, s := range d.Sources {
			for _, u := range s.EffURLs {
				assert.NotContains(t, u, token)
				shown = shown || strings.Contains(u, "/token/***/rpm.gannet.example/licensed/")
			}
		}
		assert.True(t, shown)
		assert.NotContains(t, r.Log.String(), token)
	}
}

func TestAGroupOfDnfHostsMovesToTheOpenChoiceAndBack(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	r.Accounts()
	root := r.Up("arc-2")
	repos := filepath.Join(root, "etc/yum.repos.d")
	r.Publish()
	require.Zero(t, r.Carry().Counts["failed"])
	before := read(t, filepath.Join(repos, "gannet-licensed.repo"))
	assert.NoFileExists(t, filepath.Join(repos, "gannet-open.repo"))

	open := r.Policy()
	open["hosts.yaml"] = bytes.Replace(open["hosts.yaml"], []byte("    channels: { gannet: licensed }\n    seats: automatic # taken"), []byte("    channels: { gannet: open } # taken"), 1)
	publish(t, r, open)
	ro := r.Carry()
	require.Zero(t, ro.Counts["failed"], "%+v", ro.Hosts)
	assert.Equal(t, strings.Replace(before[:strings.Index(before, "sslclientcert")], "enabled=1", "enabled=0", 1), read(t, filepath.Join(repos, "gannet-licensed.repo")), "kept, and off")
	assert.Contains(t, read(t, filepath.Join(repos, "gannet-open.repo")), "enabled=1")
	assert.NoFileExists(t, filepath.Join(root, "etc/pki/lantern/gannet.key"))
	d, err := r.Operator.Host(ctx, "arc-2")
	require.NoError(t, err)
	assert.Equal(t, "dnf", d.Report.Report.Refresh)
	assert.Contains(t, r.Findings("arc-2"), "decision-missing note hosts.yaml", "nobody said that this is meant")

	r.Publish()
	require.Zero(t, r.Carry().Counts["failed"])
	assert.Equal(t, before, read(t, filepath.Join(repos, "gannet-licensed.repo")))
	assert.Contains(t, read(t, filepath.Join(repos, "gannet-open.repo")), "enabled=0")
}

func TestALoginThatTheDeskRefusesHarmsNoHost(t *testing.T) {
	t.Parallel()
	r, roots := carried(t, "gw-01")
	file := filepath.Join(roots["gw-01"], loginFile)
	was := read(t, file)
	require.NoError(t, r.Desk.SetFault("gannet", standin.DeskRefusing)) // somebody changed the password there
	r.Clock.Forward(rig.AccessLife/2 + time.Hour)
	r.Tend()
	list, err := r.Operator.Accounts(ctx)
	require.NoError(t, err)
	assert.Contains(t, list.Accounts[0].Trouble, "the desk does not take the organisation's login")
	assert.Empty(t, r.Findings("gw-01"))
	assert.Equal(t, was, read(t, file))

	r.Clock.Forward(rig.AccessLife) // and nobody noticed until it ended
	r.Tend()
	r.Until("it is named", func() bool { return slices.Contains(r.Findings("gw-01"), "access-expired fault /"+loginFile) })
	assert.Equal(t, was, read(t, file), "what is there stays until something better comes")
	require.NoError(t, r.Desk.SetFault("gannet", ""))
	r.Tend()
	r.Until("it is renewed", func() bool { return read(t, file) != was })
}

// A seat that could not be given back while the desk was away is taken again while it is being given
// back: it stays taken.
func TestASeatThatIsTakenAgainIsNotGivenBack(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	r.Accounts()
	r.Up("gw-01")
	publish(t, r, licensed(t, r))
	take := func() {
		_, err := r.Operator.TakeSeat(ctx, api.SeatOrder{Host: "gw-01", Contract: "GN-2026-014"})
		require.NoError(t, err)
	}
	take()
	for range 60 {
		require.NoError(t, r.Desk.SetFault("gannet", standin.DeskBroken))
		_, err := r.Operator.ReleaseSeat(ctx, "gw-01", "gannet")
		require.NoError(t, err)
		require.NoError(t, r.Desk.SetFault("gannet", ""))
		var both sync.WaitGroup
		both.Go(r.Tend)
		take()
		both.Wait()
		require.Equal(t, []string{"gw-01 GN-2026-014"}, seats(t, r))
	}
}
