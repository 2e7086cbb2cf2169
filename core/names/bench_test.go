package names

import (
	"fmt"
	"testing"
)

// A wrong name is held against those of 100,000 hosts.
func BenchmarkNearest(b *testing.B) {
	all := make([]string, 100_000)
	for i := range all {
		all[i] = fmt.Sprintf("node-%06d.brinewick.test", i)
	}
	for b.Loop() {
		if Nearest("node-04711.brinewick.tst", all) == "" {
			b.Fatal("nothing is near")
		}
	}
}
