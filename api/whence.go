package api

import "patientlantern.example/lantern/core/choice"

// Whence is where hosts would get a package from.
type Whence struct {
	Package  string      `json:"package"`
	Rows     []WhenceRow `json:"items" doc:"Hosts for which the answer is the same, a row each; the most hosts first"`
	Total    int         `json:"total"`
	Next     int         `json:"next,omitempty" doc:"The page that follows; absent on the last one"`
	Hosts    int         `json:"hosts" doc:"Hosts that were asked about"`
	Nowhere  int         `json:"nowhere" doc:"Those of them whose sources, as far as they are known, do not offer it"`
	Unsure   int         `json:"unsure" doc:"Those of them with sources of which it is not known what they offer"`
	Unknown  int         `json:"unknown" doc:"Hosts of which nothing is known, because they have sent no survey; not among hosts"`
	Silent   int         `json:"silent,omitempty" doc:"Hosts that are silent: what is told of them is what they said last"`
	Revision int64       `json:"revision"`
}

// WhenceRow is the answer for hosts that are alike.
type WhenceRow struct {
	choice.Choice
	Hosts  int      `json:"hosts"`
	Names  []string `json:"names" doc:"The first of them"`
	OS     []string `json:"systems" doc:"Their systems"`
	Unread []string `json:"unread_sources" doc:"Their sources of which it is not known what they offer, with why: the answer may be another"`
	Asked  bool     `json:"installed_known" doc:"It is known whether it is installed; false: the hosts are being asked"`
}
