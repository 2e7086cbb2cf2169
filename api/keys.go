package api

import "patientlantern.example/lantern/core/trust"

// KeyPage is one page of the signing keys that the fleet believes.
type KeyPage struct {
	Keys     []trust.FleetKey `json:"items"`
	Total    int              `json:"total"`
	Next     int              `json:"next,omitempty" doc:"The page that follows; absent on the last one"`
	States   map[string]int   `json:"states" doc:"Keys by state, before they are picked by it"`
	Revision int64            `json:"revision" doc:"The newest one, which says what the policy knows; 0: nothing is published"`
	Hosts    int              `json:"hosts" doc:"All hosts"`
	Unknown  int              `json:"unknown" doc:"Hosts of which it is not known, because they have sent no survey"`
	Silent   int              `json:"silent,omitempty" doc:"Hosts that are silent: what is told of them is what they said last"`
}

// KeyDetail is one signing key and who believes it.
type KeyDetail struct {
	trust.FleetKey
	Revision int64     `json:"revision"`
	On       []KeyHost `json:"on" doc:"A page of the hosts on which it is believed"`
	Total    int       `json:"total" doc:"Hosts that the page is one of"`
	Unknown  int       `json:"unknown" doc:"Hosts of which it is not known, because they have sent no survey"`
	Silent   int       `json:"silent,omitempty" doc:"Hosts that believe it and are silent: what is told of them is what they said last"`
	Quiet    []string  `json:"silent_names,omitempty" doc:"Some of them"`
}

// KeyHost is how one host believes a key.
type KeyHost struct {
	Host    string   `json:"host"`
	OS      string   `json:"os"`
	Scope   string   `json:"scope" enum:"any,named" doc:"any: for every source of the family; named: for sources that name it"`
	Used    bool     `json:"used"`
	Because string   `json:"because,omitempty" doc:"Why it is not used"`
	Where   []string `json:"stands_in" doc:"Files or keyrings in which it stands"`
	Sources []string `json:"sources" doc:"Sources that name it: file and line"`
}
