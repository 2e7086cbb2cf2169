package change

import (
	"fmt"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/core/keyring"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/verdict"
)

// Distrust is what is done to a key that goes out of a keyring which its package manager alone writes.
const Distrust = "distrust"

// Distrusted is a key that goes out of such a keyring.
type Distrusted struct {
	Fingerprint string
	Where       string // the keyring
	Why         string
	// Released is true for one that may be believed, and that nothing of the policy goes by any more:
	// it goes when everything else is done, and comes back with whatever goes back.
	Released bool
}

// diff is written like that of a file of which each line is a key.
func (d *Distrusted) diff() string {
	return fmt.Sprintf("--- %s\n+++ %s\n@@ -1 +0,0 @@\n-key %s\n", d.Where, d.Where, d.Fingerprint)
}

// Any reports whether anything changes.
func (c *Change) Any() bool { return len(c.Edits)+len(c.Distrusts) > 0 }

// distrust takes keys that are withdrawn out of wherever they are believed.
func (c *computer) distrust() {
	if len(c.Sheet.Withdrawn) == 0 {
		return
	}
	why := map[string][]string{} // by file
	for _, f := range drift.StillBelieved(c.Sheet, c.Survey, c.owned, c.verdicts) {
		switch at := slices.IndexFunc(c.Survey.Keys, func(k source.Key) bool { return k.Where == f.File && k.Fingerprint == f.Have }); {
		case f.Stays || c.owned[f.File]:
		case drift.InDatabase(c.Sheet.Family, &c.Survey.Keys[at]):
			c.out.Distrusts = append(c.out.Distrusts, Distrusted{Fingerprint: f.Have, Where: f.File, Why: f.Message})
		default:
			why[f.File] = append(why[f.File], f.Message)
		}
	}
	own := drift.DistributionsKeys(c.Survey, c.verdicts)
	goes := func(fingerprint string) bool {
		w := c.Sheet.WithdrawnKey(fingerprint)
		return w != nil && !w.Stays && !own[fingerprint]
	}
	if c.Base != nil { // what is put back does not bring them along
		for i := range c.Base.Survey.Keys {
			k := &c.Base.Survey.Keys[i]
			if goes(k.Fingerprint) && strings.HasPrefix(k.Where, "/etc/") && why[k.Where] == nil && !c.owned[k.Where] {
				w := c.Sheet.WithdrawnKey(k.Fingerprint)
				why[k.Where] = []string{fmt.Sprintf("the key %s is withdrawn (%s)", w.Key, w.Because)}
			}
		}
	}
	for file, reasons := range why {
		c.without(file, goes, reasons)
	}
}

// without takes the keys that are withdrawn out of a file as it would stand after the other edits.
func (c *computer) without(file string, goes func(fingerprint string) bool, why []string) {
	at := slices.IndexFunc(c.out.Edits, func(e FileEdit) bool { return e.Path == file })
	text, there := c.Texts[file]
	if at >= 0 {
		text, there = c.out.Edits[at].New, c.out.Edits[at].Action != Remove
	}
	if !there {
		return
	}
	next, left, err := keyring.Without(text, goes)
	if err != nil || string(next) == string(text) {
		return
	}
	old, stands := c.Texts[file]
	mode := c.modes[file]
	if at >= 0 {
		why, mode = append(c.out.Edits[at].Why, why...), c.out.Edits[at].Mode
		c.out.Edits = slices.Delete(c.out.Edits, at, at+1)
	}
	switch {
	case left > 0 && !stands:
		c.out.Edits = append(c.out.Edits, FileEdit{Path: file, Action: Create, Mode: mode, New: next, Why: why})
	case left > 0 && string(next) != string(old):
		c.out.Edits = append(c.out.Edits, FileEdit{Path: file, Action: Edit, Mode: mode, Old: old, New: next, Why: why})
	case left == 0 && stands:
		c.out.Edits = append(c.out.Edits,
			FileEdit{Path: file, Action: Remove, Mode: c.modes[file], Old: old, Why: why},
			FileEdit{Path: c.aside(file), Action: Create, Mode: c.modes[file], New: old, Why: why})
	}
}

// release takes the keys that changes have put into a keyring out again where no repository of the policy goes by
// them: there they are believed for every source. It does so where nothing else may go by them either.
func (c *computer) release() {
	if len(c.Added) == 0 {
		return
	}
	for i := range c.Survey.Sources {
		s, v := &c.Survey.Sources[i], &c.verdicts[i]
		if s.Enabled && s.Family == c.Sheet.Family && (v.Kind == verdict.Unlisted && v.Act == verdict.Stay || v.Kind == verdict.Adopted) {
			return
		}
	}
	for i := range c.Survey.Keys {
		k := &c.Survey.Keys[i]
		wanted := slices.ContainsFunc(c.Sheet.Keys, func(x source.SheetKey) bool { return x.Fingerprint == k.Fingerprint })
		twice := slices.ContainsFunc(c.out.Distrusts, func(d Distrusted) bool { return d.Fingerprint == k.Fingerprint && d.Where == k.Where })
		if !wanted && !twice && k.Good() && drift.InDatabase(c.Sheet.Family, k) && slices.Contains(c.Added, k.Fingerprint) {
			c.out.Distrusts = append(c.out.Distrusts, Distrusted{Fingerprint: k.Fingerprint, Where: k.Where, Released: true,
				Why: "no repository of the policy goes by the key " + k.Fingerprint + " any more, which a change had put there"})
		}
	}
}
