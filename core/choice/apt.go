package choice

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/version"
)

// defaultRelease is the setting that names the release which is preferred.
const defaultRelease = "APT::Default-Release"

// sourcesWith is the setting, or begins a list of settings, that names further files of packages.
const sourcesWith = "APT::Sources::With"

// namesFiles reports whether a setting has apt take packages of a file that is no source's.
func namesFiles(s *source.Setting) bool {
	return s.Family == deb.Family && strings.EqualFold(strings.TrimSuffix(s.Name, "::"), sourcesWith)
}

// never is the priority of what is never taken.
const never = math.MinInt16

// The priorities that apt gives by itself: apt_preferences(5).
const (
	ofRelease   = 990 // of APT::Default-Release
	ofInstalled = 100
	overrides   = 1000 // from here on a pin takes a version below the installed one
)

// weighed is one version, and how it is weighed.
type weighed struct {
	version  string
	priority int
	offers   []*Offered
	pin      *source.Pin
}

// apt weighs as pkgPolicy of apt does. Each version has the highest priority of its sources,
// or that of the first pin of its own; the highest priority wins, then the highest version.
func (h *Host) apt(c *Choice, name string) {
	if d := h.defaultRelease(); d != "" && !h.has("release "+d) {
		c.Why, c.Stays = fmt.Sprintf(
			"apt refuses to work: none of its sources is the release %q of APT::Default-Release",
			d,
		), c.Installed != ""
		return
	}
	files, override := h.files(c)
	var list []*weighed
	for i := range c.Offers {
		o := &c.Offers[i]
		if o.Out != "" {
			continue
		}
		p := files[o.Use]
		o.Priority = &p
		j := slices.IndexFunc(list, func(w *weighed) bool {
			return version.Deb(w.version, o.Version) == 0 && len(w.offers) > 0 && same(w.offers[0], o, h.since(sums))
		})
		if j < 0 {
			list = append(list, &weighed{version: o.Version, priority: math.MinInt})
			j = len(list) - 1
		}
		list[j].offers = append(list[j].offers, o)
		list[j].priority = max(list[j].priority, p)
	}
	for _, w := range list {
		if w.pin = h.own(name, w.version, w.offers); w.pin != nil {
			w.priority = w.pin.Priority
			for _, o := range w.offers {
				o.Priority = &w.pin.Priority
			}
		}
	}
	if c.Installed != "" {
		j := slices.IndexFunc(list, func(w *weighed) bool { return version.Deb(w.version, c.Installed) == 0 })
		if j < 0 {
			list = append(list, &weighed{version: c.Installed, priority: math.MinInt})
			j = len(list) - 1
		}
		if list[j].pin = h.own(name, c.Installed, list[j].offers, status); list[j].pin != nil {
			list[j].priority = list[j].pin.Priority
		}
		if list[j].pin == nil {
			list[j].priority = max(list[j].priority, override)
		}
	}
	slices.SortStableFunc(list, func(a, b *weighed) int { return version.Deb(b.version, a.version) })
	var best *weighed
	at := -1
	for _, w := range list {
		if w.priority == 0 || w.priority <= at ||
			c.Installed != "" && w.priority < overrides && version.Deb(w.version, c.Installed) < 0 {
			continue
		}
		best, at = w, w.priority
	}
	h.aptSettle(c, name, best, len(list) > 0)
	h.aptDoubts(c, best, list)
}

// aptDoubts says what of an answer is not known.
func (h *Host) aptDoubts(c *Choice, best *weighed, list []*weighed) {
	if best != nil && best.version == c.Installed && slices.ContainsFunc(list, func(w *weighed) bool {
		return w != best && version.Deb(w.version, best.version) == 0
	}) {
		c.Why += "; which build of this version is installed is not known"
	}
	for i := range h.Survey.Settings {
		if s := &h.Survey.Settings[i]; namesFiles(s) {
			c.Why += "; apt also takes packages of " + s.Value + ", into which nobody has looked"
		}
	}
}

// The versions of apt since which it goes another way: a package is another where its sum is another, and a
// source may say what is taken from it.
const (
	sums   = "2.7.3"
	limits = "3.1.0"
)

// aptOf is the version of a host's apt as far as it decides.
func aptOf(tools map[string]string) map[string]string {
	for _, since := range []string{limits, sums} {
		if version.Deb(tools[aptTool], since) >= 0 {
			return map[string]string{aptTool: since}
		}
	}
	return nil
}

const aptTool = "apt"

// since reports whether a host's apt is of that version, or newer.
func (h *Host) since(v string) bool { return version.Deb(h.Survey.Traits.Tools[aptTool], v) >= 0 }

// The options of a source of apt's by which it says what is taken from it.
const (
	include = "include"
	exclude = "exclude"
)

// limited says why a source of apt's gives no package of a name; empty where it does, or says nothing
// of it: Include and Exclude name packages, and an older apt passes over both.
func (h *Host) limited(use int, name string) string {
	u := h.Uses[use]
	if u.Family != deb.Family || u.At >= len(h.Survey.Sources) || !h.since(limits) {
		return ""
	}
	s := &h.Survey.Sources[u.At]
	named := func(option string) (given, is bool) {
		words := strings.FieldsFunc(s.Options[option], func(c rune) bool { return c == ',' || c == ' ' || c == '\n' || c == '\t' })
		return len(words) > 0, slices.Contains(words, name)
	}
	if given, is := named(include); given && !is {
		return "not among what is included from there"
	}
	if _, is := named(exclude); is {
		return "excluded by " + u.File
	}
	return ""
}

// aptSettle says what becomes of what is installed; some is whether there is any version.
func (h *Host) aptSettle(c *Choice, name string, best *weighed, some bool) {
	if best == nil && some {
		c.Why, c.Stays = "no version has a priority above 0", c.Installed != ""
		return
	}
	if best == nil || len(best.offers) == 0 {
		h.settle(c, name, nil, "")
		if best != nil {
			c.Why, c.Stays = "the installed version has the highest priority, "+strconv.Itoa(best.priority), true
			if len(c.Offers) == 0 {
				c.Why = "no source offers it, and the installed one gets no more updates"
			}
		}
		return
	}
	first := slices.MinFunc(best.offers, func(a, b *Offered) int { return h.Uses[a.Use].At - h.Uses[b.Use].At })
	why := "the highest version of priority " + strconv.Itoa(best.priority)
	if best.pin != nil {
		why += ", by the pin in " + best.pin.File
	}
	h.settle(c, name, first, why)
	if c.Installed != "" && version.Deb(best.version, c.Installed) == 0 {
		c.Stays, c.Why = true, "it is installed already, with priority "+strconv.Itoa(best.priority)
	}
}

// files are the priorities of a host's places, by the index of the use, and that of what is
// installed.
func (h *Host) files(c *Choice) (out map[int]int, installed int) {
	out = map[int]int{}
	installed = h.general(status, ofInstalled)
	for _, o := range c.Offers {
		if _, done := out[o.Use]; !done {
			r := h.release(o.Use)
			out[o.Use] = h.general(r, deb.Natural(r))
		}
	}
	return out, installed
}

// status is dpkg's status as apt sees it: a source of what is installed.
var status = source.Release{Archive: "now"}

// matches reports whether a pin is for a source. dpkg's status is of no site.
func matches(pin string, r source.Release) bool {
	return deb.PinMatches(pin, r) && (r.URL != "" || !strings.HasPrefix(pin, "origin"))
}

// general is the priority of a source: that of the first pin for everything that matches it,
// or its own.
func (h *Host) general(r source.Release, natural int) int {
	p, fixed := natural, false
	weigh := func(pin string, priority int) {
		if (!fixed || priority == never) && matches(pin, r) {
			p, fixed = priority, true
		}
	}
	if name := h.defaultRelease(); name != "" {
		weigh("release "+name, ofRelease)
	}
	for _, pin := range h.Survey.Pins {
		if pin.Valid && slices.Contains(pin.Packages, "*") {
			weigh(pin.Pin, pin.Priority)
		}
	}
	return p
}

// has reports whether a pin matches any of the places of apt's.
func (h *Host) has(pin string) bool {
	for i := range h.Uses {
		if h.Uses[i].Family == deb.Family && deb.PinMatches(pin, h.release(i)) {
			return true
		}
	}
	return false
}

func (h *Host) defaultRelease() string {
	for _, s := range h.Survey.Settings {
		if s.Family == deb.Family && s.Name == defaultRelease {
			return s.Value
		}
	}
	return ""
}

// release is what the Release file of a place says.
func (h *Host) release(use int) source.Release {
	u := h.Uses[use]
	r := source.Release{URL: u.Address(), Suite: u.Suite}
	if f := h.Releases[u.Key]; f != nil {
		r.Origin, r.Label, r.Archive, r.Codename = f.Origin, f.Label, f.Suite, f.Codename
		r.NotAutomatic, r.ButAutomaticUpgrades = f.NotAutomatic, f.ButAutomaticUpgrades
	}
	return r
}

// own is the first pin that is for this version of this package.
func (h *Host) own(name, v string, offers []*Offered, also ...source.Release) *source.Pin {
	for i := range h.Survey.Pins {
		pin := &h.Survey.Pins[i]
		if !pin.Valid || !slices.ContainsFunc(pin.Packages, func(p string) bool { return p != "*" && h.forPackage(p, name, offers) }) {
			continue
		}
		if want, is := strings.CutPrefix(pin.Pin, "version "); is {
			if deb.Matches(strings.TrimSpace(want), v) {
				return pin
			}
			continue
		}
		if slices.ContainsFunc(offers, func(o *Offered) bool { return deb.PinMatches(pin.Pin, h.release(o.Use)) }) ||
			slices.ContainsFunc(also, func(r source.Release) bool { return matches(pin.Pin, r) }) {
			return pin
		}
	}
	return nil
}

// forPackage reports whether a name in a pin is for a package of the host's architecture.
func (h *Host) forPackage(pattern, name string, offers []*Offered) bool {
	if src, is := strings.CutPrefix(pattern, "src:"); is {
		if len(offers) > 0 && offers[0].Source != "" {
			name = offers[0].Source
		}
		pattern = src
	}
	if i := strings.LastIndexByte(pattern, ':'); i > 0 && !strings.HasPrefix(pattern, "/") {
		native := ""
		if a := h.Survey.Traits.Architectures; len(a) > 0 {
			native = a[0]
		}
		if a := pattern[i+1:]; a != "any" && a != "native" && a != native {
			return false
		}
		pattern = pattern[:i]
	}
	if pattern == name {
		return true
	}
	if !strings.HasPrefix(pattern, "/") && !strings.ContainsAny(pattern, "*[?") {
		return false
	}
	return deb.Matches(pattern, name)
}
