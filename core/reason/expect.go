package reason

import "patientlantern.example/lantern/core/diag"

// Expected is what trying one expectation came to.
type Expected struct {
	That   string       `json:"that"`
	Place  diag.Pos     `json:"place" doc:"Where the policy says it"`
	State  string       `json:"state" enum:"holds,fails,not-tried"`
	Held   int          `json:"holds_on" doc:"Hosts for which it holds"`
	Failed int          `json:"fails_on" doc:"Hosts for which it does not"`
	Untold int          `json:"not_told_on" doc:"Hosts of which it could not be told"`
	Why    string       `json:"why,omitempty" doc:"Why it was not tried"`
	First  []Unexpected `json:"examples" doc:"The first hosts for which it does not hold"`
}

// States of an expectation.
const (
	ExpectHolds    = "holds"
	ExpectFails    = "fails"
	ExpectNotTried = "not-tried"
)

// Unexpected is a host for which an expectation does not hold.
type Unexpected struct {
	Host    string        `json:"host"`
	Instead []string      `json:"instead" doc:"What is so instead, for each thing that was expected"`
	Reasons []ReasonChain `json:"reasons" doc:"Why, for each repository that stands otherwise"`
}

// ReasonChain says why a repository stands to a host as it does.
type ReasonChain struct {
	Repository string  `json:"repository"`
	State      string  `json:"state" enum:"on,off,absent"`
	Causes     []Cause `json:"causes"`
}
