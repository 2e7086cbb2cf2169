package policy

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/diag"
	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/core/source"
)

// checks looks for what is allowed and seldom meant.
func (l *loader) checks() {
	l.keyChecks()
	l.trustChecks()
	l.sameURLs()
	l.unusedSettings()
	l.idleHealing()
}

// idleHealing finds classes of findings that are to be healed and that healing does not close. What becomes of sources that are not
// in the policy is said by itself.
func (l *loader) idleHealing() {
	reported := !slices.ContainsFunc(l.policy.Assignments, func(a *Assignment) bool {
		return a.Unlisted != nil && a.Unlisted.Value != source.UnlistedReport
	})
	for _, a := range l.policy.Assignments {
		for _, class := range slices.Sorted(maps.Keys(a.Findings)) {
			do := a.Findings[class].Do
			switch {
			case do == nil || do.Value != DoHeal:
			case class == drift.UnlistedSource && reported:
				l.report("heal-idle", diag.Warning, do.Pos, "healing leaves sources that are not in the policy where the policy only reports them",
					"say unlisted: switch-off, or leave this out")
			case !drift.Heals(class):
				l.report("heal-idle", diag.Warning, do.Pos, fmt.Sprintf("healing does not close findings of %q", class),
					"leave it out: such a finding says what closes it")
			}
		}
	}
}

// keyChecks looks at when keys end, and how strong they are.
func (l *loader) keyChecks() {
	p := l.policy
	successor := map[string]string{}
	for _, name := range sortedNames(p.Keys) {
		if s := p.Keys[name].Succeeds; s != nil {
			successor[s.Value] = name
		}
	}
	for _, name := range sortedNames(p.Keys) {
		k := p.Keys[name]
		if k.Armored == "" {
			continue
		}
		next := successor[name]
		if e := k.Describe.Expires; e != nil && !k.Describe.Revoked {
			day := e.Format("2006-01-02")
			switch {
			case e.Before(l.now) && next != "":
				l.report(
					"key-ends",
					diag.Warning,
					k.Pos,
					fmt.Sprintf("the key %q ended on %s, and %q has taken over", name, day, next),
					"take it out: lantern key retire "+name+" FOLDER",
				)
			case e.Before(l.now):
				l.fail(
					"key-unusable",
					k.Pos,
					fmt.Sprintf("the key %q expired on %s", name, day),
					"get the vendor's new key, or the same with a later end",
				)
			case e.Before(l.now.Add(p.Notice)) && next == "":
				l.report(
					"key-ends",
					diag.Warning,
					k.Pos,
					fmt.Sprintf("the key %q ends on %s", name, day),
					"get the vendor's next key, or the same with a later end, and let it succeed this one",
				)
			}
		}
		if k.Weakness != "" && k.Because == "" {
			l.report(
				"key-weak",
				diag.Warning,
				k.Pos,
				fmt.Sprintf("the key %q is weak: %s", name, k.Weakness),
				"ask the vendor for a stronger one, or say why it is trusted all the same: because: \"…\"",
			)
		}
	}
}

// trustChecks finds repositories that trust more than they need.
func (l *loader) trustChecks() {
	p := l.policy
	for _, name := range sortedNames(p.Repositories) {
		r := p.Repositories[name]
		// Keys that succeed each other are one.
		roots := map[string]bool{}
		for _, t := range r.Keys {
			root := t.Value
			for k := p.Keys[root]; k != nil && k.Succeeds != nil && len(roots) <= len(p.Keys); k = p.Keys[root] {
				if root == k.Succeeds.Value {
					break
				}
				root = k.Succeeds.Value
			}
			roots[root] = true
		}
		if len(roots) > 1 && !r.InPlace { // a distribution has one for each of its releases
			l.report(
				"wide-trust",
				diag.Warning,
				r.Keys[0].Pos,
				fmt.Sprintf(
					"the repository %q trusts %d keys that have nothing to do with each other: whoever has one of them can sign for it",
					name,
					len(roots),
				),
				"keep the key that it is signed with; where one takes over from another, say so at the key: succeeds: NAME",
			)
		}
		if r.Deb != nil && r.Deb.Pin != nil && strings.Contains(r.Deb.Pin.Value, "*") {
			l.report(
				"wide-trust",
				diag.Warning,
				r.Deb.Pin.Pos,
				fmt.Sprintf("the pin of %q has a pattern, so it can put other repositories in order as well", name),
				"write the value out: release o=…, n=…",
			)
		}
	}
}

// sameURLs finds repositories that are the same place under two names.
func (l *loader) sameURLs() {
	p := l.policy
	seen := map[string]Text{}
	of := map[string]string{}
	for _, name := range sortedNames(p.Repositories) {
		r := p.Repositories[name]
		if r.InPlace {
			continue
		}
		places := map[string]*Text{}
		var suites []string
		if r.Deb != nil {
			places["deb"] = r.Deb.URL
			for _, t := range append(slices.Clone(r.Deb.Suites), r.Deb.Components...) {
				suites = append(suites, expandDefaults(t.Value, r.Settings))
			}
		}
		for family, d := range r.Places() {
			if d != nil {
				places[family] = d.URL
			}
		}
		for _, family := range sortedNames(places) {
			u := places[family]
			if u == nil {
				continue
			}
			key := family + " " + strings.TrimRight(expandDefaults(u.Value, r.Settings), "/")
			if family == source.FamilyDeb {
				key += " " + strings.Join(suites, " ")
			}
			if old, twice := seen[key]; twice {
				l.report(
					"url-twice",
					diag.Warning,
					u.Pos,
					fmt.Sprintf("the repository %q is the same place as %q", name, of[key]),
					"keep one of them, or give each its own url",
					old.Pos,
				)
				continue
			}
			seen[key], of[key] = *u, name
		}
	}
}

var secretName = regexp.MustCompile(`(?i)passw|secret|token|credential|api-?key|login`)

// secretSetting refuses a setting whose name says that it is a secret.
func (l *loader) secretSetting(name string, t Text) {
	if secretName.MatchString(name) && t.Value != "" || strings.Contains(t.Value, "PRIVATE KEY") {
		l.fail(
			"secret",
			t.Pos,
			fmt.Sprintf("the setting %q looks like a secret", name),
			"take it out, and change it: accounts are the service's to keep (lantern account add)",
		)
	}
}

// unusedSettings finds settings that nothing of their repository looks at.
func (l *loader) unusedSettings() {
	for _, name := range sortedNames(l.policy.Repositories) {
		r := l.policy.Repositories[name]
		used := map[string]bool{}
		take := func(t Text) {
			for v := range Variables(t.Value) {
				used[v] = true
			}
		}
		for t := range r.Texts {
			take(t)
		}
		for i := range r.Cases {
			for t := range r.Cases[i].Texts {
				take(t)
			}
		}
		for _, s := range r.Settings {
			take(s)
		}
		if r.Media != nil && r.Media.URL != nil {
			take(*r.Media.URL)
		}
		for _, s := range sortedNames(r.Settings) {
			if !used[s] {
				l.report(
					"unused",
					diag.Warning,
					r.Settings[s].Pos,
					fmt.Sprintf("nothing of the repository %q uses its setting %q", r.Name, s),
					"use it as ${"+s+"}, or take it out",
				)
			}
		}
	}
}

// reasons wants a reason for what is weakened, and nothing else.
func (l *loader) reasons(r *Repository) {
	if r.Because != "" && r.Signatures == source.CheckRequired {
		l.report(
			"unused",
			diag.Warning,
			r.Pos,
			fmt.Sprintf("the repository %q gives a reason, and no check of it is weakened", r.Name),
			"drop because, or say signatures: off",
		)
	}
}
