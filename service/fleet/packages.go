package fleet

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/origin"
	"patientlantern.example/lantern/core/source"
)

// Packages is what a host answered.
type Packages struct {
	Asked     string                 `json:"asked"`
	Names     []string               `json:"names"`
	Installed map[string]string      `json:"installed"`
	Came      map[string]origin.Came `json:"came,omitempty"` // by the key of the source
}

// Knows reports whether a host was asked for a package, and answered.
func (p *Packages) Knows(name string) bool {
	_, there := slices.BinarySearch(p.Names, name)
	return there
}

// nothingAnswered is what a host has said that was not asked yet.
var nothingAnswered = &Packages{}

// PackagesOf is what a host answered; empty where it has answered nothing that can be read. Hosts that answered alike have one, which is
// not to be changed.
func PackagesOf(v *View) *Packages {
	if v.Packages == nil {
		return nothingAnswered
	}
	p, _ := v.Packages.Read(func(text json.RawMessage) any {
		p := &Packages{}
		if json.Unmarshal(text, p) != nil { // what cannot be read is not known
			return nothingAnswered
		}
		slices.Sort(p.Names)
		return p
	}).(*Packages)
	return p
}

// Unmet says which needs of a sheet are not met on a host, and of which that is not known.
func Unmet(v *View, needs []source.SheetNeed) (missing, unknown []string) {
	if len(needs) == 0 {
		return nil, nil
	}
	have := PackagesOf(v)
	for _, n := range needs {
		for _, p := range n.Packages {
			switch {
			case have.Installed[p] != "":
			case have.Knows(p):
				missing = append(missing, n.Wants(p)+", which is not installed: "+family.Install(v.Family, p))
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
