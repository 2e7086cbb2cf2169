package api

import (
	"encoding/json"

	"patientlantern.example/lantern/core/source"
)

// ExportSheet is where the sheet stands in an export.
const ExportSheet = "lantern/sheet.json"

// ExportOrder asks for the files that a host would have.
type ExportOrder struct {
	Host     string            `json:"host" minLength:"1" maxLength:"253" doc:"Its name; it need not be enrolled where traits are given"`
	Traits   *source.Traits    `json:"traits,omitempty" doc:"What it is, where no agent has told"`
	Labels   map[string]string `json:"labels,omitempty"`
	Revision int64             `json:"revision,omitempty" minimum:"0" doc:"0 or absent for the newest"`
}

// Export is what a host would have.
type Export struct {
	Host     string             `json:"host"`
	Revision int64              `json:"revision"`
	Sheet    json.RawMessage    `json:"sheet" doc:"The sheet, as an agent carries it out"`
	Digest   string             `json:"digest"`
	Files    []source.SheetFile `json:"files" doc:"Whole files of the policy; they belong to root"`
	Left     []string           `json:"left" doc:"What the files alone do not bring about: edits elsewhere, access, keys in keyrings"`
}
