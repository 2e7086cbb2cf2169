package fetch

import "time"

// LookAtOnce looks at the system's authorities with each call until the function that it returns is called.
func LookAtOnce() (end func()) {
	again, soon := lookAgain, lookSoon
	lookAgain, lookSoon = 0, time.Duration(0)
	return func() { lookAgain, lookSoon = again, soon }
}
