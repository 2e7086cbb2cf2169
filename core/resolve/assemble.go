package resolve

import (
	"fmt"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/diag"
	"patientlantern.example/lantern/core/policy"
	"patientlantern.example/lantern/core/source"
)

// because says why a repository is there.
func (r *Resolver) because(p *plan, repo *policy.Repository) Reason {
	reason := Reason{Repository: repo.Name, At: []diag.Pos{}}
	for _, i := range p.apply {
		a := r.policy.Assignments[i]
		if slices.ContainsFunc(a.Repositories, func(t policy.Text) bool { return t.Value == repo.Name }) {
			reason.At = append(reason.At, a.Pos)
			if reason.Because == "" {
				reason.Because = "assigned to " + joinTexts(a.To)
			}
		}
	}
	for _, f := range p.follows {
		choice := r.policy.Channels[f.Channel].Choice(f.Choice)
		switch {
		case slices.Contains(f.Repositories, repo.Name):
			reason.Because = fmt.Sprintf("%s follows %s of the channel %s", f.Group, f.Choice, f.Channel)
		case slices.Contains(f.Others, repo.Name):
			reason.Because = fmt.Sprintf("kept off where it stands: %s follows %s of the channel %s", f.Group, f.Choice, f.Channel)
			reason.Left = true
		default:
			continue
		}
		reason.At = append(reason.At, f.At, choice.Pos)
	}
	reason.At = append(reason.At, repo.Pos)
	return reason
}

// assemble puts a sheet together from its parts.
func (r *Resolver) assemble(h *Host, p *plan, parts []*part) *Result {
	var key strings.Builder
	key.WriteString(h.Traits.Family + " " + p.unlisted + " " + r.distrusts)
	for _, x := range parts {
		key.WriteString(x.id)
	}
	old := r.memory.sheets[key.String()]
	res := &Result{
		Example:  h.Name,
		resolver: r,
		plan:     p,
		parts:    parts,
		Trouble:  slices.Clone(p.bad),
		Sheet: &source.Sheet{Family: h.Traits.Family, Unlisted: p.unlisted,
			Files: []source.SheetFile{}, Sources: []source.SheetSource{}, InPlace: []source.InPlace{}, Keys: []source.SheetKey{},
			Withdrawn: r.withdrawn},
	}
	res.given = &Given{Needs: res.needs(), Follows: p.follows, Rules: p.rules, ReadLogins: p.logins}
	for _, x := range parts {
		for _, d := range x.bad { // what is wrong with a site is found with each repository that comes from there
			if !slices.ContainsFunc(res.Trouble, func(y diag.Diagnostic) bool { return y.Pos == d.Pos && y.Message == d.Message }) {
				res.Trouble = append(res.Trouble, d)
			}
		}
		if old != nil {
			continue
		}
		for _, file := range x.files {
			res.Sheet.Files = withFile(res.Sheet.Files, file)
		}
		res.Sheet.Sources = append(res.Sheet.Sources, x.sources...)
		res.Sheet.Licensed = append(res.Sheet.Licensed, x.licensed...)
		if x.access != nil {
			grant(res.Sheet, x.access)
		}
		res.Sheet.InPlace = append(res.Sheet.InPlace, x.inPlace...)
		res.Sheet.Locks = append(res.Sheet.Locks, x.locks...)
		if x.need != nil {
			res.Sheet.Needs = append(res.Sheet.Needs, *x.need)
		}
		if x.witness != nil {
			res.Sheet.Witnesses = append(res.Sheet.Witnesses, *x.witness)
		}
		for _, k := range x.keys {
			if !slices.Contains(res.Sheet.Keys, k) {
				res.Sheet.Keys = append(res.Sheet.Keys, k)
			}
		}
	}
	if old != nil {
		res.Sheet, res.written = old.sheet, old
		return res
	}
	res.finish()
	if len(res.Trouble) == 0 {
		r.memory.sheets[key.String()] = res.written
	}
	return res
}

// Reasons says why each repository is on the sheet, or why it is not.
func (res *Result) Reasons() []Reason {
	out := make([]Reason, 0, len(res.plan.repositories))
	for i, name := range res.plan.repositories {
		if res.plan.strange[name] != "" {
			continue
		}
		reason := res.resolver.because(res.plan, res.resolver.policy.Repositories[name])
		reason.At = slices.Clone(reason.At)
		if x := res.parts[i]; !x.none {
			for _, n := range x.cases {
				c := res.resolver.policy.Repositories[name].Cases[n]
				reason.At = append(reason.At, c.Pos)
				reason.Because += ", where " + c.Where.Text
			}
		} else {
			reason.Left = true
			reason.Because += ", but it says nothing about " + orUnknown(res.Sheet.Family)
		}
		out = append(out, reason)
	}
	return out
}

// withFile adds a file to others. One that several need, as a key, is there for certain where one of them needs it so.
func withFile(files []source.SheetFile, file source.SheetFile) []source.SheetFile {
	i := slices.IndexFunc(files, func(x source.SheetFile) bool { return x.Path == file.Path })
	if i < 0 {
		return append(files, file)
	}
	files[i].IfThere = files[i].IfThere && file.IfThere
	if files[i].While != file.While { // media that is not there keeps it from nobody else
		files[i].While = ""
	}
	return files
}

// take adds what the repository comes to, with what is written of it.
func (w *writing) take(files []source.SheetFile, src source.SheetSource, keys []source.SheetKey) {
	if w.grant != nil {
		src.Contract = w.grant.Contract
	}
	src.Upstream = w.far
	w.sources = append(w.sources, src)
	for _, f := range files {
		f.While = src.While
		w.files = withFile(w.files, f)
	}
	for _, k := range keys {
		if !slices.Contains(w.keys, k) {
			w.keys = append(w.keys, k)
		}
	}
}

func joinTexts(list []policy.Text) string {
	var out []string
	for _, t := range list {
		out = append(out, t.Value)
	}
	return strings.Join(out, ", ")
}

func orUnknown(family string) string {
	if family == "" {
		return "an unknown family"
	}
	return family
}

func (res *Result) finish() {
	slices.SortFunc(res.Sheet.Files, func(a, b source.SheetFile) int { return strings.Compare(a.Path, b.Path) })
	slices.SortFunc(res.Sheet.Keys, func(a, b source.SheetKey) int { return strings.Compare(a.Name, b.Name) })
	res.Sheet.Format = source.FormName(res.Sheet.Form())
	res.written = &written{sheet: res.Sheet}
}
