package cli

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/cli/view"
	"patientlantern.example/lantern/client"
	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/core/rollout"
	"patientlantern.example/lantern/core/trust"
)

// state is how the fleet stands, in few words.
type state struct {
	Standing  api.Standing `json:"standing"`
	Revision  int64        `json:"revision"`          // the newest; 0: nothing is published
	Dangers   int          `json:"dangers"`           // different findings
	Faults    int          `json:"faults"`            // likewise
	Rollout   *api.Rollout `json:"rollout,omitempty"` // the newest, absent where there is none
	Freezes   []api.Freeze `json:"freezes"`           // that hold now
	Keys      int          `json:"keys_to_look_at"`   // that are revoked, have ended, end soon or are weak
	Strange   int          `json:"keys_not_in_the_policy"`
	Refused   int          `json:"places_refused"` // of packages, by what the service saw
	Unseen    int          `json:"places_not_known"`
	Contracts int          `json:"contracts_that_end"` // within 90 days
	Falling   int          `json:"hosts_that_fall_out"`
	Next      string       `json:"next"` // the command that is pressing most

	Certificate *time.Time `json:"certificate_ends,omitempty"` // of the service, where that is within 30 days
}

// A month before its end the service's certificate is spoken of, and a week before nothing but a danger is pressing more.
const (
	certificateSoon = 30 * 24 * time.Hour
	certificateNow  = 7 * 24 * time.Hour
)

// overview says how the fleet stands and what to do next. Where no service was ever named, it
// is help that is wanted.
func (a *app) overview(cmd *cobra.Command) error {
	if a.token == "" && a.from == "the default" {
		return cmd.Help()
	}
	stop := a.waiting("looking at the fleet")
	s, err := a.look(cmd.Context())
	stop()
	if err != nil {
		return err
	}
	if done, err := a.json(s); done {
		return err
	}
	if s.Standing.Hosts+s.Standing.Invited == 0 {
		a.out.Printf("No host has joined yet.")
	} else {
		a.standing(s.Standing)
	}
	a.out.Printf("%s", s.differs(a))
	a.out.Printf("%s", s.rolls(a))
	for _, f := range s.Freezes {
		said := fmt.Sprintf("! Nothing begins %s until %s, says %s: %s.", where(f.Group), local(f.Until), f.Author, f.Because)
		a.out.Printf("%s", a.out.Paint(view.Yellow, said))
	}
	a.out.Printf("%s", s.comes(a))
	a.out.Printf("Next: %s%s", a.out.Paint(view.Bold, s.Next), a.out.Paint(view.Dim, "   (all commands: lantern --help)"))
	return nil
}

// look asks for everything that counts.
func (a *app) look(ctx context.Context) (s state, err error) {
	c := a.client()
	few := client.List{PerPage: 1}
	for severity, n := range map[string]*int{drift.Danger: &s.Dangers, drift.Fault: &s.Faults} {
		page, err := c.GroupedDrift(ctx, client.List{PerPage: 1, Filter: map[string][]string{"severity": {severity}}})
		if err != nil {
			return s, err
		}
		s.Standing, *n = page.Standing, page.Total
	}
	rollouts, err := c.Rollouts(ctx, few)
	if err != nil {
		return s, err
	}
	if len(rollouts.Rollouts) > 0 {
		s.Rollout = &rollouts.Rollouts[0]
	}
	freezes, err := c.Freezes(ctx)
	if err != nil {
		return s, err
	}
	s.Freezes = slices.DeleteFunc(freezes.Freezes, func(f api.Freeze) bool { return !f.Stands })
	keys, err := c.Keys(ctx, false, few)
	if err != nil {
		return s, err
	}
	for _, st := range []string{trust.Revoked, trust.Withdrawn, trust.Ended, trust.Ends, trust.Weak} {
		s.Keys += keys.States[st]
	}
	s.Strange, s.Revision = keys.States[trust.Unknown], keys.Revision
	places, err := c.Repositories(ctx, few)
	if err != nil {
		return s, err
	}
	s.Refused, s.Unseen = places.States[api.PlaceTrouble], places.States[api.PlaceUnknown]
	outlook, err := c.Outlook(ctx)
	if err != nil {
		return s, err
	}
	s.Contracts = len(outlook.Ending)
	fall := map[string]bool{}
	for _, e := range outlook.Ending {
		for _, h := range e.Falling {
			fall[h] = true
		}
	}
	s.Falling = len(fall)
	dates, err := c.Dates(ctx, client.List{PerPage: 1, Filter: map[string][]string{"kind": {api.DueCertificate}}})
	var older *client.Error // a service of before knows no such kind
	if err != nil && !(errors.As(err, &older) && older.Status == http.StatusUnprocessableEntity) {
		return s, err
	}
	if len(dates.Dates) > 0 && time.Until(dates.Dates[0].Due) < certificateSoon {
		s.Certificate = &dates.Dates[0].Due
	}
	s.Next = s.next()
	return s, nil
}

// next is the command that is pressing most.
func (s *state) next() string {
	r, st := s.Rollout, &s.Standing
	switch {
	case st.Hosts == 0:
		return "lantern host invite NAME"
	case r != nil && r.Ended == nil && r.Phase == rollout.Held:
		return "lantern rollout show"
	case s.Dangers > 0:
		return "lantern drift --severity danger"
	case s.Certificate != nil && time.Until(*s.Certificate) < certificateNow:
		return "lantern date list --kind certificate"
	case st.Failed > 0:
		return "lantern host list --state failed"
	case r != nil && r.Ended == nil:
		return "lantern rollout show"
	case s.Refused > 0:
		return "lantern repository list --state trouble"
	case s.Faults > 0:
		return "lantern drift"
	case st.Silent > 0:
		return "lantern host list --state silent"
	case s.Revision == 0:
		return "lantern policy learn FOLDER, or lantern policy publish FOLDER"
	case st.NoRevision+st.Older > 0 || r == nil || r.Revision < s.Revision:
		return "lantern policy preview"
	case s.Keys > 0:
		return "lantern key list"
	case s.Falling > 0:
		return "lantern contract outlook"
	}
	return "nothing is pressing; lantern host list lists the fleet"
}

// differs tells what differs from the policy.
func (s *state) differs(a *app) string {
	if s.Dangers+s.Faults == 0 {
		switch {
		case s.Standing.Steady+s.Standing.Drifted == 0:
			return "What differs from the policy is not known of any host."
		case s.Standing.Known():
			return "No danger and no fault is found."
		}
		return "No danger and no fault is found on the hosts that are known."
	}
	var parts []string
	if s.Dangers > 0 {
		parts = append(parts, a.out.Paint(view.Red, "!! "+view.Count(s.Dangers, "danger", "different dangers")))
	}
	if s.Faults > 0 {
		parts = append(parts, a.out.Paint(view.Yellow, "! "+view.Count(s.Faults, "fault", "different faults")))
	}
	return strings.Join(parts, ", ") + "."
}

// rolls tells of the newest rollout.
func (s *state) rolls(a *app) string {
	r := s.Rollout
	switch {
	case s.Revision == 0:
		return "Nothing is published yet."
	case r == nil:
		return fmt.Sprintf("Revision %d is published, and no rollout has begun.", s.Revision)
	}
	name := fmt.Sprintf("%s %d of revision %d", r.Kind, r.ID, r.Revision)
	if r.Ended != nil {
		name = fmt.Sprintf("%s ended %s", name, view.Ago(time.Since(*r.Ended)))
		if r.Stopped != nil {
			name += ", stopped"
		}
		for _, st := range []rollout.State{rollout.Failed, rollout.Behind, rollout.Skipped, rollout.Queued} {
			if n := r.Counts[st]; n > 0 {
				name += a.out.Paint(view.Red, fmt.Sprintf(", %d %s", n, st))
			}
		}
		if r.NotReached > 0 {
			name += a.out.Paint(view.Red, fmt.Sprintf(", %d not reached", r.NotReached))
		}
	} else {
		name += ": " + r.Says
	}
	if s.Revision > r.Revision {
		name += fmt.Sprintf("; revision %d is newer", s.Revision)
	}
	return strings.ToUpper(name[:1]) + name[1:] + "."
}

// comes tells what is refused upstream, and what ends soon.
func (s *state) comes(a *app) string {
	parts := []string{}
	if s.Refused > 0 {
		parts = append(parts, a.out.Paint(view.Red, "!! "+view.Count(s.Refused, "place of packages is refused or not reached",
			"places of packages are refused or not reached")))
	}
	if s.Unseen > 0 {
		parts = append(parts, view.Count(s.Unseen, "place of packages was", "places of packages were")+" not looked at")
	}
	if s.Keys > 0 {
		parts = append(parts, a.out.Paint(view.Yellow, view.Count(s.Keys, "key needs", "keys need")+" a look"))
	}
	if s.Strange > 0 {
		parts = append(parts, view.Count(s.Strange, "believed key is", "believed keys are")+" not in the policy")
	}
	if s.Contracts > 0 {
		text := view.Count(s.Contracts, "contract ends", "contracts end") + " within 90 days"
		if s.Falling > 0 {
			text = a.out.Paint(view.Yellow, text+", and "+view.Count(s.Falling, "host", "hosts")+" would fall out")
		}
		parts = append(parts, text)
	}
	if s.Certificate != nil {
		text := "!! this service's certificate ends in " + view.Span(time.Until(*s.Certificate)) + ", and no host comes through then"
		parts = append([]string{a.out.Paint(view.Red, text)}, parts...)
	}
	if len(parts) == 0 {
		return "No place of packages is refused, and no key and no contract ends soon, as far as is known."
	}
	return strings.Join(parts, "; ") + "."
}
