package trust_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/trust"
)

var now = time.Date(2026, 11, 26, 8, 0, 0, 0, time.UTC)

func days(n int) *time.Time {
	t := now.AddDate(0, 0, n)
	return &t
}

func key(fpr string, used bool, scope string, ends *time.Time) source.Key {
	return source.Key{Fingerprint: fpr, Used: used, Scope: scope, Expires: ends, Algorithm: "ed25519", Where: "/etc/" + fpr + scope}
}

func survey(keys ...source.Key) []trust.Use { return trust.Of(&source.Survey{Keys: keys}) }

func TestAKeyOfAFleet(t *testing.T) {
	const old, next, foreign = "AA", "BB", "CC"
	named := []trust.Named{
		{Name: "saltmarsh-2026", Repositories: []string{"saltmarsh"}, Describe: source.Key{Fingerprint: old}},
		{Name: "saltmarsh-2029", Succeeds: "saltmarsh-2026", Repositories: []string{"saltmarsh"}, Describe: source.Key{Fingerprint: next}},
	}
	successors := trust.Successors(named)
	assert.Equal(t, map[string]string{old: next}, successors)
	var f trust.Fleet
	both := []source.Key{key(old, true, source.ScopeNamed, days(20)), key(next, true, source.ScopeNamed, days(900))}
	f.Add(survey(both...), 10, successors)
	f.Add(survey(both[0], key(foreign, true, source.ScopeAny, nil), key(foreign, true, source.ScopeNamed, nil)), 5, successors)
	f.Add(survey(key(old, false, source.ScopeNamed, days(20))), 2, successors)
	got := map[string]trust.FleetKey{}
	for _, k := range f.List(named, 30*24*time.Hour, now) {
		got[k.Fingerprint] = k
	}
	assert.Equal(t, []any{15, 0, 2, "saltmarsh-2026", trust.Ends}, []any{got[old].Hosts, got[old].Wide, got[old].Idle, got[old].Policy, got[old].State})
	assert.Equal(t, "saltmarsh-2029 is on 10 of 15 hosts that believe this one", got[old].Replacement)
	assert.Equal(t, []any{10, trust.Good, []string{"saltmarsh"}}, []any{got[next].Hosts, got[next].State, got[next].For})
	var gone trust.Fleet
	gone.Add(survey(both[1]), 3, successors)
	for _, k := range gone.List(named, time.Hour, now) {
		if k.Fingerprint == old {
			assert.Equal(t, "no host that is known believes this one any more, and 3 hosts believe saltmarsh-2029: it can go", k.Replacement)
		}
	}
	assert.Equal(t, []any{5, 5, trust.Unknown}, []any{got[foreign].Hosts, got[foreign].Wide, got[foreign].State}, "the widest scope counts")
}

func TestTheStateOfAKey(t *testing.T) {
	revoked, dsa := key("AA", true, source.ScopeNamed, nil), key("AA", true, source.ScopeNamed, nil)
	revoked.Revoked, dsa.Algorithm = true, "dsa1024"
	for _, c := range []struct {
		name  string
		key   source.Key
		named []trust.Named
		want  string
	}{
		{"revoked", revoked, nil, trust.Revoked},
		{"ended", key("AA", true, source.ScopeNamed, days(-1)), nil, trust.Ended},
		{"ends", key("AA", true, source.ScopeNamed, days(29)), nil, trust.Ends},
		{"weak by its name", dsa, nil, trust.Weak},
		{"weak by what the policy knows", key("AA", true, source.ScopeNamed, nil), []trust.Named{{Name: "a", Weakness: "its self-signature is made with SHA-1", Describe: source.Key{Fingerprint: "AA"}}}, trust.Weak},
		{"unknown", key("AA", true, source.ScopeNamed, days(31)), nil, trust.Unknown},
		{"good", key("AA", true, source.ScopeNamed, days(31)), []trust.Named{{Name: "a", Describe: source.Key{Fingerprint: "AA"}}}, trust.Good},
	} {
		t.Run(c.name, func(t *testing.T) {
			var f trust.Fleet
			f.Add(survey(c.key), 1, nil)
			assert.Equal(t, c.want, f.List(c.named, 30*24*time.Hour, now)[0].State)
		})
	}
	var none trust.Fleet
	list := none.List([]trust.Named{{Name: "a", Describe: source.Key{Fingerprint: "AA"}}}, time.Hour, now)
	assert.Equal(t, []any{1, 0, "a"}, []any{len(list), list[0].Hosts, list[0].Policy}, "a key that no host has yet is listed")
}

// Whoever adds up host by host, or alike hosts together, in any order, finds the same.
func TestTheOrderOfHostsDoesNotMatter(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		next := map[string]string{"K0": "K1"}
		var kinds [][]trust.Use
		for range rapid.IntRange(1, 4).Draw(t, "kinds") {
			var keys []source.Key
			for range rapid.IntRange(0, 5).Draw(t, "keys") {
				keys = append(keys, key(fmt.Sprintf("K%d", rapid.IntRange(0, 3).Draw(t, "which")), rapid.Bool().Draw(t, "used"),
					rapid.SampledFrom([]string{source.ScopeAny, source.ScopeNamed}).Draw(t, "scope"), nil))
			}
			kinds = append(kinds, survey(keys...))
		}
		fleet := rapid.SliceOfN(rapid.IntRange(0, len(kinds)-1), 1, 20).Draw(t, "hosts")
		var one, together trust.Fleet
		counts := make([]int, len(kinds))
		for _, k := range fleet {
			one.Add(kinds[k], 1, next)
			counts[k]++
		}
		for k := len(kinds) - 1; k >= 0; k-- {
			if counts[k] > 0 {
				together.Add(kinds[k], counts[k], next)
			}
		}
		assert.Equal(t, one.List(nil, time.Hour, now), together.List(nil, time.Hour, now))
		for _, k := range one.List(nil, time.Hour, now) {
			if k.Wide > k.Hosts || k.Hosts+k.Idle > len(fleet) {
				t.Fatalf("%+v of %d hosts", k, len(fleet))
			}
		}
	})
}

// A key may go where the next one is on every host that believes it, and the vendor signs with that one wherever it
// is known who signs; in every other case it stays.
func TestAKeyThatMayGo(t *testing.T) {
	const old, next = "AA", "BB"
	named := []trust.Named{
		{Name: "saltmarsh-2026", Repositories: []string{"saltmarsh"}, Describe: source.Key{Fingerprint: old}},
		{Name: "saltmarsh-2029", Succeeds: "saltmarsh-2026", Repositories: []string{"saltmarsh"}, Describe: source.Key{Fingerprint: next}},
	}
	rapid.Check(t, func(t *rapid.T) {
		both, only, after := rapid.IntRange(0, 2).Draw(t, "with both"), rapid.IntRange(0, 1).Draw(t, "with the old"), rapid.IntRange(0, 1).Draw(t, "with the next")
		was, is, unseen := rapid.IntRange(0, 2).Draw(t, "signed by the old"), rapid.IntRange(0, 2).Draw(t, "by the next"), rapid.IntRange(0, 2).Draw(t, "not seen")
		var f trust.Fleet
		f.Signs(map[string]int{old: was, next: is}, map[string]int{old: unseen})
		for n, uses := range map[*int][]source.Key{
			&both: {key(old, true, source.ScopeNamed, nil), key(next, true, source.ScopeNamed, nil)},
			&only: {key(old, true, source.ScopeNamed, nil)}, &after: {key(next, true, source.ScopeNamed, nil)},
		} {
			if *n > 0 {
				f.Add(survey(uses...), *n, trust.Successors(named))
			}
		}
		for _, k := range f.List(named, time.Hour, now) {
			want := false
			switch {
			case k.Fingerprint != old:
			case both+only > 0:
				want = only == 0 && was == 0 && is > 0 && unseen == 0
			default:
				want = after > 0 && was == 0
			}
			assert.Equal(t, want, k.MayGo, k.Replacement)
			assert.Equal(t, want, strings.HasSuffix(k.Replacement, "can go"), k.Replacement)
		}
	})
}
