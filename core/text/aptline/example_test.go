package aptline_test

import (
	"fmt"

	"patientlantern.example/lantern/core/text/aptline"
)

// A line is switched off where it stands; spaces and comments stay.
func Example() {
	f := aptline.Parse([]byte("# Skerry\ndeb  http://archive.skerry.example/skerry mussel main   # base\n"))
	f.SetComponents(1, []string{"main", "extra"})
	fmt.Print(string(f.Bytes()))
	f.SwitchOff(1)
	fmt.Print(string(f.Bytes()))
	// Output:
	// # Skerry
	// deb  http://archive.skerry.example/skerry mussel main extra   # base
	// # Skerry
	// # deb  http://archive.skerry.example/skerry mussel main extra   # base
}
