package change

import (
	"fmt"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/family/flatpak"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/verdict"
)

// remotes writes flatpak's remotes into its own configuration.
func (c *computer) remotes() {
	old, there := c.Texts[flatpak.Config]
	text := old
	var why []string
	action, mode := Edit, c.modes[flatpak.Config]
	if copies := c.copies(flatpak.Config, nil); !there && c.Base != nil && len(copies) > 0 && c.stopped(flatpak.Config) {
		text, there, action, mode = copies[0], true, Create, c.stoodMode(flatpak.Config)
		why = []string{"the file that stood here has gone"}
	}
	if reason, spoilt := c.spoilt[flatpak.Config]; spoilt {
		text, why = c.Stood[flatpak.Config], []string{reason}
	}
	if there { // before the policy's own is written, which may say more by now
		texts, reasons := map[string][]byte{flatpak.Config: text}, map[string][]string{}
		c.putBackSections(editor{has: func(p string) bool { return p == flatpak.Config }, section: flatpak.Section}, texts, reasons)
		text, why = texts[flatpak.Config], append(why, reasons[flatpak.Config]...)
	}
	paths := map[string]string{} // fingerprint → file
	for _, k := range c.Sheet.Keys {
		paths[k.Fingerprint] = k.Path
	}
	for i := range c.Sheet.Sources {
		s := &c.Sheet.Sources[i]
		if s.Family != flatpak.Family {
			continue
		}
		if s.IfThere &&
			!slices.ContainsFunc(c.Survey.Sources, func(x source.Source) bool { return x.Family == flatpak.Family && x.ID == s.ID }) {
			continue
		}
		if !there {
			c.out.Impossible = append(
				c.out.Impossible,
				flatpak.Config+" is not there: flatpak makes it when it is first used, for example by flatpak remotes",
			)
			return
		}
		var keys []string
		for _, f := range s.SignedBy {
			if c.court.Adopted.Spares(paths[f]) {
				continue
			}
			keys = append(keys, flatpak.KeyPath(strings.TrimSuffix(lastPart(paths[f]), ".asc")))
		}
		next, err := flatpak.Set(c.remoteAsKept(text, s.ID), s, keys)
		if err != nil {
			c.out.Impossible = append(c.out.Impossible, fmt.Sprintf("%s: the remote %s cannot be written: %v", flatpak.Config, s.ID, err))
			continue
		}
		if string(next) != string(text) {
			why = append(why, "repository "+s.Repository)
		}
		text = next
	}
	text, more := c.dropRemotes(text)
	if why = append(why, more...); string(text) != string(old) {
		c.out.Edits = append(
			c.out.Edits,
			FileEdit{Path: flatpak.Config, Action: action, Mode: mode, Old: old, New: text, Why: why},
		)
	}
}

// stopped reports whether a package manager does not work because of a file: flatpak where its repository stands
// there and has no configuration. Where there is none, it makes one.
func (c *computer) stopped(path string) bool {
	return slices.ContainsFunc(c.Survey.Problems, func(p source.Problem) bool { return p.Fatal && p.File == path })
}

// remoteAsKept is a text in which a remote says what it said after the last change, where it stood then.
func (c *computer) remoteAsKept(text []byte, id string) []byte {
	kept := c.Kept[flatpak.Config]
	was, stood := flatpak.Section(kept, id)
	if now, stands := flatpak.Section(text, id); !stood || stands && now == was {
		return text
	}
	back, ok := whereItStood(text, kept, was, func(text []byte) (string, bool) { return flatpak.Section(text, id) })
	if !ok {
		return text
	}
	return back
}

// dropRemotes takes out of flatpak's configuration the remotes that the policy listed before
// and does not list, and treats those that it never did as it says.
func (c *computer) dropRemotes(text []byte) (out []byte, why []string) {
	for i := range c.verdicts {
		s, v := &c.Survey.Sources[i], &c.verdicts[i]
		if s.Family != flatpak.Family || s.File != flatpak.Config || v.Act == verdict.Stay || !s.Enabled && v.Kind != verdict.Withdrawn {
			continue
		}
		was, stood := flatpak.Section(c.Kept[flatpak.Config], s.ID)
		now, stands := flatpak.Section(c.Texts[flatpak.Config], s.ID)
		if again, there := flatpak.Section(text, s.ID); v.Kind == verdict.Doubled && stood && stands && there && was != now && was == again {
			continue // what it defined a second time was another's, and is so again
		}
		if s.Enabled && (v.Of == nil || v.Kind == verdict.Licensed) {
			c.leave(s)
		}
		if !c.afford(flatpak.Config, len(text)) {
			break
		}
		next, err := flatpak.Switch(text, s.ID, v.Act == verdict.Remove)
		if err != nil {
			c.out.Impossible = append(c.out.Impossible,
				fmt.Sprintf("%s: the remote %s cannot be switched off: %v", flatpak.Config, s.ID, err))
		} else if string(next) != string(text) {
			text, why = next, append(why, reason(s, v))
		}
	}
	return text, why
}
