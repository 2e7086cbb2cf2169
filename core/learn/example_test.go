package learn_test

import (
	"fmt"
	"maps"
	"slices"
	"time"

	"patientlantern.example/lantern/core/learn"
	"patientlantern.example/lantern/core/saved"
	"patientlantern.example/lantern/core/source"
)

// A policy that says just what stands on some hosts; what it cannot say is a note.
func ExampleLearn() {
	var hosts []saved.Snapshot
	for _, site := range []string{"reef", "tern's nest"} {
		hosts = append(hosts, saved.Snapshot{
			Host: fmt.Sprintf("gw-%02d.brinewick.test", len(hosts)+1), Labels: map[string]string{"site": site},
			Survey: source.Survey{Traits: source.Traits{Family: "deb", OS: source.OS{ID: "skerry", Version: "12", Codename: "mussel"}}},
		})
	}
	r, err := learn.Learn(hosts, time.Date(2026, 11, 25, 0, 0, 0, 0, time.UTC))
	if err != nil {
		fmt.Println(err)
		return
	}
	fmt.Println(r.Hosts, "hosts,", r.Repositories, "repositories:", slices.Sorted(maps.Keys(r.Files)))
	// Output:
	// 2 hosts, 0 repositories: [hosts.yaml repositories.yaml]
}
