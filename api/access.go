package api

import (
	"time"

	"patientlantern.example/lantern/core/credential"
)

// AccessGrant is the access of one host. It goes over the wire encrypted to that
// host alone, and so is no part of the described interface.
type AccessGrant struct {
	Host    string       `json:"host"`
	Stamp   string       `json:"stamp"` // as in CheckInAnswer.Access
	Issued  time.Time    `json:"issued"`
	Expires time.Time    `json:"expires"` // of the grant, not of the secrets
	Items   []AccessItem `json:"items"`
}

// AccessItem is the access in one account.
type AccessItem struct {
	Account string            `json:"account"`
	Secret  credential.Secret `json:"secret"`
	// Missing says why there is none; Secret is empty then.
	Missing string `json:"missing,omitempty"`
}
