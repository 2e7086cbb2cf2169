package resolve

import (
	"fmt"
	"net/url"
	"slices"
	"strings"

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

// sited puts a site's mirrors in the place of what they mirror. ordered is true where what
// was there before comes behind them. A login goes to nobody but who gave it: what is
// licensed comes from its vendor.
func (w *writing) sited(url string, mirrors []string, several bool) (to string, list []string, ordered bool) {
	w.far = nil
	all := mirrors
	if all == nil && url != "" {
		all = []string{url}
	}
	if w.plan.site == nil || w.grant != nil {
		return url, mirrors, false
	}
	var near, far []string
	for _, u := range all {
		switch m, by := w.plan.site.Mirror(u); {
		case by == nil:
			far = append(far, u)
		default:
			if !slices.Contains(near, m) {
				near = append(near, m)
			}
			if w.host.Traits.Family == deb.Family && several { // as a survey has it
				w.far = append(w.far, deb.EffectiveURL(u, ""))
			} else {
				w.far = append(w.far, u)
			}
			if w.plan.site.FallBack && several {
				far = append(far, u)
			}
		}
	}
	if len(near) > 0 {
		w.taken(w.plan.site.Mirrors)
	}
	switch {
	case len(near) == 0:
		return url, mirrors, false
	case len(near) == 1 && (len(far) == 0 || !several):
		return near[0], nil, false
	}
	return "", append(near, far...), true
}

// siteMirrors are the mirrors of the host's site, for the distribution's own entries where they
// are on. Where upstream is tried behind them it stands behind them in sections. To apt two URLs
// are two sources: there the one that the policy names has a list of both.
func (w *writing) siteMirrors(url string) []source.Mirror {
	site := w.plan.site
	if site == nil || !w.enabled {
		return nil
	}
	w.taken(site.Mirrors)
	out := site.Pairs()
	if !site.FallBack {
		return out
	}
	if w.host.Traits.Family != deb.Family {
		for i := range out {
			out[i].Before = true
		}
		return out
	}
	of := strings.TrimSuffix(url, "/") + "/"
	if at, by := site.Mirror(of); by != nil {
		list := deb.MirrorList(w.repo.Name, at, of)
		w.files = append(w.files, list)
		out = slices.Insert(out, 0, source.Mirror{Of: of, At: source.MirrorListAt(list.Path), Whole: true})
	}
	return out
}

// siteLists are what stands at the host's site in the place of the lists by which sections of the distribution's own go.
func (w *writing) siteLists() []source.Mirror {
	if w.plan.site == nil || !w.enabled || w.host.Traits.Family == arch.Family {
		return nil
	}
	w.taken(w.plan.site.Lists)
	return w.plan.site.ListPairs()
}

// taken refuses mirrors that dnf or zypper would not take: their beginning is written into the distribution's own sections.
func (w *writing) taken(mirrors []policy.SiteMirror) {
	f := w.host.Traits.Family
	if f != rpm.Family && f != zypp.Family {
		return
	}
	for _, m := range mirrors {
		told := family.MaskURL(m.At.Value)
		if strings.Contains(m.At.Value, ",") {
			w.fail("value", m.At.Pos, fmt.Sprintf("%q holds a comma, which parts two URLs on hosts of %s", told, f), "write it as %2C")
		} else if err := zypp.Takes(m.At.Value); err != nil && f == zypp.Family {
			w.fail("value", m.At.Pos, fmt.Sprintf("zypper would not take %q: %v", told, err), "write a URL that zypper takes")
		}
	}
}

// sectionProxy is what the distribution's own sections go through; pacman's know none.
func (w *writing) sectionProxy() string {
	site := w.plan.site
	if site == nil || site.Proxy == nil || !w.enabled || w.host.Traits.Family == arch.Family {
		return ""
	}
	return site.Proxy.Value
}

// hold is what of the repository stays at a series of versions; nil for nothing.
func (w *writing) hold() *family.Hold {
	follow := w.plan.holds[w.repo.Name]
	if follow == nil {
		return nil
	}
	return &family.Hold{Packages: follow.Hold, Series: follow.Series}
}

// proxyTo is what a repository is fetched through; empty where all of it stands at the site, or is
// no place of the network.
func (w *writing) proxyTo(urls []string) string {
	site := w.plan.site
	if site == nil || site.Proxy == nil || !source.Outside(site.Pairs(), urls) {
		return ""
	}
	return site.Proxy.Value
}

// aptProxy tells apt of the site's proxy. It goes for every source of the host, the distribution's
// own too, but for the site's mirrors.
func (w *writing) aptProxy() {
	site := w.plan.site
	if site == nil || site.Proxy == nil {
		return
	}
	var direct []string
	for _, m := range site.Mirrors {
		if u, err := url.Parse(m.At.Value); err == nil && u.Hostname() != "" {
			direct = append(direct, u.Hostname())
		}
	}
	slices.Sort(direct)
	w.files = withFile(w.files, deb.ProxyFile(site.Proxy.Value, slices.Compact(direct)))
}

// mirrorsAlone says where upstream does not stand behind a site's mirror, though the site says that it is tried.
func (f *Fleet) mirrorsAlone(res *Result) (out []diag.Diagnostic) {
	site := res.plan.site
	if site == nil || !site.FallBack {
		return nil
	}
	say := func(what, remedy string) {
		out = append(out, warning("mirror-alone", site.Pos,
			fmt.Sprintf("%s, so on %s the mirrors of the site %s stand alone there", what, res.Example, site.Name), remedy))
	}
	named, listed := false, false
	for i := range res.Sheet.InPlace {
		rule := &res.Sheet.InPlace[i]
		listed = listed || slices.ContainsFunc(rule.Mirrors, func(m source.Mirror) bool { return m.List != "" })
		if res.Sheet.Family == deb.Family && rule.Enabled && len(rule.URLs) == 0 && !named {
			named = true
			say(fmt.Sprintf("apt needs a list of its mirror and upstream for each URL, and the repository %s names none", rule.Repository),
				"say the url of the distribution's own entries under deb:, one repository for each URL")
		}
	}
	if listed {
		say("a section that goes by a metalink or a list of mirrors comes from the one mirror that takes its place",
			"give the site a mirror that always answers, or take its metalinks and mirrorlists out")
	}
	if slices.ContainsFunc(res.Sheet.Sources, func(s source.SheetSource) bool {
		return s.Family == flatpak.Family && s.Enabled && source.AtMirror(site.Pairs(), strings.Join(s.URLs, ""))
	}) {
		say("flatpak knows one URL", "give the site a mirror of it that always answers, or take that out of its mirrors")
	}
	return out
}

// notProxied says where a package manager cannot be told of the site's proxy by the policy.
func (f *Fleet) notProxied(res *Result) (out []diag.Diagnostic) {
	site := res.plan.site
	if site == nil || site.Proxy == nil {
		return nil
	}
	say := func(what, remedy string) {
		out = append(out, warning("not-proxied", site.Proxy.Pos,
			fmt.Sprintf("%s, so on %s the proxy of the site %s is not set there", what, res.Example, site.Name), remedy))
	}
	if res.Sheet.Family == arch.Family {
		say("pacman has no setting for a proxy", "set http_proxy and https_proxy in the environment that pacman runs in")
	}
	if slices.ContainsFunc(res.Sheet.Sources, func(s source.SheetSource) bool { return s.Family == flatpak.Family && s.Enabled }) {
		say("flatpak goes by its environment alone", "set http_proxy and https_proxy in the environment that flatpak runs in")
	}
	return out
}
