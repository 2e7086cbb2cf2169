package api

// LabelOrder gives labels to many hosts, and takes others away.
type LabelOrder struct {
	To    []string          `json:"to,omitempty" maxItems:"100000" doc:"Hosts, ranges of hosts or groups"`
	Where string            `json:"where,omitempty" maxLength:"4096" doc:"Of them only hosts for which this condition holds, as in policies"`
	Set   map[string]string `json:"set,omitempty" doc:"Labels that they get; one that a host has under this name goes"`
	Unset []string          `json:"unset,omitempty" maxItems:"100" doc:"Names of labels that they lose"`
	Try   bool              `json:"try,omitempty" doc:"Does nothing, and answers what would come of it"`
}

// Labelled is what came of it, or what would.
type Labelled struct {
	Revision   int64       `json:"revision" doc:"The newest, by which the rest is worked out; 0: none, and the rest is not known"`
	Relabelled int         `json:"relabelled" doc:"Hosts whose labels are others by it"`
	Kept       int         `json:"kept" doc:"Hosts that were meant and had these labels already"`
	Changing   int         `json:"changing" doc:"Of the relabelled, hosts for which the newest revision says something else by it"`
	Unknown    int         `json:"unknown,omitempty" doc:"Hosts that have sent no survey: what comes of it there is not known"`
	Moves      []GroupMove `json:"moves" doc:"Groups that hosts come into or leave, by name"`
	Names      []string    `json:"names" doc:"Some of the relabelled, by name"`
}

// GroupMove is how many hosts come into a group, and how many leave it.
type GroupMove struct {
	Group string `json:"group"`
	Come  int    `json:"come"`
	Leave int    `json:"leave"`
}
