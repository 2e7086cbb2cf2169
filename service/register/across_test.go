package register

import (
	"fmt"
	"math"
	"reflect"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"patientlantern.example/lantern/service/fleet"
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
