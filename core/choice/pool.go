package choice

import (
	"encoding/binary"
	"encoding/json"
	"iter"
	"maps"
	"slices"
	"sync"

	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/trust"
	"patientlantern.example/lantern/core/upstream"
)

// Pool holds once what many hosts have in common: a fleet has thousands of surveys, and few places. Its zero
// value is an empty one, which several may use at once.
type Pool struct {
	mu      sync.Mutex
	places  map[string]string // keys, which take longer to make than all the rest
	uses    map[string]numbered[*upstream.Use]
	sources map[string]numbered[[]source.Source]
	hosts   map[string]*Host
	last    uint64
}

// numbered is something that the pool holds. Numbers are never given twice.
type numbered[T any] struct {
	it     T
	number uint64
}

// Of is the one copy of what of a survey decides which packages are taken; believed are the keys of the survey.
func (p *Pool) Of(s *source.Survey, believed []trust.Use) *Host {
	uses := upstream.UsesWith(s, believed, p.placeKey)
	h := decides(s)
	for i := range uses {
		h.Uses = append(h.Uses, &uses[i])
	}
	return p.One(h)
}

// One is the one copy that all share on which the same decides as on a host.
func (p *Pool) One(h *Host) *Host {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.hosts == nil {
		p.uses, p.sources = map[string]numbered[*upstream.Use]{}, map[string]numbered[[]source.Source]{}
		p.hosts = map[string]*Host{}
	}
	var key []byte
	uses := slices.Clone(h.Uses)
	for i, u := range uses {
		text := useText(u)
		have, there := p.uses[string(text)]
		if !there {
			p.last++
			own := *u
			have = numbered[*upstream.Use]{&own, p.last}
			p.uses[string(text)] = have
		}
		uses[i] = have.it
		key = binary.AppendUvarint(key, have.number)
	}
	key = binary.AppendUvarint(key, 0)
	text := sourcesText(h.Survey.Sources)
	sources, there := p.sources[string(text)]
	if !there {
		p.last++
		sources = numbered[[]source.Source]{h.Survey.Sources, p.last}
		p.sources[string(text)] = sources
	}
	key = binary.AppendUvarint(key, sources.number)
	rest := *h.Survey
	rest.Sources = nil
	b, err := json.Marshal(rest)
	if err != nil { // of texts and numbers
		return h
	}
	key = append(key, b...)
	if have := p.hosts[string(key)]; have != nil {
		return have
	}
	survey := *h.Survey
	survey.Sources = sources.it
	made := &Host{Survey: &survey, Uses: uses, Releases: h.Releases}
	p.hosts[string(key)] = made
	return made
}

// Keep drops what none of the hosts needs.
func (p *Pool) Keep(hosts iter.Seq[*Host]) {
	p.mu.Lock()
	defer p.mu.Unlock()
	kept, uses := map[*Host]bool{}, map[*upstream.Use]bool{}
	sources := map[*source.Source]bool{}
	for h := range hosts {
		kept[h] = true
		for _, u := range h.Uses {
			uses[u] = true
		}
		if len(h.Survey.Sources) > 0 {
			sources[&h.Survey.Sources[0]] = true
		}
	}
	maps.DeleteFunc(p.hosts, func(_ string, h *Host) bool { return !kept[h] })
	maps.DeleteFunc(p.uses, func(_ string, u numbered[*upstream.Use]) bool { return !uses[u.it] })
	maps.DeleteFunc(p.sources, func(_ string, s numbered[[]source.Source]) bool { return len(s.it) > 0 && !sources[&s.it[0]] })
	p.places = nil
}

// placeKey is the key of a place.
func (p *Pool) placeKey(at *upstream.Place) string {
	text := string(placeText(nil, at))
	p.mu.Lock()
	defer p.mu.Unlock()
	key, known := p.places[text]
	if !known {
		if p.places == nil {
			p.places = map[string]string{}
		}
		key = at.Key()
		p.places[text] = key
	}
	return key
}

func placeText(to []byte, at *upstream.Place) []byte {
	to = source.AppendTexts(to, at.Family, at.Mirrorlist, at.Metalink, at.Suite, at.ID)
	return source.AppendList(source.AppendList(source.AppendList(to, at.URLs), at.Components), at.Archs)
}

func useText(u *upstream.Use) []byte {
	to := placeText(make([]byte, 0, 256), &u.Place)
	to = source.AppendTexts(to, u.Key, u.File, u.ID, u.Checks)
	return binary.AppendVarint(source.AppendList(to, u.Keys), int64(u.At))
}

func sourcesText(list []source.Source) []byte {
	to := make([]byte, 0, 512)
	for i := range list {
		s := &list[i]
		to = source.AppendTexts(to, s.Family)
		if s.Priority == nil {
			to = append(to, 0)
		} else {
			to = binary.AppendVarint(append(to, 1), int64(*s.Priority))
		}
		to = binary.AppendVarint(to, int64(s.Position))
		if s.Enabled {
			to = append(to, 1)
		} else {
			to = append(to, 0)
		}
		to = binary.AppendUvarint(to, uint64(len(s.Options)))
		for _, name := range slices.Sorted(maps.Keys(s.Options)) {
			to = source.AppendTexts(to, name, s.Options[name])
		}
	}
	return to
}
