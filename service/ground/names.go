package ground

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/names"
	"patientlantern.example/lantern/service/fleet"
	"patientlantern.example/lantern/service/refusal"
)

// FindHost answers a wrong name with the nearest right one.
func (g *Ground) FindHost(name string) (*fleet.Host, error) {
	h, err := g.Fleet.Find(name)
	if err == nil {
		return h, nil
	}
	if errors.Is(err, fleet.ErrAmbiguous) {
		return nil, refusal.Conflict(err.Error())
	}
	msg := fmt.Sprintf("there is no host %q", name)
	wrong, short := strings.ToLower(name), !strings.Contains(name, ".")
	each := fleet.Across(g.Fleet.All(), func(part []*fleet.Host) string { return names.NearestOf(wrong, fleet.Names(part, short)) })
	each = slices.DeleteFunc(each, func(near string) bool { return near == "" })
	if near := names.Nearest(wrong, each); near != "" {
		msg += refusal.Meant(near)
	} else {
		msg += "; `lantern host list` lists them"
	}
	return nil, refusal.NotFound(msg)
}

// HostPath names a host in a path.
type HostPath struct {
	Name string `path:"name" doc:"The host's full name, or its short name where that fits one host only"`
}

// MostNames is how many hosts of a group or cohort are named.
const MostNames = 5
