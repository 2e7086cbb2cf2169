package resolve

import (
	"cmp"
	"slices"

	"patientlantern.example/lantern/core/family/flatpak"
	"patientlantern.example/lantern/core/policy"
	"patientlantern.example/lantern/core/source"
)

// wants is what a repository wants of a host, from the general to the particular: needs
// gather, and the last witness counts.
type wants struct {
	needs   []*policy.Needs
	witness *policy.Witness
	cases   []policy.Case // those that hold
}

// add takes what is more particular.
func (a *wants) add(n *policy.Needs, w *policy.Witness) {
	a.needs = append(a.needs, n)
	if w != nil {
		a.witness = w
	}
}

// requirements works out what must be there before the repository is switched on, and
// which package proves that it works. def is what it is on this host.
func (w *writing) requirements(all *wants, def *policy.Definition) {
	family := w.host.Traits.Family
	if d := def.Deb; d != nil && family == source.FamilyDeb {
		all.add(d.Needs, d.Witness)
	}
	for name, d := range def.Places() {
		if d != nil && name == family {
			all.add(d.Needs, d.Witness)
		}
	}
	if d := def.Flat; d != nil && slices.ContainsFunc(w.sources, func(s source.SheetSource) bool { return s.Family == flatpak.Family }) {
		all.add(d.Needs, nil) // flatpak has no packages that could prove anything
	}
	for i := range all.cases {
		all.add(all.cases[i].Needs, all.cases[i].Witness)
	}
	w.need = w.brought(w.gathered(all.needs))
	if x := all.witness; x != nil {
		name := w.fill([]policy.Text{x.Package})
		if len(name) != 1 {
			return
		}
		w.part.witness = &source.SheetWitness{Repository: w.repo.Name, Package: name[0]}
		if x.AtLeast.Value != "" {
			if v := w.fill([]policy.Text{x.AtLeast}); len(v) == 1 {
				w.part.witness.AtLeast = v[0]
			}
		}
	}
}

// comesBy is the package that brings entries which are edited in place; empty where the
// policy does not say, or where it cannot be said on this host.
func (w *writing) comesBy(name *policy.Text) string {
	if name == nil {
		return ""
	}
	if filled := w.fill([]policy.Text{*name}); len(filled) == 1 {
		return filled[0]
	}
	return ""
}

// brought adds the packages that bring entries which must be on.
func (w *writing) brought(need *source.SheetNeed) *source.SheetNeed {
	for _, rule := range w.inPlace {
		if rule.ComesBy == "" || !rule.Enabled {
			continue
		}
		if need == nil {
			need = &source.SheetNeed{Repository: w.repo.Name}
		}
		need.ComesBy = append(need.ComesBy, rule.ComesBy)
		if !slices.Contains(need.Packages, rule.ComesBy) {
			need.Packages = append(need.Packages, rule.ComesBy)
		}
	}
	return need
}

// gathered is all needs as one; nil where there are none.
func (w *writing) gathered(list []*policy.Needs) *source.SheetNeed {
	out := &source.SheetNeed{Repository: w.repo.Name, Free: map[string]int64{}, Tools: map[string]string{}}
	for _, n := range list {
		if n == nil {
			continue
		}
		for _, p := range w.fill(n.Packages) {
			if !slices.Contains(out.Packages, p) {
				out.Packages = append(out.Packages, p)
			}
		}
		for folder, size := range n.Free {
			out.Free[folder] = max(out.Free[folder], size)
		}
		for tool, least := range n.Tools { // the more particular one counts
			out.Tools[tool] = cmp.Or(least.Value, out.Tools[tool])
		}
	}
	if len(out.Packages)+len(out.Free)+len(out.Tools) == 0 {
		return nil
	}
	return out
}
