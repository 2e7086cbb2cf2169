package cell

import "math/rand/v2"

// Share says of each case of a table whether it is asked of: one in so many, other ones in
// each run, and all of them where -rapid.checks is given. Tables for which a real program has
// to be started thousands of times are walked so.
func Share(one int) func() bool {
	all := Rounds(0) > 0
	return func() bool { return all || rand.IntN(one) == 0 }
}
