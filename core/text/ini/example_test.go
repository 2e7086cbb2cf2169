package ini_test

import (
	"fmt"

	"patientlantern.example/lantern/core/text/ini"
)

// A section is read as dnf reads it, and a key is set where it stands.
func Example() {
	f := ini.ParseRPM([]byte("# as the installer wrote it\n[foreland-base]\nname = Foreland\nenabled=1\n"))
	s := &f.Sections[0]
	name, _ := f.Get(s, "name")
	fmt.Println(f.Name(s), name)
	if err := f.Set(s, "enabled", "0"); err != nil {
		fmt.Println(err)
	}
	fmt.Print(string(f.Bytes()))
	// Output:
	// foreland-base Foreland
	// # as the installer wrote it
	// [foreland-base]
	// name = Foreland
	// enabled=0
}
