package resolve_test

import (
	"fmt"
	"time"

	"patientlantern.example/lantern/core/policy"
	"patientlantern.example/lantern/core/resolve"
	"patientlantern.example/lantern/core/source"
)

// A host gets what is assigned to it, with the facts of the host filled in.
func ExampleResolver_Resolve() {
	folder := policy.Folder{"policy.yaml": []byte(`format: patient-lantern/1
repositories:
  shelf:
    because: the observatory's own, on its own network
    signatures: off
    deb: { url: "https://shelf.brinewick.test/deb", suites: ["${os.codename}"], components: [main] }
assign:
  - { to: everyone, repositories: [shelf] }
`)}
	p, diags := policy.Load(folder, time.Date(2026, 11, 25, 0, 0, 0, 0, time.UTC))
	for _, d := range diags {
		fmt.Println(d)
	}
	res := resolve.New(p).Resolve(resolve.Host{Name: "gw-01.brinewick.test", Class: "skerry 12", Traits: &source.Traits{
		Family: "deb", OS: source.OS{ID: "skerry", Version: "12", Codename: "mussel"}, Tools: map[string]string{"apt": "2.6.1"},
	}})
	for _, f := range res.Sheet.Files {
		fmt.Printf("%s\n%s", f.Path, f.Text)
	}
	// Output:
	// /etc/apt/sources.list.d/shelf.sources
	// # Patient Lantern writes this file from the team's policy. An edit made here is
	// # found as drift; change the policy instead.
	// Types: deb
	// URIs: https://shelf.brinewick.test/deb
	// Suites: mussel
	// Components: main
	// Trusted: yes
}
