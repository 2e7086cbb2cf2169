package credential

import "time"

// States of an access file, as the agent finds it.
const (
	FileOK      = "ok"
	FileMissing = "missing"
	FileChanged = "changed" // it holds something else
	FileMode    = "mode"    // other permissions
	FileOwner   = "owner"   // another owner
)

// HeldFile is an access file as it stands on a host.
type HeldFile struct {
	Account string     `json:"account"`
	Path    string     `json:"path"`
	State   string     `json:"state" enum:"ok,missing,changed,mode,owner"`
	Have    string     `json:"have,omitempty" doc:"What it has instead: a mode, or user and group"`
	Want    string     `json:"want,omitempty"`
	Expires *time.Time `json:"expires" doc:"When the access that it holds ends"`
}
