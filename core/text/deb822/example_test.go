package deb822_test

import (
	"fmt"

	"patientlantern.example/lantern/core/text/deb822"
)

// An edit changes the words that it is about, and leaves everything else as it was.
func Example() {
	f := deb822.Parse([]byte(`# Saltmarsh, for gateways
Types: deb
URIs: https://packages.saltmarsh.example/9
Suites: mussel
Components: main
Signed-By: /etc/apt/keyrings/saltmarsh.asc
`))
	f.SetWords(0, "Components", []string{"main", "extra"})
	f.SwitchOff(0)
	fmt.Print(string(f.Bytes()))
	// Output:
	// # Saltmarsh, for gateways
	// Types: deb
	// URIs: https://packages.saltmarsh.example/9
	// Suites: mussel
	// Components: main extra
	// Signed-By: /etc/apt/keyrings/saltmarsh.asc
	// Enabled: no
}
