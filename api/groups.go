package api

import "patientlantern.example/lantern/core/diag"

// GroupPage is one page of the groups of the newest revision.
type GroupPage struct {
	Groups   []Group `json:"items"`
	Total    int     `json:"total"`
	Next     int     `json:"next,omitempty" doc:"The page that follows; absent on the last one"`
	Revision int64   `json:"revision" doc:"The newest one; 0: nothing is published"`
	Unknown  int     `json:"unknown" doc:"Hosts of which it is not known in which groups they are: they have sent no survey"`
}

// Group is a group of hosts, as the policy defines it.
type Group struct {
	Name    string   `json:"name"`
	Hosts   int      `json:"hosts" doc:"How many hosts are in it"`
	Drifted int      `json:"drifted" doc:"How many of them have drifted"`
	Names   []string `json:"names" doc:"Some of them"`
	Place   diag.Pos `json:"place" doc:"Where the policy defines it"`

	Standing Standing `json:"standing" doc:"Of how many of them it is known how they stand, and of how many not"`
}
