package resolve

import (
	"cmp"
	"maps"
	"slices"

	"patientlantern.example/lantern/core/policy"
	"patientlantern.example/lantern/core/source"
)

// grant puts access on a sheet, together with what is there for the same account.
func grant(sheet *source.Sheet, a *source.SheetAccess) {
	i := slices.IndexFunc(sheet.Access, func(x source.SheetAccess) bool { return x.Account == a.Account && x.Kind == a.Kind })
	if i < 0 {
		x := *a
		x.Repositories, x.Files = slices.Clone(a.Repositories), nil
		mergeFiles(&x, a.Files)
		sheet.Access = append(sheet.Access, x)
		return
	}
	x := &sheet.Access[i]
	x.Repositories = append(x.Repositories, a.Repositories...)
	mergeFiles(x, a.Files)
}

func mergeFiles(a *source.SheetAccess, files []source.AccessFile) {
	for _, f := range files {
		i := slices.IndexFunc(a.Files, func(x source.AccessFile) bool { return x.Path == f.Path })
		if i < 0 {
			f.URLs = slices.Clone(f.URLs)
			a.Files = append(a.Files, f)
			continue
		}
		for _, u := range f.URLs {
			if !slices.Contains(a.Files[i].URLs, u) {
				a.Files[i].URLs = append(a.Files[i].URLs, u)
			}
		}
	}
}

// mergeDefinition lays a case over a definition.
func mergeDefinition(d, over *policy.Definition) {
	d.Deb, d.Rpm, d.Zypp, d.Arch, d.Flat = mergeDeb(
		d.Deb,
		over.Deb,
	), mergePlace(
		d.Rpm,
		over.Rpm,
	), mergePlace(
		d.Zypp,
		over.Zypp,
	), mergePlace(
		d.Arch,
		over.Arch,
	), mergePlace(
		d.Flat,
		over.Flat,
	)
	for _, x := range over.Files {
		i := slices.IndexFunc(d.Files, func(y policy.Extra) bool { return y.Name == x.Name })
		if i < 0 {
			d.Files = append(slices.Clip(d.Files), x)
			continue
		}
		d.Files = slices.Clone(d.Files)
		mergeDefinition(&d.Files[i].Definition, &x.Definition)
	}
}

// mergeDeb lays a case over a definition: lists replace, add- and
// drop-components gather.
func mergeDeb(old, over *policy.Deb) *policy.Deb {
	if over == nil || old == nil {
		if over == nil {
			return old
		}
		return over
	}
	d := *old
	if over.URL != nil {
		d.URL, d.Mirrors = over.URL, nil
	}
	if over.Mirrors != nil {
		d.URL, d.Mirrors = nil, over.Mirrors
	}
	if over.Pin != nil {
		d.Pin, d.Releases = over.Pin, nil
	}
	if over.Releases != nil {
		d.Pin, d.Releases = nil, over.Releases
	}
	if over.Priority != nil {
		d.Priority = over.Priority
	}
	for _, x := range []struct{ to, from *[]policy.Text }{
		{&d.Suites, &over.Suites},
		{&d.Components, &over.Components},
		{&d.Archs, &over.Archs},
		{&d.Kinds, &over.Kinds},
	} {
		if *x.from != nil {
			*x.to = *x.from
		}
	}
	d.ComesBy = cmp.Or(over.ComesBy, d.ComesBy)
	d.Needs, d.Witness = mergeNeeds(d.Needs, over.Needs), cmp.Or(over.Witness, d.Witness)
	d.Add = append(slices.Clone(d.Add), over.Add...)
	d.Drop = append(slices.Clone(d.Drop), over.Drop...)
	return &d
}

func mergePlace(old, over *policy.Place) *policy.Place {
	if over == nil || old == nil {
		if over == nil {
			return old
		}
		return over
	}
	d := *old
	if over.URL != nil {
		d.URL, d.Mirrors = over.URL, nil
	}
	if over.Mirrors != nil {
		d.URL, d.Mirrors = nil, over.Mirrors
	}
	if over.Sections != nil {
		d.Sections = over.Sections
	}
	if over.Priority != nil {
		d.Priority = over.Priority
	}
	d.ComesBy = cmp.Or(over.ComesBy, d.ComesBy)
	d.Needs, d.Witness = mergeNeeds(d.Needs, over.Needs), cmp.Or(over.Witness, d.Witness)
	for _, x := range []struct{ to, from **policy.Text }{{&d.Access, &over.Access}, {&d.Authority, &over.Authority}} {
		if *x.from != nil {
			*x.to = *x.from
		}
	}
	return &d
}

// mergeNeeds gathers what a definition and a case need.
func mergeNeeds(old, over *policy.Needs) *policy.Needs {
	if old == nil || over == nil {
		return cmp.Or(over, old)
	}
	n := &policy.Needs{
		Pos:      over.Pos,
		Packages: slices.Concat(old.Packages, over.Packages),
		Free:     maps.Clone(old.Free),
		Tools:    maps.Clone(old.Tools),
	}
	for folder, size := range over.Free {
		n.Free[folder] = max(n.Free[folder], size)
	}
	maps.Copy(n.Tools, over.Tools)
	return n
}
