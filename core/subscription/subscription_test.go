package subscription_test

import (
	"fmt"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"patientlantern.example/lantern/core/subscription"
)

var now = time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)

func day(n int) time.Time { return now.AddDate(0, 0, n) }

// contract is one that opens gannet for everything; change it where a test needs it.
func contract(number string, seats int, change ...func(*subscription.Contract)) subscription.Contract {
	c := subscription.Contract{Account: "gannet", Number: number, Start: day(-100), End: day(200), Cover: subscription.CoverSeats, Seats: seats, Price: 12000, Currency: "EUR",
		Opens: []subscription.Opening{{Name: "gannet-licensed"}}}
	for _, f := range change {
		f(&c)
	}
	return c
}

func need(host string) subscription.Need {
	return subscription.Need{Host: host, Account: "gannet", Opens: []string{"gannet-licensed"}, OS: "skerry", Version: "12", Arch: "x86_64"}
}

func TestTheBestContractIsChosenByARuleThatCanBeRead(t *testing.T) {
	evaluation := func(c *subscription.Contract) { c.Evaluation, c.Price = true, 0 }
	dear := func(c *subscription.Contract) { c.Price = 30000 }
	longer := func(c *subscription.Contract) { c.End = day(300) }
	for _, c := range []struct {
		name      string
		contracts []subscription.Contract
		want, why string
	}{
		{"one", []subscription.Contract{contract("A", 1)}, "A", "the only one that fits"},
		{"only an evaluation", []subscription.Contract{contract("E", 1, evaluation)}, "E", "the only one that fits, an evaluation"},
		{"an evaluation is free and still the last choice", []subscription.Contract{contract("E", 1, evaluation), contract("A", 1)}, "A", "no evaluation, as E is"},
		{"the cheapest", []subscription.Contract{contract("B", 1, dear), contract("C", 1)}, "C", "cheapest of 2: 120.00 EUR, next 300.00 EUR"},
		{"ending last", []subscription.Contract{contract("A", 1), contract("B", 1, longer)}, "B", "ends last of 2 at this price: 2027-09-19"},
		{"by number", []subscription.Contract{contract("B", 1), contract("A", 1)}, "A", "first by number of 2 alike"},
	} {
		t.Run(c.name, func(t *testing.T) {
			got, err := subscription.NewBooks(c.contracts, nil, now).Choose(need("gw-01"))
			require.NoError(t, err)
			assert.Equal(t, c.want, got.Contract.Number)
			assert.Equal(t, c.why, got.Why)
		})
	}
}

func TestWhyNoContractServes(t *testing.T) {
	for _, c := range []struct {
		name   string
		change func(*subscription.Contract)
		need   func(*subscription.Need)
		want   string
	}{
		{"ended", func(c *subscription.Contract) { c.End = day(-1) }, nil, "A: it ended on 2026-11-22"},
		{"ends at this very moment", func(c *subscription.Contract) { c.End = now }, nil, "A: it ended on 2026-11-23"},
		{"not begun", func(c *subscription.Contract) { c.Start = day(3) }, nil, "A: it begins on 2026-11-26"},
		{"withdrawn", func(c *subscription.Contract) { c.Withdrawn = true }, nil, "A: it was withdrawn"},
		{"full", func(c *subscription.Contract) { c.Seats = 0 }, nil, "A: all of its 0 seats are taken"},
		{"opens something else", func(c *subscription.Contract) { c.Opens[0].Name = "other" }, nil, "A: it does not open gannet-licensed"},
		{"not for the release", func(c *subscription.Contract) { c.Opens[0].Releases = []string{"skerry-11"} }, nil, "A: it does not open gannet-licensed for skerry-12"},
		{"not for the architecture", func(c *subscription.Contract) { c.Opens[0].Archs = []string{"aarch64"} }, nil, "A: it does not open gannet-licensed for x86_64"},
		{"not named by the policy", nil, func(n *subscription.Need) { n.Numbers = []string{"B"} }, "A: the policy does not name it"},
		{"opens one of two", nil, func(n *subscription.Need) { n.Opens = append(n.Opens, "gannet-debug") }, "A: it does not open gannet-debug"},
	} {
		t.Run(c.name, func(t *testing.T) {
			a, n := contract("A", 1), need("gw-01")
			if c.change != nil {
				c.change(&a)
			}
			if c.need != nil {
				c.need(&n)
			}
			_, err := subscription.NewBooks([]subscription.Contract{a}, nil, now).Choose(n)
			var none *subscription.NoContract
			require.ErrorAs(t, err, &none)
			assert.Equal(t, []string{c.want}, none.Reasons)
		})
	}
	_, err := subscription.NewBooks(nil, nil, now).Choose(need("gw-01"))
	assert.EqualError(t, err, "the account gannet has no contract")
}

func TestReleasesAreMatchedAtEachDepth(t *testing.T) {
	for release, want := range map[string]bool{"foreland": true, "foreland-9": true, "foreland-9.2": true, "foreland-8": false, "skerry": false} {
		c := contract("A", 1, func(c *subscription.Contract) { c.Opens[0].Releases = []string{release} })
		n := need("arc-1")
		n.OS, n.Version = "foreland", "9.2"
		_, err := subscription.NewBooks([]subscription.Contract{c}, nil, now).Choose(n)
		assert.Equal(t, want, err == nil, release)
	}
}

func TestAHostKeepsItsSeat(t *testing.T) {
	cheap := contract("B", 5, func(c *subscription.Contract) { c.Price = 1 })
	held := []subscription.Seat{{Host: "gw-01", Account: "gannet", Contract: "A"}}
	got, err := subscription.NewBooks([]subscription.Contract{contract("A", 1), cheap}, held, now).Choose(need("gw-01"))
	require.NoError(t, err)
	assert.Equal(t, "A", got.Contract.Number)
	assert.Equal(t, "the host has this seat already", got.Why)
}

func TestNeverHalfAGroup(t *testing.T) {
	groups := []subscription.Group{
		{Name: "gateways", Needs: []subscription.Need{need("gw-01"), need("gw-02"), need("gw-03")}},
		{Name: "desks", Needs: []subscription.Need{need("desk-1")}},
	}
	p := subscription.NewBooks([]subscription.Contract{contract("A", 2)}, nil, now).Plan(groups)
	require.Len(t, p.Short, 1)
	assert.Equal(t, "gateways", p.Short[0].Group)
	assert.Equal(t, 3, p.Short[0].Needed)
	assert.Equal(t, 1, p.Short[0].Short)
	assert.Equal(t, []string{"gw-03"}, p.Short[0].Hosts)
	require.Len(t, p.Take, 1, "a group that fits takes its seats though another does not")
	assert.Equal(t, "desk-1", p.Take[0].Need.Host)
}

func TestSeatsThatAreThereAreNotTakenAgain(t *testing.T) {
	held := []subscription.Seat{{Host: "gw-01", Account: "gannet", Contract: "A"}}
	p := subscription.NewBooks([]subscription.Contract{contract("A", 2)}, held, now).Plan([]subscription.Group{{Name: "gateways", Needs: []subscription.Need{need("gw-01"), need("gw-02")}}})
	assert.Empty(t, p.Short)
	require.Len(t, p.Take, 1)
	assert.Equal(t, "gw-02", p.Take[0].Need.Host)
}

func TestASeatInAnEndedContractIsReplaced(t *testing.T) {
	held := []subscription.Seat{{Host: "gw-01", Account: "gannet", Contract: "OLD"}}
	old := contract("OLD", 1, func(c *subscription.Contract) { c.End = day(-1) })
	p := subscription.NewBooks([]subscription.Contract{old, contract("NEW", 1)}, held, now).Plan([]subscription.Group{{Name: "g", Needs: []subscription.Need{need("gw-01")}}})
	require.Len(t, p.Take, 1)
	assert.Equal(t, "NEW", p.Take[0].Contract)
	assert.Equal(t, "OLD", p.Take[0].Replaces)
}

func TestAContractThatShrankHasNoSeatsAndSaysHowManyTooMany(t *testing.T) {
	held := []subscription.Seat{{Host: "gw-01", Account: "gannet", Contract: "A"}, {Host: "gw-02", Account: "gannet", Contract: "A"}}
	b := subscription.NewBooks([]subscription.Contract{contract("A", 1)}, held, now)
	assert.Equal(t, 0, b.Free(&b.Contracts[0]))
	assert.Equal(t, 1, b.Over(&b.Contracts[0]))
	_, err := b.Choose(need("gw-03"))
	assert.ErrorContains(t, err, "all of its 1 seat are taken")
}

// TestWhateverCanBeServedIsServed holds the plan against trying every way.
func TestWhateverCanBeServedIsServed(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var contracts []subscription.Contract
		names := []string{"one", "two", "three"}
		for i := range rapid.IntRange(1, 3).Draw(t, "contracts") {
			c := contract(fmt.Sprintf("C%d", i), rapid.IntRange(0, 3).Draw(t, "seats"))
			c.Price = rapid.Int64Range(0, 3).Draw(t, "price")
			c.Opens = nil
			for _, n := range names {
				if rapid.Bool().Draw(t, "opens "+n) {
					c.Opens = append(c.Opens, subscription.Opening{Name: n})
				}
			}
			contracts = append(contracts, c)
		}
		var needs []subscription.Need
		for i := range rapid.IntRange(1, 6).Draw(t, "hosts") {
			n := need(fmt.Sprintf("h%d", i))
			n.Opens = []string{rapid.SampledFrom(names).Draw(t, "needs")}
			needs = append(needs, n)
		}
		b := subscription.NewBooks(contracts, nil, now)
		p := b.Plan([]subscription.Group{{Name: "g", Needs: needs}})
		best := most(contracts, needs, map[string]int{})
		if len(p.Short) > 0 {
			if got := len(needs) - p.Short[0].Short; got != best {
				t.Fatalf("%d of %d could be served, the plan serves %d", best, len(needs), got)
			}
			return
		}
		if best != len(needs) || len(p.Take) != len(needs) {
			t.Fatalf("the plan takes %d seats for %d hosts, and %d could be served", len(p.Take), len(needs), best)
		}
		used := map[string]int{}
		for _, x := range p.Take {
			c := b.Contract("gannet", x.Contract)
			if !slices.ContainsFunc(c.Opens, func(o subscription.Opening) bool { return o.Name == x.Need.Opens[0] }) {
				t.Fatalf("%s sits in %s, which does not open what it needs", x.Need.Host, x.Contract)
			}
			if used[x.Contract]++; used[x.Contract] > c.Seats {
				t.Fatalf("%s has %d seats, and %d are taken", x.Contract, c.Seats, used[x.Contract])
			}
		}
	})
}

// most counts how many needs can be served at best, by trying every way.
func most(contracts []subscription.Contract, needs []subscription.Need, used map[string]int) int {
	if len(needs) == 0 {
		return 0
	}
	best := most(contracts, needs[1:], used)
	for _, c := range contracts {
		if used[c.Number] < c.Seats && slices.ContainsFunc(c.Opens, func(o subscription.Opening) bool { return o.Name == needs[0].Opens[0] }) {
			used[c.Number]++
			best = max(best, 1+most(contracts, needs[1:], used))
			used[c.Number]--
		}
	}
	return best
}

func TestWhatHappensAtTheEndOfAContract(t *testing.T) {
	soon := contract("SOON", 3, func(c *subscription.Contract) { c.End = day(30) })
	later := contract("LATER", 1, func(c *subscription.Contract) { c.End = day(120) })
	gone := contract("GONE", 3, func(c *subscription.Contract) { c.Withdrawn = true })
	var seats []subscription.Seat
	var needs []subscription.Need
	for host, number := range map[string]string{"gw-01": "SOON", "gw-02": "SOON", "gw-03": "GONE"} {
		seats = append(seats, subscription.Seat{Host: host, Account: "gannet", Contract: number})
		needs = append(needs, need(host))
	}
	slices.SortFunc(needs, func(a, b subscription.Need) int { return int(a.Host[4]) - int(b.Host[4]) })
	list := subscription.NewBooks([]subscription.Contract{soon, later, gone}, seats, now).Ends(90*24*time.Hour, needs)
	require.Len(t, list, 2)
	assert.Equal(t, "SOON", list[0].Contract.Number)
	assert.Equal(t, 30, list[0].Days)
	assert.Equal(t, []subscription.Moving{{Host: "gw-01", To: "LATER"}}, list[0].Moving)
	assert.Equal(t, []string{"gw-02"}, list[0].Falling)
	assert.Equal(t, "GONE", list[1].Contract.Number)
	assert.Equal(t, []subscription.Moving{{Host: "gw-03", To: "LATER"}}, list[1].Moving, "a withdrawn contract's hosts move at once")
}

func TestAHostThatTwoContractsCover(t *testing.T) {
	all := contract("ALL", 0, func(c *subscription.Contract) { c.Cover = subscription.CoverOrganisation })
	seats := []subscription.Seat{{Host: "gw-01", Account: "gannet", Contract: "A"}}
	b := subscription.NewBooks([]subscription.Contract{contract("A", 1), all}, seats, now)
	assert.Equal(t, []subscription.Double{{Host: "gw-01", Account: "gannet", Contracts: []string{"A", "ALL"}}}, b.Twice([]subscription.Need{need("gw-01"), need("gw-02")}))
	assert.Equal(t, -1, b.Free(&b.Contracts[1]))
}

func TestAHundredThousandHostsArePlannedQuickly(t *testing.T) {
	var needs []subscription.Need
	for i := range 100_000 {
		needs = append(needs, need(fmt.Sprintf("h%06d", i)))
	}
	p := subscription.NewBooks([]subscription.Contract{contract("A", 60_000), contract("B", 39_000)}, nil, now).Plan([]subscription.Group{{Name: "g", Needs: needs}})
	require.Len(t, p.Short, 1)
	assert.Equal(t, 1000, p.Short[0].Short)
}
