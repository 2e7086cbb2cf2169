package preview

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"patientlantern.example/lantern/core/change"
	"patientlantern.example/lantern/core/origin"
)

// Gone is a source that a change takes away from hosts, and what they have installed from it.
type Gone struct {
	Source   string     `json:"source" doc:"Its family, then URL and suite for apt, the name of the section or remote for others"`
	Place    string     `json:"where" doc:"Where it stands, on one of the hosts: file and line"`
	From     int        `json:"losing" doc:"Hosts that would lose it"`
	Hosts    int        `json:"hosts" doc:"Those of them that have packages installed from it"`
	Packages int        `json:"package_count" doc:"Packages installed from it, counted on each host"`
	Names    []string   `json:"names" doc:"Some of them"`
	Newest   *time.Time `json:"newest,omitempty" doc:"When the last of them was installed"`
	Unknown  int        `json:"unknown" doc:"Hosts of which it is not known"`
	Because  string     `json:"because,omitempty" doc:"Why it is not known of one of them"`
	Says     string     `json:"says" doc:"All of it as a sentence"`
}

// mostNames bounds the names of packages that are told of one source.
const mostNames = 20

// NotAnswered is why it is not known what came from a source, where the host has been asked.
const NotAnswered = "not answered yet; asked with the next check-in"

// Goes gathers what goes from hosts.
type Goes struct{ all map[string]*Gone }

// Add notes that a source goes from a host. came is what the host says of it; nil where it
// has said nothing, and unknown says why then.
func (g *Goes) Add(of change.Gone, host string, came *origin.Came, unknown string) {
	if g.all == nil {
		g.all = map[string]*Gone{}
	}
	x := g.all[of.Key]
	if x == nil {
		x = &Gone{Source: of.Key, Place: of.String(), Names: []string{}}
		g.all[of.Key] = x
	}
	x.From++
	if came != nil && came.Unknown != "" {
		unknown = host + ": " + came.Unknown
	}
	switch {
	case came == nil || came.Unknown != "":
		x.Unknown++
		x.Because = cmp.Or(x.Because, unknown)
	case came.Packages > 0:
		x.Hosts++
		x.Packages += came.Packages
		for _, n := range came.Names {
			if at, there := slices.BinarySearch(x.Names, n); !there && len(x.Names) < mostNames {
				x.Names = slices.Insert(x.Names, at, n)
			}
		}
		if came.Newest != nil && (x.Newest == nil || came.Newest.After(*x.Newest)) {
			x.Newest = came.Newest
		}
	}
}

// List is all that goes, that with most packages first.
func (g *Goes) List() []Gone {
	out := make([]Gone, 0, len(g.all))
	for _, x := range g.all {
		x.Says = x.says()
		out = append(out, *x)
	}
	slices.SortFunc(out, func(a, b Gone) int {
		return cmp.Or(b.Packages-a.Packages, b.Unknown-a.Unknown, strings.Compare(a.Source, b.Source))
	})
	return out
}

func (g *Gone) says() string {
	text := fmt.Sprintf("%s goes from %s", g.Source, count(g.From, "host"))
	switch {
	case g.Packages > 0:
		text += fmt.Sprintf(
			"; %s on %s came from there and would get no more updates from it",
			count(g.Packages, "package"),
			count(g.Hosts, "host"),
		)
		if g.Newest != nil {
			text += ", the newest installed on " + g.Newest.UTC().Format("2006-01-02")
		}
		const shown = 5
		text += ": " + strings.Join(g.Names[:min(len(g.Names), shown)], ", ")
		if more := len(g.Names) - shown; more > 0 {
			text += ", …"
		}
	case g.Unknown < g.From:
		text += "; nothing is installed from it"
		if g.Unknown > 0 {
			text += " on " + count(g.From-g.Unknown, "host")
		}
	}
	switch {
	case g.Unknown == g.From:
		text += "; what is installed from it is not known: " + g.Because
	case g.Unknown > 0:
		text += fmt.Sprintf("; of %s it is not known: %s", count(g.Unknown, "host"), g.Because)
	}
	return text
}

func count(n int, what string) string {
	if n != 1 {
		what += "s"
	}
	return fmt.Sprintf("%d %s", n, what)
}
