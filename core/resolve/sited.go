package resolve

import (
	"fmt"
	"net/url"
	"slices"

	"patientlantern.example/lantern/core/diag"
	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/family/arch"
	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/family/flatpak"
	"patientlantern.example/lantern/core/source"
)

// sited puts a site's mirrors in the place of what they mirror. ordered is true where what
// was there before comes behind them. A login goes to nobody but who gave it: what is
// licensed comes from its vendor.
func (w *writing) sited(url string, mirrors []string, several bool) (to string, list []string, ordered bool) {
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
			if w.plan.site.FallBack && several {
				far = append(far, u)
			}
		}
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
// are on.
func (w *writing) siteMirrors() []source.Mirror {
	if w.plan.site == nil || !w.enabled {
		return nil
	}
	return w.plan.site.Pairs()
}

// siteLists are what stands at the host's site in the place of the lists by which sections of the distribution's own go.
func (w *writing) siteLists() []source.Mirror {
	if w.plan.site == nil || !w.enabled || w.host.Traits.Family == arch.Family {
		return nil
	}
	return w.plan.site.ListPairs()
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
		if u, err := url.Parse(m.At.Value); err == nil {
			direct = append(direct, u.Hostname())
		}
	}
	slices.Sort(direct)
	f := deb.ProxyFile(site.Proxy.Value, slices.Compact(direct))
	if !slices.ContainsFunc(w.files, func(x source.SheetFile) bool { return x.Path == f.Path }) {
		w.files = append(w.files, f)
	}
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
