package choice_test

import (
	"fmt"
	"iter"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"patientlantern.example/lantern/core/choice"
	"patientlantern.example/lantern/core/index"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/upstream"
)

var (
	sharedNames = []string{"gull", "sedge", "tern", "tide-model", "whelk"}
	sharedFiles = []string{"1.0-1", "1.1-1", "2.0-1"}
)

// drawnLists are what a few places offer.
func drawnLists(t *rapid.T) map[string]*index.List {
	out := map[string]*index.List{}
	for i := range 6 {
		var list []index.Package
		for _, name := range sharedNames {
			if rapid.Bool().Draw(t, "offers "+name) {
				list = append(list, index.Package{Name: name, Version: rapid.SampledFrom(sharedFiles).Draw(t, "version"), Arch: "x86_64"})
			}
		}
		out[fmt.Sprint("place-", i)] = index.NewList(list)
	}
	delete(out, "place-5") // of which nothing is known
	return out
}

// drawnHost is a host with a few of the places, in an order of its own.
func drawnHost(t *rapid.T, family string) *choice.Host {
	s := &source.Survey{Traits: source.Traits{Family: family, Architectures: []string{"x86_64"}}}
	h := &choice.Host{Survey: s}
	places := rapid.SliceOfNDistinct(rapid.IntRange(0, 5), 1, 5, rapid.ID[int]).Draw(t, "places")
	order := rapid.Permutation(places).Draw(t, "order")
	for i, place := range places {
		x := source.Source{Family: family, Enabled: true, Position: slices.Index(order, place)}
		if p := rapid.SampledFrom([]int{0, 0, 50, 99}).Draw(t, "priority"); p > 0 {
			x.Priority = &p
		}
		s.Sources = append(s.Sources, x)
		suite := rapid.SampledFrom([]string{"mussel", "mussel", "limpet"}).Draw(t, "suite")
		h.Uses = append(h.Uses, &upstream.Use{
			Place: upstream.Place{Family: family, URLs: []string{fmt.Sprintf("https://%s.skerry.example/%d/", rapid.SampledFrom([]string{"archive", "mirror"}).Draw(t, "site"), place)}, Suite: suite},
			Key:   fmt.Sprint("place-", place), File: "/etc/x", ID: fmt.Sprint("id-", place), At: i,
		})
	}
	if rapid.IntRange(0, 3).Draw(t, "held") == 0 {
		kind := rapid.SampledFrom([]string{source.HoldHold, source.HoldExclude, source.HoldInclude, source.HoldIgnore, source.HoldLock}).Draw(t, "kind")
		of := rapid.SampledFrom([]string{"", "id-0", "id-1"}).Draw(t, "of")
		s.Holds = []source.Hold{{Family: family, Kind: kind, What: rapid.SampledFrom(sharedNames).Draw(t, "what"), Source: of, File: "/etc/holds"}}
	}
	if rapid.IntRange(0, 3).Draw(t, "pinned") == 0 {
		pin := rapid.SampledFrom([]string{"release n=mussel", "version 1.0*", "origin archive.skerry.example"}).Draw(t, "pin")
		s.Pins = []source.Pin{{Packages: []string{rapid.SampledFrom([]string{"*", "tern"}).Draw(t, "for")}, Pin: pin,
			Priority: rapid.SampledFrom([]int{-1, 100, 1001}).Draw(t, "at"), Valid: true, File: "/etc/pins"}}
	}
	if family == "deb" && rapid.IntRange(0, 3).Draw(t, "release") == 0 {
		s.Settings = []source.Setting{{Family: family, Name: "APT::Default-Release", Value: "limpet"}}
	}
	return h
}

// theirs says of what is offered where it is for a host.
func theirs(h *choice.Host, o *choice.Offered, places []int) {
	o.Use = places[o.Use]
	o.From, o.Suite = h.Uses[o.Use].Address(), h.Uses[o.Use].Suite
}

// What hosts choose together is what each of them chooses by itself.
func TestWhatIsChosenForAllIsWhatEachChooses(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		family := rapid.SampledFrom([]string{"deb", "rpm", "zypp", "arch", "flatpak"}).Draw(rt, "family")
		shared := choice.Shared{Lists: drawnLists(rt), Releases: map[string]*upstream.ReleaseFile{}}
		for i := range 6 {
			shared.Releases[fmt.Sprint("place-", i)] = &upstream.ReleaseFile{Codename: rapid.SampledFrom([]string{"mussel", "limpet"}).Draw(rt, "codename")}
		}
		for range rapid.IntRange(2, 8).Draw(rt, "hosts") {
			h := drawnHost(rt, family)
			for _, name := range sharedNames {
				installed := rapid.SampledFrom(append([]string{""}, sharedFiles...)).Draw(rt, "installed")
				alone := h.With(shared.Releases).Choose(family, name, h.Offered(func(key string) iter.Seq[index.Package] {
					if l := shared.Lists[key]; l != nil {
						return l.Named(name)
					}
					return slices.Values([]index.Package(nil))
				}), installed)
				together, places := shared.Choose(h, name, installed)
				back := *together
				back.Offers = slices.Clone(back.Offers)
				for i := range back.Offers {
					theirs(h, &back.Offers[i], places)
				}
				if back.Taken != nil {
					taken := *back.Taken
					theirs(h, &taken, places)
					back.Taken = &taken
				}
				alone.Why, back.Why = strings.Split(alone.Why, ";")[0], strings.Split(back.Why, ";")[0] // another build is told with where it is
				assert.Equal(rt, alone, back, name)
			}
		}
	})
}

// Of a change the packages are concerned that come or go with places, and those alone of several places where weights change.
func TestWhichPackagesAChangeConcerns(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		shared := choice.Shared{Lists: drawnLists(rt)}
		before, after := drawnHost(rt, "rpm"), drawnHost(rt, "rpm")
		offering := func(h *choice.Host, name string) (out []string) {
			for _, u := range h.Uses {
				if l := shared.Lists[u.Key]; l != nil && slices.Contains(slices.Collect(l.Names()), name) {
					out = append(out, u.Key)
				}
			}
			slices.Sort(out)
			return slices.Compact(out)
		}
		keys := func(h *choice.Host) (out []string) {
			for _, u := range h.Uses {
				out = append(out, u.Key)
			}
			slices.Sort(out)
			return out
		}
		same := slices.Equal(keys(before), keys(after))
		want, several := []string{}, []string{}
		for _, name := range sharedNames {
			was, is := offering(before, name), offering(after, name)
			if same && len(was) > 1 || !same && !slices.Equal(was, is) {
				want = append(want, name)
				if len(was) > 1 || slices.ContainsFunc(is, func(k string) bool { return !slices.Contains(was, k) }) && len(was) > 0 {
					several = append(several, name)
				}
			}
		}
		names, all := shared.Concerned(before, after, 10)
		assert.Equal(rt, want, append([]string{}, names...))
		assert.Equal(rt, len(want), all)
		most := rapid.IntRange(0, 4).Draw(rt, "most")
		names, all = shared.Concerned(before, after, most)
		assert.Equal(rt, len(want), all)
		if all > most {
			assert.Equal(rt, several[:min(len(several), most)], append([]string{}, names...))
		}
	})
}
