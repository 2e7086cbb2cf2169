package api

import "time"

// What falls due.
const (
	DueContract = "contract" // it ends
	DueKey      = "key"      // a signing key of the policy ends
	DueWaiver   = "waiver"   // what was accepted is a finding again
	DueReview   = "review"   // a decision is looked at again
	DueFreeze   = "freeze"   // hosts move again

	DueCertificate = "certificate" // the service's own ends
)

// DatePage is what falls due, the next first.
type DatePage struct {
	Dates []Date `json:"items"`
	Total int    `json:"total"`
	Next  int    `json:"next,omitempty" doc:"The page that follows; absent on the last one"`

	Revision int64    `json:"revision" doc:"Whose keys and reviews they are; 0: nothing is published, and none are known"`
	Away     []string `json:"away" doc:"Accounts whose desk does not answer: their contracts are as it told them last"`
}

// Unknown says what of the dates is not known, a sentence each.
func (p *DatePage) Unknown() (out []string) {
	if p.Revision == 0 {
		out = append(out, "Nothing is published: which keys end, and what is to be reviewed, is not known.")
	}
	if len(p.Away) > 0 {
		out = append(out, desksAway(p.Away))
	}
	return out
}

// Date is one thing that falls due.
type Date struct {
	Due    time.Time `json:"falls_due"`
	Kind   string    `json:"kind" enum:"contract,key,waiver,review,freeze,certificate"`
	Name   string    `json:"name" doc:"Of the contract, the key, the channel's group, the number of the waiver or freeze; of the service's own certificate nothing"`
	Says   string    `json:"says" doc:"What it is, in one line"`
	Detail string    `json:"detail" doc:"What comes of it"`
}
