package drift_test

import (
	"fmt"

	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/core/source"
)

// What differs between the sheet of a host and its survey: one finding each.
func ExampleCompare() {
	const file = "/etc/apt/sources.list.d/saltmarsh.sources"
	sheet := &source.Sheet{
		Family:  "deb",
		Files:   []source.SheetFile{{Path: file, Mode: "0644", Text: "Types: deb\n", Repository: "saltmarsh"}},
		Sources: []source.SheetSource{{Repository: "saltmarsh", File: file, Enabled: true}},
	}
	for _, f := range drift.Compare(sheet, &source.Survey{}) {
		fmt.Println(f.Severity, f.File, f.Message)
	}
	// Output:
	// fault /etc/apt/sources.list.d/saltmarsh.sources the source is gone
}
