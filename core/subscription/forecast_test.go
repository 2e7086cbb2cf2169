package subscription_test

import (
	"fmt"
	"math"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"patientlantern.example/lantern/core/subscription"
)

func withdrawn(c *subscription.Contract)  { c.Withdrawn = true }
func evaluation(c *subscription.Contract) { c.Evaluation, c.Price = true, 0 }
func organisation(c *subscription.Contract) {
	c.Cover, c.Seats = subscription.CoverOrganisation, 0
}

func ends(t time.Time) func(*subscription.Contract) {
	return func(c *subscription.Contract) { c.End = t }
}

func begins(t time.Time) func(*subscription.Contract) {
	return func(c *subscription.Contract) { c.Start = t }
}

// sitters are hosts that need a seat, and sit in contracts by number.
func sitters(in ...string) (needs []subscription.Need, seats []subscription.Seat) {
	for i, number := range in {
		host := fmt.Sprintf("gw-%02d", i+1)
		needs = append(needs, need(host))
		if number != "" {
			seats = append(seats, subscription.Seat{Host: host, Account: "gannet", Contract: number})
		}
	}
	return needs, seats
}

func TestAYearIsLookedAhead(t *testing.T) {
	needs, seats := sitters("A", "A", "A", "")
	far := ends(now.AddDate(2, 0, 0))
	for _, c := range []struct {
		name      string
		contracts []subscription.Contract
		short     []int // now, and after 3, 6, 9 and 12 months
		seats     []int
	}{
		{"nothing bought", nil, []int{4, 4, 4, 4, 4}, []int{0, 0, 0, 0, 0}},
		{"good for long", []subscription.Contract{contract("A", 5, far)}, []int{0, 0, 0, 0, 0}, []int{5, 5, 5, 5, 5}},
		{"too few", []subscription.Contract{contract("A", 3, far)}, []int{1, 1, 1, 1, 1}, []int{3, 3, 3, 3, 3}},
		{"ends within the year", []subscription.Contract{contract("A", 4, ends(now.AddDate(0, 5, 0)))}, []int{0, 0, 4, 4, 4}, []int{4, 4, 0, 0, 0}},
		{"ends with the step", []subscription.Contract{contract("A", 4, ends(now.AddDate(0, 6, 0)))}, []int{0, 0, 4, 4, 4}, []int{4, 4, 0, 0, 0}},
		{"another takes some", []subscription.Contract{contract("A", 4, ends(now.AddDate(0, 5, 0))), contract("B", 1, far)}, []int{0, 0, 3, 3, 3}, []int{5, 5, 1, 1, 1}},
		{"another is bought already", []subscription.Contract{contract("A", 4, ends(now.AddDate(0, 5, 0))), contract("B", 4, far, begins(now.AddDate(0, 5, 0)))},
			[]int{0, 0, 0, 0, 0}, []int{4, 4, 4, 4, 4}},
		{"withdrawn", []subscription.Contract{contract("A", 4, far, withdrawn)}, []int{4, 4, 4, 4, 4}, []int{0, 0, 0, 0, 0}},
		{"the organisation", []subscription.Contract{contract("A", 0, far, organisation)}, []int{0, 0, 0, 0, 0}, []int{-1, -1, -1, -1, -1}},
		{"opens something else", []subscription.Contract{contract("A", 4, far, func(c *subscription.Contract) { c.Opens[0].Name = "other" })}, []int{4, 4, 4, 4, 4}, []int{4, 4, 4, 4, 4}},
	} {
		t.Run(c.name, func(t *testing.T) {
			f := subscription.NewBooks(c.contracts, seats, now).Forecast("gannet", append(needs, subscription.Need{Host: "gw-01", Account: "plover"}), nil)
			var short, there []int
			for i, s := range f.Steps {
				assert.Equal(t, now.AddDate(0, 3*i, 0), s.At)
				assert.Equal(t, 4, s.Needed, "of the other account nothing is counted")
				short, there = append(short, s.Short), append(there, s.Seats)
			}
			assert.Equal(t, c.short, short)
			assert.Equal(t, c.seats, there)
		})
	}
}

// TestSeatsOfOthersAreNotGivenAway: what nobody has given back is not free, and what is to be given back is.
func TestSeatsOfOthersAreNotGivenAway(t *testing.T) {
	needs, seats := sitters("A", "")
	for holder, want := range map[subscription.Holder]int{"": 1, subscription.Elsewhere: 1, subscription.Leaving: 0} {
		all := append(slices.Clone(seats), subscription.Seat{Host: "desk-1", Account: "gannet", Contract: "A", Holder: holder})
		f := subscription.NewBooks([]subscription.Contract{contract("A", 2)}, all, now).Forecast("gannet", needs, nil)
		assert.Equal(t, want, f.Steps[0].Short, "%q", holder)
	}
}

func TestWhatAFurtherYearCosts(t *testing.T) {
	in := func(months int) func(*subscription.Contract) { return ends(now.AddDate(0, months, 0)) }
	crowns := func(c *subscription.Contract) { c.Currency = "SEK" }
	contracts := []subscription.Contract{
		contract("A", 6, in(2)),
		contract("B", 3, in(3), func(c *subscription.Contract) { c.Price = 54000 }),
		contract("C", 2, in(11), crowns),
		contract("E", 3, in(1), evaluation),
		contract("F", 3, in(1), func(c *subscription.Contract) { c.Price = 0 }),
		contract("G", 3, in(1), func(c *subscription.Contract) { c.Price, c.Seats = math.MaxInt64, 9 }),
		contract("H", 3, in(1), withdrawn),
		contract("I", 3, in(-1)),
		contract("O", 0, in(13), organisation),
		contract("Z", 4, in(24)),
	}
	f := subscription.NewBooks(contracts, nil, now).Forecast("gannet", nil, nil)
	assert.Equal(t, []subscription.Cost{
		{Currency: "EUR", Cost: (6+4)*12000 + 3*54000, Unknown: 4},
		{Currency: "SEK", Cost: 2 * 12000},
	}, f.Costs)
	var said []string
	for _, r := range f.Renewals {
		said = append(said, fmt.Sprintf("%s %d %s%s", r.Contract, r.Cost, r.Currency, r.Unknown))
	}
	assert.Equal(t, []string{
		"E 0 EURan evaluation is not renewed", "F 0 EURthe desk tells no price", "G 0 EURthe desk tells a price that cannot be",
		"A 72000 EUR", "B 162000 EUR", "C 24000 SEK",
	}, said)
	assert.Empty(t, f.Steps[0].Costs)
	assert.Equal(t, []subscription.Cost{{Currency: "EUR", Cost: 72000 + 162000, Unknown: 3}}, f.Steps[1].Costs)
	assert.Empty(t, f.Steps[2].Costs)
	assert.Empty(t, f.Steps[3].Costs)
	assert.Equal(t, []subscription.Cost{{Currency: "SEK", Cost: 24000}}, f.Steps[4].Costs)
}

func TestThePaceOfWhatWasUsed(t *testing.T) {
	at := func(days int) time.Time { return now.AddDate(0, 0, -days) }
	needs, seats := sitters("A", "A", "A", "A")
	for _, c := range []struct {
		name   string
		counts []subscription.Count
		pace   int // -1: not known
		since  time.Time
		needed []int
	}{
		{"never counted", nil, -1, time.Time{}, []int{4, 4, 4, 4, 4}},
		{"for a month", []subscription.Count{{Contract: "A", At: at(30)}}, -1, at(30), []int{4, 4, 4, 4, 4}},
		{"a day too short", []subscription.Count{{Contract: "A", At: at(119)}}, -1, at(119), []int{4, 4, 4, 4, 4}},
		{"what came in at first says nothing", []subscription.Count{{Contract: "A", At: at(130)}, {Contract: "A", At: at(120), Used: 4}}, 0, at(100), []int{4, 4, 4, 4, 4}},
		{"two in a hundred days", []subscription.Count{{Contract: "A", At: at(130), Used: 1}, {Contract: "A", At: at(120), Used: 2}, {Contract: "A", At: at(10), Used: 4}},
			8, at(100), []int{4, 6, 8, 10, 12}},
		{"one a year", []subscription.Count{{Contract: "A", At: at(800), Used: 1}, {Contract: "A", At: at(500), Used: 3}, {Contract: "A", At: at(10), Used: 4}},
			1, now.AddDate(-1, 0, 0), []int{4, 5, 5, 5, 5}},
		{"fewer than before", []subscription.Count{{Contract: "A", At: at(300), Used: 9}}, 0, at(270), []int{4, 4, 4, 4, 4}},
		{"moved from another contract", []subscription.Count{{Contract: "X", At: at(300), Used: 4}, {Contract: "X", At: at(9)}, {Contract: "A", At: at(9), Used: 4}},
			0, at(270), []int{4, 4, 4, 4, 4}},
	} {
		t.Run(c.name, func(t *testing.T) {
			f := subscription.NewBooks([]subscription.Contract{contract("A", 6, ends(now.AddDate(3, 0, 0)))}, seats, now).Forecast("gannet", needs, c.counts)
			if c.pace < 0 {
				assert.Nil(t, f.Pace)
			} else if assert.NotNil(t, f.Pace) {
				assert.Equal(t, c.pace, *f.Pace)
			}
			if c.since.IsZero() {
				assert.Nil(t, f.Since)
			} else {
				require.NotNil(t, f.Since)
				assert.Equal(t, c.since, *f.Since)
			}
			var needed []int
			for _, s := range f.Steps {
				needed = append(needed, s.Needed)
				assert.Equal(t, max(0, s.Needed-6), s.Short)
			}
			assert.Equal(t, c.needed, needed)
		})
	}
}

// TestNobodyIsShortWhomAnybodyCouldSeat: the shortage is that of seating host by host, each
// asking others to move on.
func TestNobodyIsShortWhomAnybodyCouldSeat(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		names := []string{"gannet-licensed", "gannet-debug", "gannet-source"}
		some := func(what string) []string {
			return rapid.SliceOfNDistinct(rapid.SampledFrom(names), 1, 3, rapid.ID).Draw(t, what)
		}
		var contracts []subscription.Contract
		for i := range rapid.IntRange(0, 4).Draw(t, "contracts") {
			c := contract(fmt.Sprintf("C%d", i), rapid.IntRange(0, 3).Draw(t, "seats"))
			c.Opens = nil
			for _, name := range some("opens") {
				c.Opens = append(c.Opens, subscription.Opening{Name: name})
			}
			if rapid.IntRange(0, 9).Draw(t, "wide") == 0 {
				organisation(&c)
			}
			contracts = append(contracts, c)
		}
		var needs []subscription.Need
		var seats []subscription.Seat
		for i := range rapid.IntRange(0, 9).Draw(t, "hosts") {
			n := need(fmt.Sprintf("gw-%02d", i))
			n.Opens = some("wants")
			needs = append(needs, n)
			if at := rapid.IntRange(-1, len(contracts)-1).Draw(t, "sits"); at >= 0 {
				seats = append(seats, subscription.Seat{Host: n.Host, Account: "gannet", Contract: contracts[at].Number})
			}
		}
		f := subscription.NewBooks(contracts, seats, now).Forecast("gannet", needs, nil)
		assert.Equal(t, unseated(contracts, needs), f.Steps[0].Short)
	})
}

// unseated seats hosts one by one and counts those for whom nobody finds a place.
func unseated(contracts []subscription.Contract, needs []subscription.Need) (n int) {
	serves := func(c subscription.Contract, n subscription.Need) bool {
		for _, name := range n.Opens {
			if !slices.ContainsFunc(c.Opens, func(o subscription.Opening) bool { return o.Name == name }) {
				return false
			}
		}
		return true
	}
	sits := map[int][]int{}
	var seat func(host int, asked map[int]bool) bool
	seat = func(host int, asked map[int]bool) bool {
		for i, c := range contracts {
			if asked[i] || !serves(c, needs[host]) {
				continue
			}
			asked[i] = true
			if c.Cover == subscription.CoverOrganisation || len(sits[i]) < c.Seats {
				sits[i] = append(sits[i], host)
				return true
			}
			for j, other := range sits[i] {
				if seat(other, asked) {
					sits[i][j] = host
					return true
				}
			}
		}
		return false
	}
	for host := range needs {
		if !seat(host, map[int]bool{}) {
			n++
		}
	}
	return n
}

func TestAContractStandsAtTheStepByWhichItHasEnded(t *testing.T) {
	var contracts []subscription.Contract
	for i, end := range []time.Time{
		now, now.Add(1), now.AddDate(0, 3, 0), now.AddDate(0, 3, 0).Add(1), now.AddDate(0, 6, 0), now.AddDate(0, 6, 0).Add(1),
		now.AddDate(1, 0, 0), now.AddDate(1, 0, 0).Add(1),
	} {
		contracts = append(contracts, contract(fmt.Sprint("C", i), 1, ends(end)))
	}
	var said []string
	for _, r := range subscription.NewBooks(contracts, nil, now).Forecast("gannet", nil, nil).Renewals {
		said = append(said, fmt.Sprint(r.Contract, " ", r.Step))
	}
	assert.Equal(t, []string{"C1 1", "C2 1", "C3 2", "C4 2", "C5 3", "C6 4"}, said)
}
