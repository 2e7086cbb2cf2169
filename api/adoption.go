package api

import "patientlantern.example/lantern/core/diag"

// AdoptionOrder names a source that hosts have and the policy does not list.
type AdoptionOrder struct {
	To   []string `json:"to" minItems:"1" maxItems:"100" doc:"Hosts that have it and shall get it; it is read on the first"`
	File string   `json:"file" minLength:"2" maxLength:"4096" pattern:"^/" doc:"Where it stands"`
	Line int      `json:"line,omitempty" minimum:"0" doc:"0 or absent for all of the file"`
}

// Adoption is what has to be added to a folder so that a source is as the policy says.
type Adoption struct {
	Revision int64             `json:"revision" doc:"The newest, to whose folder it would be added"`
	Files    map[string][]byte `json:"files" doc:"Files that would be added; none that is there is touched"`
	Notes    []AdoptionNote    `json:"notes" doc:"What people should look at before it is published"`
}

// AdoptionNote is something that people should look at.
type AdoptionNote struct {
	Host    string `json:"host"`
	Message string `json:"message"`
}

// RetirementOrder names a key that another has taken over from.
type RetirementOrder struct {
	Key string `json:"key" minLength:"1" maxLength:"200" doc:"Its name in the newest policy"`
}

// Retirement is what the newest folder is without a key.
type Retirement struct {
	Revision int64             `json:"revision" doc:"The newest, from whose folder it is taken out"`
	Key      string            `json:"key" doc:"Its name in the policy"`
	Files    map[string][]byte `json:"files" doc:"Policy files that change, as they are then"`
	Gone     []string          `json:"files_gone" doc:"Key files that nothing names then"`
	Mentions []diag.Pos        `json:"mentions" doc:"Lines that speak of the key still, in comments"`
	Checked  []string          `json:"checked_packages" doc:"Repositories of package managers that check the signature of each package, an old one too"`
}
