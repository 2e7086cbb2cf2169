package cell

import (
	"flag"
	"math/rand/v2"
)

// Share says of each case of a table whether it is asked of: one in so many, other ones in
// each run, and all of them where -rapid.checks is given. Tables for which a real program has
// to be started thousands of times are walked so.
func Share(one int) func() bool {
	given := false
	flag.Visit(func(f *flag.Flag) { given = given || f.Name == "rapid.checks" })
	return func() bool { return given || rand.IntN(one) == 0 }
}
