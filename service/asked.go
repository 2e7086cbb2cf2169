package service

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/source"
)

// asked are the packages of which policies say that hosts need them: agents are asked
// which of them are installed, so that a need that is not met is seen before a change.
type asked struct {
	mu    sync.Mutex
	names map[string]time.Time // package → until when it is asked for
	now   atomic.Pointer[askedList]
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
			old, there := a.names[p]
			if !there && len(a.names) >= mostAsked {
				continue
			}
			fresh = fresh || !there
			if until.After(old) {
				a.names[p] = until
			}
		}
	}
	if fresh {
		a.make()
	}
}

func (a *asked) make() {
	list := slices.Sorted(maps.Keys(a.names))
	now := &askedList{list: list}
	if len(list) > 0 {
		now.stamp = source.Digest([]byte(strings.Join(list, "\n")))[:16]
	}
	a.now.Store(now)
}

// askedList is the list as it stands.
type askedList struct {
	stamp string
	list  []string
}

// current returns the list with its stamp. Every check-in looks.
func (a *asked) current() (stamp string, list []string) {
	if l := a.now.Load(); l != nil {
		return l.stamp, l.list
	}
	return "", nil
}

// expire drops what nobody asks for any more.
func (a *asked) expire(now time.Time) {
	a.mu.Lock()
	defer a.mu.Unlock()
	before := len(a.names)
	maps.DeleteFunc(a.names, func(_ string, until time.Time) bool { return now.After(until) })
	if len(a.names) != before {
		a.make()
	}
}

// havePackages is what a host answered.
type havePackages struct {
	Asked     string            `json:"asked"`
	Names     []string          `json:"names"`
	Installed map[string]string `json:"installed"`
}

func packagesOf(v *hostView) (p havePackages) {
	if len(v.Packages) > 0 {
		_ = json.Unmarshal(v.Packages, &p) // what cannot be read is not known
	}
	return p
}

// unmet says which needs of a sheet are not met on a host, and of which that is not known.
func unmet(v *hostView, needs []source.SheetNeed) (missing, unknown []string) {
	if len(needs) == 0 {
		return nil, nil
	}
	have := packagesOf(v)
	for _, n := range needs {
		for _, p := range n.Packages {
			switch {
			case have.Installed[p] != "":
			case slices.Contains(have.Names, p):
				missing = append(missing, n.Wants(p)+", which is not installed: "+family.Install(v.family, p))
			default:
				unknown = append(unknown, n.Wants(p))
			}
		}
		for _, folder := range slices.Sorted(maps.Keys(n.Free)) {
			switch free, known := v.Free[folder]; {
			case !known:
				unknown = append(unknown, fmt.Sprintf("%s needs %d MiB free in %s", n.Repository, n.Free[folder]>>20, folder))
			case free < n.Free[folder]:
				missing = append(
					missing,
					fmt.Sprintf("%s needs %d MiB free in %s, and there are %d", n.Repository, n.Free[folder]>>20, folder, free>>20),
				)
			}
		}
	}
	return missing, unknown
}

// ask asks for the packages that a host's sheet needs, for as long as it has the sheet.
func (s *Service) ask(ctx context.Context, v *hostView) {
	if v.Sheet == "" {
		return
	}
	sheet, err := s.compute.sheetOf(ctx, v.Sheet)
	if err == nil && len(sheet.Needs) > 0 {
		s.asked.add(sheet.Needs, s.now().Add(10*365*24*time.Hour))
	}
}
