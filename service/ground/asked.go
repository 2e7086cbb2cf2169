package ground

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

// Asked is what agents are asked for beside their surveys: which of the packages are
// installed that policies need, so that a need that is not met is seen before a change; and
// what came from the sources that a change would take away.
type Asked struct {
	mu      sync.Mutex
	names   map[string]time.Time // package → until when it is asked for
	sources map[string]time.Time // key of a source, as package origin has it → until when
	now     atomic.Pointer[AskedList]
}

// mostAsked bounds the list.
const mostAsked = 500

// AskTime is how long a package is asked for after a policy that was only looked at.
const AskTime = time.Hour

// Add asks for the packages of needs until a time.
func (a *Asked) Add(needs []source.SheetNeed, until time.Time) {
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

// AddSources asks until a time what came from sources.
func (a *Asked) AddSources(keys []string, until time.Time) {
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

func (a *Asked) make() {
	now := &AskedList{Packages: slices.Sorted(maps.Keys(a.names)), Sources: slices.Sorted(maps.Keys(a.sources))}
	if len(now.Packages)+len(now.Sources) > 0 {
		now.Stamp = source.Digest([]byte(strings.Join(slices.Concat(now.Packages, []string{""}, now.Sources), "\n")))[:16]
	}
	a.now.Store(now)
}

// AskedList is what is asked for as it stands.
type AskedList struct {
	Stamp    string
	Packages []string
	Sources  []string
}

// Current returns what is asked for. Every check-in looks.
func (a *Asked) Current() *AskedList {
	if l := a.now.Load(); l != nil {
		return l
	}
	return &AskedList{}
}

// Expire drops what nobody asks for any more.
func (a *Asked) Expire(now time.Time) {
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
func (g *Ground) ask(ctx context.Context, v *fleet.View) {
	if v.Sheet == "" {
		return
	}
	sheet, err := g.Compute.SheetOf(ctx, v.Sheet)
	if err == nil && len(sheet.Needs) > 0 {
		g.Asked.Add(sheet.Needs, g.Now().Add(10*365*24*time.Hour))
	}
}
