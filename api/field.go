package api

// Field is every host of the fleet, counted by system or cohort, and state.
type Field struct {
	Systems  []FieldSystem `json:"items"`
	Total    int           `json:"total" doc:"Systems, or cohorts"`
	Standing Standing      `json:"standing"`
}

// FieldSystem is the hosts of one system, or of one cohort or several small ones.
type FieldSystem struct {
	System string         `json:"system" doc:"Empty for hosts that have sent no survey, and for cohorts of several systems"`
	Hosts  int            `json:"hosts"`
	States map[string]int `json:"states" doc:"How many stand in each state"`

	Like    string `json:"like,omitempty" doc:"By cohort: a host of it"`
	Cohorts int    `json:"cohorts,omitempty" doc:"By cohort: how many this row holds"`
}
