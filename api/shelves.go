package api

import "time"

// ShelfOrder asks that the service serves a folder to hosts.
type ShelfOrder struct {
	Name   string `json:"name" pattern:"^[a-z0-9][a-z0-9-]{0,62}$" doc:"What it is called in URLs"`
	Folder string `json:"folder" minLength:"1" maxLength:"1000" doc:"A folder below that of all shelves on the service's machine"`
}

// Shelf is a folder that the service serves to hosts, read-only and without a sign-in.
type Shelf struct {
	Name    string    `json:"name"`
	Folder  string    `json:"folder" doc:"Below that of all shelves"`
	Path    string    `json:"path" doc:"Where it is served, behind the service's address"`
	Author  string    `json:"author"`
	Created time.Time `json:"created"`
	State   string    `json:"state" enum:"there,away" doc:"there: something stands in it; away: nothing, or media not attached"`
	Why     string    `json:"why,omitempty" doc:"Why it is away"`
}

// States of a shelf.
const (
	ShelfThere = "there"
	ShelfAway  = "away"
)

// ShelfList lists shelves.
type ShelfList struct {
	Shelves []Shelf `json:"items"`
	Total   int     `json:"total"`
}
