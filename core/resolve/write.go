package resolve

import (
	"fmt"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/credential"
	"patientlantern.example/lantern/core/diag"
	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/family/arch"
	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/family/flatpak"
	"patientlantern.example/lantern/core/family/rpm"
	"patientlantern.example/lantern/core/family/zypp"
	"patientlantern.example/lantern/core/policy"
	"patientlantern.example/lantern/core/source"
)

// writing is one repository being written for one kind of host.
type writing struct {
	*Resolver
	*part
	host    *Host
	repo    *policy.Repository
	enabled bool
	grant   *Follow // what opens it, or nil
	plan    *plan
	while   string // folder of the media that it comes from, on the host that holds it
	lookup  func(string) (string, bool)
	told    map[diag.Pos]bool // texts into which something is put that the host tells of itself
	far     []string          // where upstream has what is written with URLs of a site's mirror
	fail    func(code string, at diag.Pos, message, remedy string)
}

func (w *writing) url(t *policy.Text) string {
	if t == nil {
		return ""
	}
	u := w.fill([]policy.Text{*t})
	if len(u) != 1 {
		return ""
	}
	if err := policy.CheckURL(u[0]); err != nil {
		w.fail("value", t.Pos, fmt.Sprintf("%v, for the host %s", err, w.host.Name), "write it as https://HOST/PATH")
		return ""
	}
	return u[0]
}

func (w *writing) signingKeys() (out []family.SigningKey) {
	for _, t := range w.repo.Trusts {
		k := w.policy.Keys[t.Value]
		out = append(out, family.SigningKey{Name: k.Name, Fingerprint: k.Fingerprint, Armored: k.Armored})
	}
	return out
}

// ownKeys are the fingerprints of the distribution's own keys, as far as the policy names them.
func (w *writing) ownKeys() []string {
	return slices.Sorted(slices.Values(w.repo.Fingerprints(w.policy)))
}

// deb writes one file for apt, or the rule for the distribution's own entries. It
// reports whether there was anything to write.
func (w *writing) deb(name string, whole *policy.Definition) bool {
	def := whole.Deb
	if def == nil {
		return false
	}
	suites, components := w.fill(def.Suites), w.fill(def.Components)
	if w.repo.InPlace {
		rule := source.InPlace{
			Repository: name,
			URLs:       []string{},
			Files:      deb.OwnFiles(w.host.Traits.OS.ID),
			Suites:     suites,
			Enabled:    w.enabled,
			Components: components,
			Add:        w.fill(def.Add),
			Drop:       w.fill(def.Drop),
			Signatures: w.unchecked(),
			ComesBy:    w.comesBy(def.ComesBy),
			Keys:       w.ownKeys(),
		}
		u := w.url(def.URL)
		rule.Mirrors = w.siteMirrors(u)
		if u != "" {
			rule.URLs = append(rule.URLs, deb.EffectiveURL(u, ""))
			near, _ := source.Near(rule.Mirrors, u)
			for _, at := range []string{near, source.Mirrored(rule.Mirrors, u)} {
				if at = deb.EffectiveURL(at, ""); !slices.Contains(rule.URLs, at) {
					rule.URLs = append(rule.URLs, at)
				}
			}
		}
		w.inPlace = append(w.inPlace, rule)
		w.aptProxy()
		return true
	}
	d := deb.Definition{
		Repository: name,
		Of:         w.repo.Name,
		Title:      w.repo.Title,
		Support:    w.repo.Support,
		Enabled:    w.enabled,
		URL:        w.url(def.URL),
		Mirrors:    w.mirrors(def.Mirrors),
		Suites:     suites,
		Priority:   def.Priority, Level: w.policy.Levels[w.repo.Name],
		Components: append(components, w.fill(def.Add)...), Archs: w.fill(def.Archs), Kinds: w.fill(def.Kinds),
		Signatures: w.repo.Signatures, Embed: deb.CanEmbed(w.host.Traits.Tools["apt"]), Keys: w.signingKeys(), Hold: w.hold(),
	}
	d.While = w.bound(d.URL, d.Mirrors)
	d.URL, d.Mirrors, d.InOrder = w.sited(d.URL, d.Mirrors, true)
	if d.URL == "" && d.Mirrors == nil {
		return true
	}
	if !w.priority(def, &d) || d.Priority != nil && !w.pin(def, &d) {
		return true
	}
	drop := w.fill(def.Drop)
	d.Components = slices.DeleteFunc(d.Components, func(c string) bool { return slices.Contains(drop, c) })
	for _, s := range d.Suites {
		flat := strings.HasSuffix(s, "/")
		if flat && len(d.Components) > 0 || !flat && len(d.Components) == 0 {
			w.fail(
				"value",
				def.Pos,
				fmt.Sprintf("apt would refuse the suite %q with components %v of %q", s, d.Components, name),
				"a suite that ends in / takes no components, any other needs some",
			)
			return true
		}
	}
	files, src, keys := deb.Render(d)
	w.take(files, src, keys)
	w.aptProxy()
	if w.grant != nil {
		w.open(credential.Basic, deb.Access(w.grant.Account, append([]string{d.URL}, d.Mirrors...)))
	}
	return true
}

// natural is what apt gives a repository of itself, as far as the policy says.
func natural(def *policy.Deb) int {
	n := 500
	for _, r := range def.Releases {
		n = min(n, deb.Natural(source.Release{NotAutomatic: r.NotAutomatic, ButAutomaticUpgrades: r.ButAutomaticUpgrades}))
	}
	return n
}

// priority works out the number of a pin. One that says that nothing is to be installed
// from it of itself is never lifted by its place in the order. It reports false where the
// policy contradicts that.
func (w *writing) priority(def *policy.Deb, d *deb.Definition) bool {
	if d.Priority != nil {
		return true
	}
	d.Priority = deb.PriorityOf(d.Level)
	n := natural(def)
	switch {
	case d.Priority == nil || n >= 500:
		return true
	case d.Level < 0:
		n = min(n, *d.Priority)
		d.Priority = &n
		return true
	}
	w.fail(
		"conflict",
		def.Pos,
		fmt.Sprintf(
			"%q is put above others, and its Release file says that nothing is to be installed from it of itself (NotAutomatic)",
			w.repo.Name,
		),
		"where that is meant, say the number: priority: 510",
	)
	return false
}

// pin works out what a pin matches: what the Release file of its own suites says. It
// reports false where that cannot be said.
func (w *writing) pin(def *policy.Deb, d *deb.Definition) bool {
	if def.Pin != nil {
		v, ok := w.interpolate(def.Pin)
		if !ok {
			return false
		}
		d.Pins = []string{v}
		return true
	}
	if len(def.Releases) == 0 {
		w.fail(
			"missing",
			def.Pos,
			fmt.Sprintf(
				"%q has a place in the order, and nothing says what its pin matches: the host of its URL would match all that stands there",
				d.Repository,
			),
			"say what its Release file says: release: { origin: …, codename: … }; lantern policy check --upstreams asks for it",
		)
		return false
	}
	for _, r := range def.Releases {
		var fields source.Release
		for _, f := range []struct {
			from *policy.Text
			to   *string
		}{{r.Origin, &fields.Origin}, {r.Label, &fields.Label}, {r.Suite, &fields.Archive}, {r.Codename, &fields.Codename}} {
			if f.from == nil {
				continue
			}
			v, ok := w.interpolate(f.from)
			if !ok {
				return false
			}
			*f.to = v
		}
		p := deb.ReleasePin(fields)
		if p == "" {
			w.fail(
				"value",
				r.Pos,
				fmt.Sprintf("the release comes to nothing that a pin can match, for the host %s", w.host.Name),
				"give origin, label, suite or codename",
			)
			return false
		}
		d.Pins = append(d.Pins, p)
	}
	return true
}

// mirrors fills a list of mirrors in; nil stays nil.
func (w *writing) mirrors(list []policy.Text) []string {
	if list == nil {
		return nil
	}
	out := w.fill(list)
	for i, u := range out {
		if err := policy.CheckURL(u); err != nil && len(out) == len(list) {
			w.fail("value", list[i].Pos, fmt.Sprintf("%v, for the host %s", err, w.host.Name), "write it as https://HOST/PATH")
		}
	}
	return out
}

// bound is the folder of media that all URLs of a source lead into; empty where one does not.
func (w *writing) bound(url string, mirrors []string) string {
	if mirrors == nil {
		mirrors = []string{url}
	}
	for _, u := range mirrors {
		if !strings.HasPrefix(u+"/", "file://"+w.while+"/") {
			return ""
		}
	}
	return w.while
}

// place fills a Place's URL in. ok is false where there is nothing to write.
func (w *writing) place(def *policy.Place, program, forbidden string) (u string, ok bool) {
	if def == nil {
		return "", false
	}
	if def.URL == nil {
		return "", true
	}
	if u = w.url(def.URL); strings.ContainsAny(u, forbidden) {
		w.fail(
			"value",
			def.URL.Pos,
			fmt.Sprintf("%q comes to %q, which %s would not take as it is", family.MaskURL(def.URL.Value), family.MaskURL(u), program),
			"use ${os.major}, ${arch} and the like, which are filled in here",
		)
		u = ""
	}
	return u, true
}

// kindOf is the kind of access that a place is opened by.
func kindOf(def *policy.Place) string {
	if def.Access != nil {
		switch def.Access.Value {
		case policy.AccessCertificate:
			return credential.Certificate
		case policy.AccessToken:
			return credential.TokenURL
		}
	}
	return credential.Basic
}

// definition is what a place comes to on the host. ok is false where there is nothing
// to write; an empty URL means that it cannot be written.
func (w *writing) definition(name string, def *policy.Place, program, forbidden string) (d family.Definition, ok bool) {
	if def != nil && w.repo.InPlace {
		w.inPlace = append(
			w.inPlace,
			source.InPlace{Repository: w.repo.Name, URLs: []string{}, Files: []string{}, Suites: []string{}, Enabled: w.enabled,
				Components: []string{}, Add: []string{}, Drop: []string{}, Sections: w.fill(def.Sections),
				Signatures: w.unchecked(), ComesBy: w.comesBy(def.ComesBy), Keys: w.ownKeys(),
				Mirrors: slices.Concat(w.siteMirrors(""), w.siteLists()), Proxy: w.sectionProxy()},
		)
		return d, true
	}
	u, ok := w.place(def, program, forbidden)
	d = family.Definition{
		Repository: name, Of: w.repo.Name, Title: w.repo.Title, Support: w.repo.Support, Enabled: w.enabled, URL: u,
		Signatures: w.repo.Signatures, Keys: w.signingKeys(), Level: w.policy.Levels[w.repo.Name], Hold: w.hold(),
	}
	if ok {
		d.Mirrors, d.Priority = w.mirrors(def.Mirrors), def.Priority
	}
	if program != "flatpak" { // whose remotes are lines of one file, which stays
		d.While = w.bound(d.URL, d.Mirrors)
	}
	d.URL, d.Mirrors, _ = w.sited(d.URL, d.Mirrors, program != "flatpak")
	d.Proxy = w.proxyTo(append([]string{d.URL}, d.Mirrors...))
	if ok && w.grant != nil {
		d.Account, d.Kind = w.grant.Account, kindOf(def)
	}
	if ok && def.Authority != nil {
		d.Authority = def.Authority.Value
	}
	return d, ok
}

// unchecked is off where the policy says that nobody checks a repository; empty elsewhere.
func (w *writing) unchecked() string {
	if w.repo.Signatures == source.CheckOff {
		return source.CheckOff
	}
	return ""
}

// rpm writes one file for dnf. It reports whether there was anything to write.
func (w *writing) rpm(name string, whole *policy.Definition) bool {
	d, ok := w.definition(name, whole.Rpm, "dnf", "$,")
	if d.URL == "" && d.Mirrors == nil {
		return ok
	}
	if d.Priority == nil {
		d.Priority = family.PriorityOf(d.Level)
	}
	if d.Account != "" {
		w.open(d.Kind, rpm.Access(d.Account, d.Kind))
	}
	files, src, keys := rpm.Render(d)
	w.take(files, src, keys)
	return true
}

// zypp writes one file for zypper. It reports whether there was anything to write.
func (w *writing) zypp(name string, whole *policy.Definition) bool {
	d, ok := w.definition(name, whole.Zypp, "zypper", "$,")
	if d.URL == "" && d.Mirrors == nil {
		return ok
	}
	if d.Priority == nil {
		d.Priority = family.PriorityOf(d.Level)
	}
	if d.Account != "" {
		w.open(d.Kind, zypp.Access(d.Account, d.Kind))
	}
	files, src, keys, err := zypp.Render(d)
	if err != nil {
		w.fail(
			"value",
			whole.Zypp.URL.Pos,
			fmt.Sprintf("%q cannot be a repository of zypper: %v", d.URL, err),
			"write a URL that zypper takes",
		)
		return true
	}
	w.take(files, src, keys)
	if d.Hold != nil && d.Enabled {
		for _, name := range d.Hold.Packages {
			w.locks = append(w.locks, source.SheetLock{Repository: w.repo.Name, Package: name, Criteria: "version: >= " + d.Hold.Series.Beyond()})
		}
	}
	return true
}

// arch writes one file for pacman. It reports whether there was anything to write.
func (w *writing) arch(name string, whole *policy.Definition) bool {
	d, ok := w.definition(name, whole.Arch, "pacman", "$")
	if d.URL == "" && d.Mirrors == nil {
		return ok
	}
	if d.Account != "" && whole.Arch.Access == nil {
		w.fail(
			"missing",
			whole.Arch.Pos,
			fmt.Sprintf(
				"the repository %q is licensed, and pacman can log in by a login in the URL only, which its output shows",
				w.repo.Name,
			),
			"say access: login-in-url to insist, or leave arch out",
		)
		return true
	}
	if d.Account != "" {
		w.open(d.Kind, arch.Access(name, d.Account, d.URL))
	}
	files, src, keys := arch.Render(d)
	w.take(files, src, keys)
	return true
}

// flatpak writes one remote, on hosts that have flatpak whatever else they have. It
// reports whether there was anything to write.
func (w *writing) flatpak(name string, whole *policy.Definition) bool {
	if w.host.Traits.Tools[flatpak.Family] == "" {
		return false
	}
	d, ok := w.definition(name, whole.Flat, "flatpak", "")
	if d.URL == "" {
		return ok
	}
	if d.Account != "" {
		w.fail(
			"missing",
			whole.Flat.Pos,
			fmt.Sprintf("the repository %q is licensed, and flatpak knows no login for a remote", w.repo.Name),
			"leave flatpak out of the licensed choice",
		)
		return true
	}
	if d.Priority == nil {
		d.Priority = flatpak.Priority(d.Level)
	}
	files, src, keys := flatpak.Render(d)
	w.take(files, src, keys)
	return true
}

// open notes that the repository needs access that stands in some files.
func (w *writing) open(kind string, files []source.AccessFile) {
	a := &source.SheetAccess{
		Account:      w.grant.Account,
		Contract:     w.grant.Contract,
		Kind:         kind,
		Repositories: []string{w.repo.Name},
		Files:        files,
	}
	switch {
	case w.access == nil:
		w.access = a
	case w.access.Kind != kind:
		w.fail(
			"value",
			w.repo.Pos,
			fmt.Sprintf("the files of %q are opened in different ways", w.repo.Name),
			"say the same access for all of them",
		)
	default:
		mergeFiles(w.access, files)
	}
}
