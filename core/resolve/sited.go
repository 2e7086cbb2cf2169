package resolve

import (
	"slices"

	"patientlantern.example/lantern/core/family"
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

// hold is what of the repository stays at a series of versions; nil for nothing.
func (w *writing) hold() *family.Hold {
	follow := w.plan.holds[w.repo.Name]
	if follow == nil {
		return nil
	}
	return &family.Hold{Packages: follow.Hold, Series: follow.Series}
}
