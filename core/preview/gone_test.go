package preview_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"patientlantern.example/lantern/core/change"
	"patientlantern.example/lantern/core/origin"
	"patientlantern.example/lantern/core/preview"
)

func TestWhatGoesIsSaid(t *testing.T) {
	march, april := time.Date(2026, 3, 3, 12, 0, 0, 0, time.UTC), time.Date(2026, 4, 9, 1, 0, 0, 0, time.UTC)
	none, unread := &origin.Came{}, &origin.Came{Unknown: "apt keeps no list of it", Packages: 7}
	two := &origin.Came{Packages: 2, Names: []string{"sonar-tools", "tide-model"}, Newest: &march}
	one := &origin.Came{Packages: 1, Names: []string{"sonar-tools"}, Newest: &april}
	for _, c := range []struct {
		name string
		came []*origin.Came // nil: not answered
		want string
	}{
		{"nobody has answered", []*origin.Came{nil, nil}, "rpm plover goes from 2 hosts; what is installed from it is not known: asked"},
		{"nothing", []*origin.Came{none, none}, "rpm plover goes from 2 hosts; nothing is installed from it"},
		{"nothing, as far as is known", []*origin.Came{none, nil}, "rpm plover goes from 2 hosts; nothing is installed from it on 1 host; of 1 host it is not known: asked"},
		{"it cannot be told", []*origin.Came{unread}, "rpm plover goes from 1 host; what is installed from it is not known: h0: apt keeps no list of it"},
		{"some", []*origin.Came{two, one, none}, "rpm plover goes from 3 hosts; 3 packages on 2 hosts came from there and would get no more updates from it, the newest installed on 2026-04-09: sonar-tools, tide-model"},
		{"some, and some unknown", []*origin.Came{unread, one}, "rpm plover goes from 2 hosts; 1 package on 1 host came from there and would get no more updates from it, the newest installed on 2026-04-09: sonar-tools; of 1 host it is not known: h0: apt keeps no list of it"},
	} {
		t.Run(c.name, func(t *testing.T) {
			var g preview.Goes
			for i, x := range c.came {
				g.Add(change.Gone{Key: "rpm plover", File: "/etc/yum.repos.d/plover.repo", Line: 1}, "h"+string(rune('0'+i)), x, "asked")
			}
			list := g.List()
			assert.Len(t, list, 1)
			assert.Equal(t, c.want, list[0].Says)
		})
	}
}
