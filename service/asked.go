package service

import (
	"context"
	"maps"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/service/fleet"
)

// asked is what agents are asked for beside their surveys: which of the packages are
// installed that policies need, so that a need that is not met is seen before a change; and
// what came from the sources that a change would take away.
type asked struct {
	mu      sync.Mutex
	names   map[string]time.Time // package → until when it is asked for
	sources map[string]time.Time // key of a source, as package origin has it → until when
	now     atomic.Pointer[askedList]
}

// mostAsked bounds the list.
const mostAsked = 500

// askTime is how long a package is asked for after a policy that was only looked at.
const askTime = time.Hour

// add asks for the packages of needs until a time.
func (a *asked) add(needs []source.SheetNeed, until time.Time) {
	a.mu.Lock()
	defer a.mu.Unlock()
	fresh := false
	for _, n := range needs {
		for _, p := range n.Packages {
			fresh = asking(a.names, p, until) || fresh
		}
	}
	if fresh {
		a.make()
	}
}

// addSources asks until a time what came from sources.
func (a *asked) addSources(keys []string, until time.Time) {
	a.mu.Lock()
	defer a.mu.Unlock()
	fresh := false
	for _, k := range keys {
		fresh = asking(a.sources, k, until) || fresh
	}
	if fresh {
		a.make()
	}
}

// asking asks for one thing, and reports whether nobody did before.
func asking(list map[string]time.Time, what string, until time.Time) bool {
	old, there := list[what]
	if !there && len(list) >= mostAsked {
		return false
	}
	if until.After(old) {
		list[what] = until
	}
	return !there
}

func (a *asked) make() {
	now := &askedList{packages: slices.Sorted(maps.Keys(a.names)), sources: slices.Sorted(maps.Keys(a.sources))}
	if len(now.packages)+len(now.sources) > 0 {
		now.stamp = source.Digest([]byte(strings.Join(slices.Concat(now.packages, []string{""}, now.sources), "\n")))[:16]
	}
	a.now.Store(now)
}

// askedList is what is asked for as it stands.
type askedList struct {
	stamp    string
	packages []string
	sources  []string
}

// current returns what is asked for. Every check-in looks.
func (a *asked) current() *askedList {
	if l := a.now.Load(); l != nil {
		return l
	}
	return &askedList{}
}

// expire drops what nobody asks for any more.
func (a *asked) expire(now time.Time) {
	a.mu.Lock()
	defer a.mu.Unlock()
	before := len(a.names) + len(a.sources)
	for _, list := range []map[string]time.Time{a.names, a.sources} {
		maps.DeleteFunc(list, func(_ string, until time.Time) bool { return now.After(until) })
	}
	if len(a.names)+len(a.sources) != before {
		a.make()
	}
}

// ask asks for the packages that a host's sheet needs, for as long as it has the sheet.
func (s *Service) ask(ctx context.Context, v *fleet.View) {
	if v.Sheet == "" {
		return
	}
	sheet, err := s.compute.SheetOf(ctx, v.Sheet)
	if err == nil && len(sheet.Needs) > 0 {
		s.asked.add(sheet.Needs, s.now().Add(10*365*24*time.Hour))
	}
}
