package register

import (
	"fmt"
	"math"
	"reflect"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/service/fleet"
	"patientlantern.example/lantern/service/ground"
	"patientlantern.example/lantern/store"
)

// Whatever is counted is counted by every part, and parts are no less than the whole.
func TestCountsOfPartsAreThoseOfTheWhole(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		var one, two, both Tally
		of := reflect.TypeFor[Tally]()
		for i := range of.NumField() {
			if of.Field(i).Name != "Standing" {
				continue
			}
			for j := range of.Field(i).Type.NumField() {
				a, b := rapid.IntRange(0, 9).Draw(rt, "a"), rapid.IntRange(0, 9).Draw(rt, "b")
				name := of.Field(i).Type.Field(j).Name
				if name == "Invited" || name == "Older" { // not counted host by host
					a, b = 0, 0
				}
				reflect.ValueOf(&one.Standing).Elem().Field(j).SetInt(int64(a))
				reflect.ValueOf(&two.Standing).Elem().Field(j).SetInt(int64(b))
				reflect.ValueOf(&both.Standing).Elem().Field(j).SetInt(int64(a + b))
			}
		}
		for _, t := range []*Tally{&one, &two} {
			for range rapid.IntRange(0, 5).Draw(rt, "hosts") {
				revision := rapid.Int64Range(1, 3).Draw(rt, "revision")
				for _, into := range []*Tally{t, &both} {
					if into.held == nil {
						into.held = map[int64]int{}
					}
					into.held[revision]++
					into.newest = max(into.newest, revision)
				}
			}
		}
		one.join(&two)
		assert.Equal(rt, both, one)
		assert.Equal(rt, both.Sums(), one.Sums())
	})
}

// A fleet that is gone over in parts is gone over whole, and in order.
func TestEveryHostIsInOnePart(t *testing.T) {
	for _, n := range []int{0, 1, fleet.LeastPart, 2*fleet.LeastPart - 1, 2 * fleet.LeastPart, 5*fleet.LeastPart + 3} {
		hosts := make([]*fleet.Host, n)
		for i := range hosts {
			hosts[i] = &fleet.Host{}
			hosts[i].Put(&fleet.View{})
		}
		var seen []*fleet.Host
		for _, part := range fleet.Across(hosts, func(part []*fleet.Host) []*fleet.Host { return part }) {
			seen = append(seen, part...)
		}
		assert.True(t, len(seen) == n && (n == 0 || reflect.DeepEqual(&seen[0], &hosts[0])))
		for i := range seen {
			if seen[i] != hosts[i] {
				t.Fatal("out of order")
			}
		}
		counted := count(hosts, time.Now())
		assert.Equal(t, n, counted.Hosts)
	}
}

// The list is the same however many parts it was gathered from.
func TestRowsOfPartsAreThoseOfTheWhole(t *testing.T) {
	hosts := make([]*fleet.Host, 3*fleet.LeastPart)
	for i := range hosts {
		hosts[i] = &fleet.Host{}
		v := &fleet.View{System: &fleet.System{OS: fmt.Sprint("Skerry ", i*7%11)}}
		v.Name, v.Revision = fmt.Sprintf("node-%06d", i), int64(i%5)
		hosts[i].Put(v)
	}
	now := time.Now()
	for _, by := range []string{"name", "os", "revision", "state", "findings", "last_seen"} {
		for _, turned := range []bool{false, true} {
			in, order := &HostFilter{}, hostOrder{by, turned}
			for _, most := range []int{1, 100, len(hosts), math.MaxInt} {
				whole := in.look(hosts, nil, order, most, now).rows.InOrder()
				parts := fleet.Across(hosts, func(part []*fleet.Host) *hostRows { return in.look(part, nil, order, most, now) })
				all := joined(parts, order, most)
				got := all.InOrder()
				assert.Equal(t, len(hosts), all.Total)
				require.Len(t, got, min(most, len(hosts)))
				for i := range whole {
					if whole[i].h != got[i].h {
						t.Fatalf("%s, turned %t: %s is at %d, not %s", by, turned, got[i].h.Row().Name, i, whole[i].h.Row().Name)
					}
				}
			}
		}
	}
}

// A finding is the same however many parts the hosts were gone over in, and has each host once, however often it is there.
func TestGroupsOfPartsAreThoseOfTheWhole(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		hosts := make([]*fleet.Host, rapid.IntRange(0, 30).Draw(rt, "hosts"))
		having := map[string]map[string]bool{} // key → hosts
		began := time.Date(2026, 3, 3, 8, 0, 0, 0, time.UTC)
		all := 0
		for i := range hosts {
			v := &fleet.View{}
			v.Name = fmt.Sprintf("node-%02d", i)
			for range rapid.IntRange(0, 4).Draw(rt, "findings") {
				f := drift.Finding{
					Class:    drift.UnlistedSource,
					Severity: drift.Fault,
					File:     rapid.SampledFrom([]string{"/a", "/b", "/c"}).Draw(rt, "file"),
				}
				v.Findings, v.Keys = append(v.Findings, f), append(v.Keys, f.Key())
				if having[f.Key()] == nil {
					having[f.Key()] = map[string]bool{}
				}
				having[f.Key()][v.Name] = true
				all++
			}
			v.Since = store.Since{}.Follow(v.Keys, began.Add(time.Duration(rapid.IntRange(0, 5).Draw(rt, "hour"))*time.Hour), nil)
			hosts[i] = &fleet.Host{}
			hosts[i].Put(v)
		}
		in := &DriftQuery{}
		whole := in.grouped(hosts)
		at := rapid.IntRange(0, len(hosts)).Draw(rt, "at")
		parted := in.grouped(hosts[:at])
		parted.join(in.grouped(hosts[at:]))
		for _, gs := range []*groups{whole, parted} {
			require.Equal(rt, all, gs.all)
			require.Len(rt, gs.list, len(having))
			for i, g := range gs.list {
				require.Equal(rt, len(having[g.key]), g.hosts)
				require.Len(rt, g.names, min(g.hosts, ground.MostNames))
				require.True(rt, slices.IsSorted(g.names))
				require.Equal(rt, whole.list[i].names, g.names)
				require.Equal(rt, whole.list[i].first, g.first)
				require.Equal(rt, []time.Time{whole.list[i].since, whole.list[i].last}, []time.Time{g.since, g.last})
			}
		}
		require.Equal(rt, whole.hosts, parted.hosts)
	})
}
