package api

import "time"

// ProposalOrder proposes a policy folder.
type ProposalOrder struct {
	Files   map[string][]byte `json:"files" doc:"The policy folder: name to content (base64)"`
	Message string            `json:"message" minLength:"3" maxLength:"2000" doc:"What changes and why, for who has to agree"`
}

// Proposal is a policy folder that somebody proposes to publish. Its files never change: who wants it otherwise
// proposes another.
type Proposal struct {
	Number   int64             `json:"number"`
	Policy   string            `json:"policy" doc:"SHA-256 of the folder"`
	Base     int64             `json:"base" doc:"The newest revision when it was proposed; 0: there was none"`
	Author   string            `json:"author"`
	Message  string            `json:"message"`
	Created  time.Time         `json:"created"`
	State    string            `json:"state" enum:"open,published,withdrawn"`
	Agreed   string            `json:"agreed,omitempty" doc:"Who agreed; absent: nobody has"`
	AgreedAt *time.Time        `json:"agreed_at,omitempty"`
	Ended    *time.Time        `json:"ended,omitempty"`
	Revision int64             `json:"revision,omitempty" doc:"What it became"`
	Stale    bool              `json:"stale" doc:"A newer revision was published since, which it would take back: propose it anew"`
	Lacks    string            `json:"lacks,omitempty" doc:"What it needs before it can be published"`
	Files    map[string][]byte `json:"files,omitempty" doc:"When one is shown"`

	Differences []PolicyDifference `json:"differences,omitempty" doc:"When one is shown: what it says otherwise than its revision"`
}

// PolicyDifference is one thing that two policies say differently.
type PolicyDifference struct {
	Kind   string `json:"kind" enum:"added,removed,changed"`
	What   string `json:"what" doc:"Such as repository saltmarsh, or group gateways"`
	Part   string `json:"part,omitempty" doc:"What of it; absent for the whole"`
	Before string `json:"before,omitempty"`
	After  string `json:"after,omitempty"`
}

// States of a proposal.
const (
	ProposalOpen      = "open"
	ProposalPublished = "published"
	ProposalWithdrawn = "withdrawn"
)

// ProposalPage is a page of proposals, the newest first.
type ProposalPage struct {
	Proposals []Proposal `json:"items"`
	Total     int        `json:"total"`
	Next      int        `json:"next,omitempty" doc:"The page that follows; absent on the last one"`
	Consent   bool       `json:"consent" doc:"The newest revision wants that somebody else agrees before a folder is published"`
}
