package ground

import (
	"errors"
	"fmt"
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
	if near := names.NearestOf(strings.ToLower(name), g.Fleet.Names(!strings.Contains(name, "."))); near != "" {
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
