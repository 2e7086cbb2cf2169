package standing_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"patientlantern.example/lantern/core/credential"
	"patientlantern.example/lantern/core/diag"
	"patientlantern.example/lantern/core/policy"
	"patientlantern.example/lantern/core/resolve"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/standing"
	"patientlantern.example/lantern/core/subscription"
)

var now = time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)

const (
	host = "gw-01.brinewick.test"
	file = "/etc/apt/sources.list.d/gannet-licensed.sources"
	auth = "/etc/apt/auth.conf.d/lantern-gannet.conf"
)

func at(days int) time.Time { return now.AddDate(0, 0, days) }

// good is a host with a seat and its access; tests break it.
func good() (standing.Input, *subscription.Contract, *[]subscription.Seat) {
	c := subscription.Contract{Account: "gannet", Number: "GN-2026-014", Start: at(-100), End: at(200), Cover: subscription.CoverSeats, Seats: 3}
	seats := []subscription.Seat{{Host: host, Account: "gannet", Contract: c.Number}}
	return standing.Input{
		Host:  host,
		Needs: []resolve.Needs{{Contract: "gannet", Account: "gannet", Group: "gateways"}},
		Sheet: &source.Sheet{
			Sources: []source.SheetSource{{Repository: "gannet-licensed", File: file, Enabled: true}},
			Access:  []source.SheetAccess{{Account: "gannet", Repositories: []string{"gannet-licensed"}}},
		},
		Files: []credential.HeldFile{{Account: "gannet", Path: auth, State: credential.FileOK, Expires: ptr(at(2))}},
	}, &c, &seats
}

func ptr(t time.Time) *time.Time { return &t }

func TestHowAHostStands(t *testing.T) {
	const remedy = "take a seat (lantern seat take gw-01), or let gateways follow the open choice"
	for _, c := range []struct {
		name   string
		change func(*standing.Input, *subscription.Contract, *[]subscription.Seat)
		want   []string // CLASS severity FILE: message
	}{
		{"as it should be", nil, nil},
		{"no seat", func(_ *standing.Input, _ *subscription.Contract, s *[]subscription.Seat) { *s = nil },
			[]string{"no-seat fault " + file + ": gannet-licensed is on and the host has no seat in gannet, so each refresh fails with 401: " + remedy}},
		{"no seat and the source is off", func(in *standing.Input, _ *subscription.Contract, s *[]subscription.Seat) {
			*s, in.Sheet.Sources[0].Enabled = nil, false
		}, nil},
		{"ended", func(_ *standing.Input, c *subscription.Contract, _ *[]subscription.Seat) { c.End = at(-1) },
			[]string{"seat-ends fault " + file + ": the host's seat is in the contract GN-2026-014, and it ended on 2026-11-22: " + remedy}},
		{"withdrawn", func(_ *standing.Input, c *subscription.Contract, _ *[]subscription.Seat) { c.Withdrawn = true },
			[]string{"seat-ends fault " + file + ": the host's seat is in the contract GN-2026-014, and it was withdrawn: " + remedy}},
		{"a contract that the desk knows no more", func(_ *standing.Input, c *subscription.Contract, _ *[]subscription.Seat) { c.Number = "X" },
			[]string{"seat-ends fault " + file + ": the desk knows no contract GN-2026-014 any more, in which the host has its seat: " + remedy}},
		{"refused", func(in *standing.Input, _ *subscription.Contract, _ *[]subscription.Seat) {
			in.Refused = map[string]string{"gannet": "beyond the seats"}
		}, []string{"seat-ends fault " + file + ": the desk does not renew the access: beyond the seats: " + remedy}},
		{"ends in a month", func(_ *standing.Input, c *subscription.Contract, _ *[]subscription.Seat) { c.End = at(29) },
			[]string{"seat-ends note " + file + ": the contract GN-2026-014, in which the host has its seat, ends on 2026-12-22"}},
		{"mode", func(in *standing.Input, _ *subscription.Contract, _ *[]subscription.Seat) {
			in.Files[0].State, in.Files[0].Have, in.Files[0].Want = credential.FileMode, "0644", "0600"
		}, []string{"access-mode danger " + auth + ": the file with the host's access has mode 0644; it must be 0600"}},
		{"owner", func(in *standing.Input, _ *subscription.Contract, _ *[]subscription.Seat) {
			in.Files[0].State, in.Files[0].Have, in.Files[0].Want = credential.FileOwner, "12:0", "0:0"
		}, []string{"access-mode danger " + auth + ": the file with the host's access belongs to 12:0; it must be 0:0"}},
		{"missing", func(in *standing.Input, _ *subscription.Contract, _ *[]subscription.Seat) {
			in.Files[0].State = credential.FileMissing
		}, []string{"access-missing fault " + auth + ": the file with the host's access is not there"}},
		{"expired", func(in *standing.Input, _ *subscription.Contract, _ *[]subscription.Seat) {
			in.Files[0].Expires = ptr(now)
		}, []string{"access-expired fault " + auth + ": the access ended at 2026-11-23T08:00:00Z, so each refresh fails with 401; it is renewed as soon as the desk of gannet answers"}},
		{"a file of another account is not judged", func(in *standing.Input, _ *subscription.Contract, _ *[]subscription.Seat) {
			in.Files[0].Account, in.Files[0].State = "plover", credential.FileMissing
		}, nil},
	} {
		t.Run(c.name, func(t *testing.T) {
			in, contract, seats := good()
			if c.change != nil {
				c.change(&in, contract, seats)
			}
			in.Books = subscription.NewBooks([]subscription.Contract{*contract}, *seats, now)
			var got []string
			for _, f := range standing.Look(in) {
				got = append(got, f.Class+" "+f.Severity+" "+f.File+": "+f.Message)
			}
			assert.Equal(t, c.want, got)
		})
	}
}

func TestWithoutAContractOnPurpose(t *testing.T) {
	decided := &policy.Decision{Pos: diag.At("hosts.yaml", 18, 5), Because: "small machines", Author: "tide-ops", Review: at(10)}
	for _, c := range []struct {
		name   string
		follow resolve.Follow
		now    time.Time
		want   []string
		open   int
	}{
		{"decided", resolve.Follow{Licensed: true, Decision: decided}, now, nil, 1},
		{"the day before", resolve.Follow{Licensed: true, Decision: decided}, at(10).Add(-time.Second), nil, 1},
		{"due", resolve.Follow{Licensed: true, Decision: decided}, at(10),
			[]string{"decision-due note hosts.yaml:18 tide-ops decided to run gateways without a contract (small machines); that was to be looked at again on 2026-12-03"}, 0},
		{"nobody said so", resolve.Follow{Licensed: true}, now,
			[]string{"decision-missing note hosts.yaml:16 gateways follows open of the channel gannet, which needs no contract, and nobody has said that this is meant: record it with without-contract"}, 0},
		{"no choice of the channel needs a contract", resolve.Follow{}, now, nil, 0},
		{"licensed", resolve.Follow{Licensed: true, Contract: "gannet"}, now, nil, 0},
	} {
		t.Run(c.name, func(t *testing.T) {
			c.follow.Channel, c.follow.Choice, c.follow.Group, c.follow.At = "gannet", "open", "gateways", diag.At("hosts.yaml", 16, 17)
			follows := []resolve.Follow{c.follow}
			var got []string
			for _, f := range standing.Look(standing.Input{Host: host, Follows: follows, Books: subscription.NewBooks(nil, nil, c.now)}) {
				got = append(got, f.Class+" "+f.Severity+" "+diag.At(f.File, f.Line, 0).File+":"+itoa(f.Line)+" "+f.Message)
			}
			assert.Equal(t, c.want, got)
			assert.Len(t, standing.OpenByDecision(follows, c.now), c.open)
		})
	}
}

func itoa(n int) string { return string(rune('0'+n/10)) + string(rune('0'+n%10)) }
