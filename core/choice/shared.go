package choice

import (
	"encoding/binary"
	"encoding/json"
	"maps"
	mathbits "math/bits"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/index"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/upstream"
)

// Shared chooses for many hosts, and once for all of those to which of one package the same is offered and whose
// configuration has the same to say: hosts of a fleet differ in sources that do not offer it, and in mirrors of the same.
// It is not safe for several goroutines.
type Shared struct {
	Lists    map[string]*index.List           // what is offered, by the key of a place; none where that is not known
	Releases map[string]*upstream.ReleaseFile // apt: likewise

	frames map[string]uint32 // what decides on every package: a number for each text
	uses   map[string]uint32 // what sources say: likewise
	says   map[string]uint32 // what is offered under one name: likewise
	names  map[string]int    // of packages
	texts  []string          // likewise, by number
	lists  map[*index.List]*carried
	hosts  map[*Host]*weighing
	chosen map[string]*Choice
	key    []byte
}

// carried are the packages of a list, by the numbers of their names.
type carried struct {
	list  *index.List
	by    map[int]offering // those that were asked for
	all   []int32          // in the order of the names, each once; nil before somebody asks
	names bits             // likewise
}

// offering are the packages of one name.
type offering struct {
	list []index.Package
	says uint32 // a number for all that is said of them
}

// weighing is what decides on a host, in numbers.
type weighing struct {
	frame uint32
	uses  []uint32 // by the index of the use
}

// Choose is what a host takes under a name: Host.Choose of all that its places offer. The uses of what is offered
// are indexes into places, and those are the host's own. Where that is and Why are in the words of another host that
// chose the same, of which the mirrors may be others.
func (s *Shared) Choose(h *Host, name, installed string) (c *Choice, places []int) {
	n := s.number(name)
	for i := range h.Uses {
		if len(s.of(h.Uses[i].Key, n).list) > 0 {
			places = append(places, i)
		}
	}
	w := s.weighing(h)
	s.key = binary.AppendUvarint(append(s.key[:0], installed...), 0)
	s.key = binary.AppendUvarint(binary.AppendUvarint(s.key, uint64(n)), uint64(w.frame))
	for _, i := range places {
		before := 0 // of sources alike the first is taken
		for _, j := range places {
			if h.position(j) < h.position(i) {
				before++
			}
		}
		s.key = binary.AppendUvarint(binary.AppendUvarint(s.key, uint64(w.uses[i])), uint64(before))
		s.key = binary.AppendUvarint(s.key, uint64(s.of(h.Uses[i].Key, n).says))
	}
	if c = s.chosen[string(s.key)]; c == nil {
		c = s.choose(h, n, installed, places)
		s.chosen[string(s.key)] = c
	}
	return c, places
}

// choose has the host choose.
func (s *Shared) choose(h *Host, n int, installed string, places []int) *Choice {
	name, all := s.texts[n], []Offered{}
	for _, use := range places {
		for _, p := range s.of(h.Uses[use].Key, n).list {
			all = append(all, Offered{Package: p, Use: use})
		}
	}
	c := h.With(s.Releases).Choose(h.Survey.Traits.Family, name, all, installed)
	for i := range c.Offers {
		c.Offers[i].Use = slices.Index(places, c.Offers[i].Use)
	}
	if c.Taken != nil {
		c.Taken.Use = slices.Index(places, c.Taken.Use)
	}
	return &c
}

// position is where the source of a use stands among the host's.
func (h *Host) position(use int) int {
	if at := h.Uses[use].At; at < len(h.Survey.Sources) {
		return h.Survey.Sources[at].Position
	}
	return 0
}

// number is one for each name.
func (s *Shared) number(name string) int {
	n, known := s.names[name]
	if !known {
		if s.names == nil {
			s.names, s.chosen = map[string]int{}, map[string]*Choice{}
		}
		n = len(s.texts)
		s.names[name], s.texts = n, append(s.texts, name)
	}
	return n
}

// carries is what a place carries; nil where that is not known.
func (s *Shared) carries(key string) *carried {
	l := s.Lists[key]
	if l == nil {
		return nil
	}
	c := s.lists[l]
	if c == nil {
		if s.lists == nil {
			s.lists, s.says = map[*index.List]*carried{}, map[string]uint32{}
		}
		c = &carried{list: l, by: map[int]offering{}}
		s.lists[l] = c
	}
	return c
}

// of are the packages that a place offers under the name of a number.
func (s *Shared) of(key string, n int) offering { return s.named(s.carries(key), n) }

func (s *Shared) named(c *carried, n int) offering {
	if c == nil {
		return offering{}
	}
	x, known := c.by[n]
	if !known {
		x.list = slices.Collect(c.list.Named(s.texts[n]))
		x.says = numberOf(s.says, []any{x.list})
		c.by[n] = x
	}
	return x
}

// known is a place of which it is known what it carries, with all of its packages numbered; nil for another.
func (s *Shared) known(key string) *carried {
	c := s.carries(key)
	if c != nil && c.all == nil {
		c.all = make([]int32, 0, c.list.Len())
		for name := range c.list.Names() {
			n := s.number(name)
			c.all = append(c.all, int32(n))
			c.names.set(n)
		}
	}
	return c
}

// Concerned are the packages that a change may swap: those of places that come or go, and where only weights change those
// that several places offer. Of more than most, the first of those that something else offers as well; all counts them all.
func (s *Shared) Concerned(before, after *Host, most int) (out []string, all int) {
	was, is := keysOf(before), keysOf(after)
	same := maps.Equal(was, is)
	both := maps.Clone(was)
	maps.Copy(both, is)
	var every, some []*carried // what changes, and beside it what something else offers as well
	var counted bits
	for key := range both {
		c := s.known(key)
		if c == nil || was[key] == is[key] && !same {
			continue
		}
		var elsewhere bits
		for beside := range was {
			if other := s.known(beside); beside != key && other != nil {
				elsewhere.add(other.names)
			}
		}
		also := &carried{all: c.all, names: c.names.and(elsewhere)}
		every, some = append(every, c), append(some, also)
		if same {
			every[len(every)-1] = also
		}
		counted.add(every[len(every)-1].names)
	}
	if all = counted.count(); all > most {
		every = some
	}
	for _, c := range every {
		left := most
		for _, n := range c.all {
			if left > 0 && c.names.has(int(n)) {
				out, left = append(out, s.texts[n]), left-1
			}
		}
	}
	slices.Sort(out)
	out = slices.Compact(out)
	return out[:min(len(out), most)], all
}

// bits are a set of numbers.
type bits []uint64

func (b *bits) set(n int) {
	b.grow(n/64 + 1)
	(*b)[n/64] |= 1 << (n % 64)
}

func (b *bits) grow(words int) {
	if more := words - len(*b); more > 0 {
		*b = append(*b, make(bits, more)...)
	}
}

func (b bits) has(n int) bool { return n/64 < len(b) && b[n/64]&(1<<(n%64)) != 0 }

func (b *bits) add(other bits) {
	b.grow(len(other))
	for i, w := range other {
		(*b)[i] |= w
	}
}

func (b bits) and(other bits) bits {
	out := make(bits, min(len(b), len(other)))
	for i := range out {
		out[i] = b[i] & other[i]
	}
	return out
}

func (b bits) count() (n int) {
	for _, w := range b {
		n += mathbits.OnesCount64(w)
	}
	return n
}

func keysOf(h *Host) map[string]bool {
	m := map[string]bool{}
	for i := range h.Uses {
		m[h.Uses[i].Key] = true
	}
	return m
}

// weighing numbers what decides on a host.
func (s *Shared) weighing(h *Host) *weighing {
	if w := s.hosts[h]; w != nil {
		return w
	}
	if s.hosts == nil {
		s.hosts, s.frames, s.uses = map[*Host]*weighing{}, map[string]uint32{}, map[string]uint32{}
	}
	t := h.Survey
	with := h.With(s.Releases)
	release := h.defaultRelease() // apt refuses to work where no place is of it, whatever that offers
	parts := []any{t.Traits, t.Pins, t.Holds, t.Settings, t.Deciding, release != "" && with.has("release "+release)}
	w := &weighing{frame: numberOf(s.frames, parts)}
	byOrigin := slices.ContainsFunc(t.Pins, func(p source.Pin) bool { return strings.HasPrefix(p.Pin, "origin") })
	for i, u := range h.Uses {
		release := with.release(i)
		if !byOrigin {
			release.URL = ""
		}
		says := []any{u.Family, u.ID, u.File, release}
		if u.At < len(t.Sources) {
			x := &t.Sources[u.At]
			says = append(says, x.Family, x.Priority, x.Options)
		}
		w.uses = append(w.uses, numberOf(s.uses, says))
	}
	s.hosts[h] = w
	return w
}

// numberOf is the number of some values among those that were seen.
func numberOf(seen map[string]uint32, values []any) uint32 {
	b, err := json.Marshal(values)
	n, known := seen[string(b)]
	if !known || err != nil { // never: they are texts and numbers
		n = uint32(len(seen))
		seen[string(b)] = n
	}
	return n
}
