package agent

import (
	"errors"
	"io/fs"

	"patientlantern.example/lantern/core/change"
	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/survey"
)

// What the host was like when the policy came, or when somebody accepted it: the agent keeps
// the files of sources as they stood then, passwords and all, to put them back to the byte.
// They never leave the host.

const baseFile = "base.json"

// base is what is kept of that.
type base struct {
	Document string            `json:"document"` // digest of the survey
	Sheet    *source.Sheet     `json:"sheet"`    // that had been carried
	Survey   *source.Survey    `json:"survey"`
	Texts    map[string][]byte `json:"texts"`
}

// keep keeps the files as they were when the host was looked at.
func (a *Agent) keep(l *look) error {
	b := base{Document: l.surveyID, Sheet: a.host.lastSheet(), Survey: &l.result.Survey, Texts: l.result.Texts}
	if err := a.host.saveJSON(baseFile, &b); err != nil {
		return err
	}
	a.keptID = &b.Document
	return nil
}

// kept names the survey of which the files are kept; empty where none are, or where they
// cannot be read any more.
func (a *Agent) kept() string {
	if a.keptID == nil {
		var b base
		if err := a.host.loadJSON(baseFile, &b); err != nil && !errors.Is(err, fs.ErrNotExist) {
			a.log.Warn("the files as they are to stay cannot be read; they are kept anew when they are so again", "error", err)
		}
		a.keptID = &b.Document
	}
	return *a.keptID
}

// putBack adds to a change what takes back everything that is not as it was.
func (h *Host) putBack(in *change.Input, now *survey.Result) error {
	var b base
	if err := h.loadJSON(baseFile, &b); err != nil {
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		return err
	}
	if b.Survey == nil {
		return nil
	}
	for name := range b.Texts { // what its package manager does not read any more stands there all the same
		if _, read := now.Texts[name]; read {
			continue
		}
		if text, info, err := h.fs.ReadTextInfo(name); err == nil && info.Mode().IsRegular() {
			now.Texts[name], now.Modes[name] = text, info.Mode().Perm()
		}
	}
	in.Base, in.Stood = &drift.Base{Sheet: b.Sheet, Survey: b.Survey}, b.Texts
	return nil
}
