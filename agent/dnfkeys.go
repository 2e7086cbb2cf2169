package agent

import (
	"io/fs"
	"path"
	"slices"

	"patientlantern.example/lantern/core/family/rpm"
	"patientlantern.example/lantern/core/keyring"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/text/pattern"
)

// dnfCaches are where dnf keeps what it has fetched, a folder for each repository: its name, and
// sixteen digits that stand for its addresses.
var dnfCaches = []string{"var/cache/dnf", "var/cache/libdnf5"}

var cacheDigits = pattern.Lazy(`^[0-9a-f]{16}$`)

// forgetKeys has dnf take the keys of repositories from their files again, where a change has to
// do with them. dnf keeps each key that it has taken once beside the metadata, and goes on
// believing it when the file names it no more: a key that the policy has taken away would verify
// metadata for ever, and one that was never tried would be called good.
func (a *attempt) forgetKeys() {
	if a.sheet.Family != rpm.Family {
		return
	}
	edited := a.edited()
	ids := map[string]bool{}
	for i := range a.before.Survey.Sources {
		s := &a.before.Survey.Sources[i]
		ids[s.ID] = ids[s.ID] || edited[s.File] || slices.ContainsFunc(s.Reads(), func(p string) bool { return edited[p] })
	}
	for i := range a.sheet.Sources {
		s := &a.sheet.Sources[i]
		ids[s.ID] = ids[s.ID] || edited[s.File] || slices.ContainsFunc(a.sheet.Keys, func(k source.SheetKey) bool {
			return edited[k.Path] && slices.Contains(s.SignedBy, k.Fingerprint)
		})
	}
	for _, cache := range dnfCaches {
		entries, err := fs.ReadDir(a.host.dir.FS(), cache)
		if err != nil {
			continue // dnf has kept nothing there
		}
		for _, e := range entries {
			id, digits := cacheOf(e.Name())
			ring := path.Join(cache, e.Name(), "pubring")
			if !cacheDigits().MatchString(digits) || !ids[id] && !a.holdsWithdrawn(ring) {
				continue
			}
			if err := a.host.dir.RemoveAll(ring); err != nil {
				a.log.Warn("dnf goes on believing keys that it took before", "repository", id, "error", err)
			}
		}
	}
}

// holdsWithdrawn reports whether a keyring has a key that no host may believe any more.
func (a *attempt) holdsWithdrawn(ring string) bool {
	if len(a.sheet.Withdrawn) == 0 {
		return false
	}
	for _, name := range []string{"pubring.kbx", "pubring.gpg"} {
		text, err := fs.ReadFile(a.host.dir.FS(), path.Join(ring, name))
		if err != nil {
			continue // gpg keeps them in the other one
		}
		keys, _ := keyring.Read(text, keyring.At{Now: a.now()})
		if slices.ContainsFunc(keys, func(k source.Key) bool { return a.sheet.WithdrawnKey(k.Fingerprint) != nil }) {
			return true
		}
	}
	return false
}

// cacheOf parts the name of a repository's folder into its parts.
func cacheOf(name string) (id, digits string) {
	if len(name) < 18 || name[len(name)-17] != '-' {
		return "", ""
	}
	return name[:len(name)-17], name[len(name)-16:]
}
