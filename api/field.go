package api

// Field is every host of the fleet, counted by system and state.
type Field struct {
	Systems  []FieldSystem `json:"items"`
	Total    int           `json:"total" doc:"Systems"`
	Standing Standing      `json:"standing"`
}

// FieldSystem is the hosts of one system.
type FieldSystem struct {
	System string         `json:"system" doc:"Empty for hosts that have sent no survey"`
	Hosts  int            `json:"hosts"`
	States map[string]int `json:"states" doc:"How many stand in each state"`
}
