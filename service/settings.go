package service

import (
	"context"
	"fmt"
	"time"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/service/fleet"
	"patientlantern.example/lantern/service/ground"
)

// SettingQuery says which settings are asked for.
type SettingQuery struct {
	ground.Paging
}

// interval says how often something is done that can be switched off.
func interval(d time.Duration, often, never string) (value, says string) {
	if d <= 0 {
		return "0", never
	}
	return spelt(d), fmt.Sprintf(often, spelt(d))
}

// spelt writes a time as options take it, without parts that are zero.
func spelt(d time.Duration) string {
	switch {
	case d%time.Hour == 0:
		return fmt.Sprintf("%dh", d/time.Hour)
	case d%time.Minute == 0:
		return fmt.Sprintf("%dm", d/time.Minute)
	}
	return d.String()
}

// settings is what the service runs with: no secret, and no path of its machine.
func (s *Service) settings() []api.ServiceSetting {
	o := &s.Opts
	var out []api.ServiceSetting
	add := func(name, value, says string) {
		out = append(out, api.ServiceSetting{Name: name, Value: value, Says: says})
	}
	add(
		"check-in",
		spelt(o.Interval),
		"A host checks in every "+spelt(
			o.Interval,
		)+"; it is called silent after "+spelt(
			fleet.Silence(o.Interval),
		)+" without a sign of life.",
	)
	value, says := interval(o.Watch, "Each host looks every %s whether its sources can be refreshed.",
		"No host looks by itself whether its sources can be refreshed: what no longer refreshes is found by the next change.")
	add("watch", value, says)
	value, says = interval(o.Probe, "The service looks every %s at each repository that hosts use.",
		"The service looks at repositories only when somebody asks it to: what stands there is not known otherwise.")
	add("probe", value, says)
	value, says = interval(o.Tend, "Vendors' desks are asked every %s.", "Vendors' desks are asked only when somebody asks for it.")
	add("tend", value, says)
	add(
		"leave-behind",
		spelt(o.Patience),
		"A host with a change to carry out may give no sign of life for "+spelt(o.Patience)+"; then the others go on without it.",
	)
	days := int(o.Keep / (24 * time.Hour))
	add("keep", fmt.Sprint(days), fmt.Sprintf("What hosts had is kept for %d days.", days))
	if o.TLS {
		value, says := "given", "This service speaks TLS itself."
		if o.CertEnds != nil && !o.CertEnds().IsZero() {
			value = "until " + o.CertEnds().UTC().Format("2006-01-02")
			says = "This service speaks TLS itself; its certificate is read again where the file changes."
		}
		add("tls-cert", value, says)
	} else {
		add("tls-cert", "", "This service does not speak TLS itself: beyond its own machine something in front of it must.")
	}
	return out
}

// ListSettings lists what the service runs with.
func (s *Service) ListSettings(_ context.Context, in *SettingQuery) (*api.SettingPage, error) {
	all := s.settings()
	from, to := in.Cut(len(all))
	return &api.SettingPage{
		Version: s.Opts.Version, Settings: append([]api.ServiceSetting{}, all[from:to]...), Total: len(all), Next: in.Next(len(all)),
	}, nil
}
