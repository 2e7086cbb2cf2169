package api

import (
	"encoding/json"
	"time"
)

// AuditKinds are the kinds of what something is done to.
var AuditKinds = []string{
	"host", "rollout", "revision", "proposal", "waiver", "freeze", "seats", "repository", "operator", "secrets", "webhook", "shelf", "day",
}

// AuditEntry is one line of what people did, and what became of rollouts.
type AuditEntry struct {
	Number int64           `json:"number"`
	At     time.Time       `json:"at"`
	By     string          `json:"by" doc:"operator:NAME, host:NAME, or service"`
	What   string          `json:"what"`
	Kind   string          `json:"kind" enum:"host,rollout,revision,proposal,waiver,freeze,seats,repository,operator,secrets,webhook,shelf,day" doc:"Of what it was done to"`
	Name   string          `json:"name,omitempty"`
	Why    string          `json:"why,omitempty"`
	Detail json.RawMessage `json:"details,omitempty"`
	Says   string          `json:"says,omitempty" doc:"The details in words"`
}

// AuditPage is some of the entries, the newest first.
type AuditPage struct {
	Entries []AuditEntry `json:"items"`
	Next    int64        `json:"next,omitempty" doc:"Older ones begin before this number"`
}

// AuditChain is what checking the chain came to.
type AuditChain struct {
	Entries int        `json:"entries"`
	Head    string     `json:"head" doc:"Hash of the newest entry: note it elsewhere, and ask for it the next time"`
	At      *time.Time `json:"at,omitempty" doc:"Of the newest entry"`
	Whole   bool       `json:"whole"`
	Broken  int64      `json:"broken,omitempty" doc:"Number of the first entry that does not follow from those before"`
	Met     *bool      `json:"met,omitempty" doc:"Whether the hash that was asked for is still one of the chain"`
}
