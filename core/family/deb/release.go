package deb

import (
	"net/url"
	"path"
	"regexp"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/text/pattern"
)

// ListsDir is where apt keeps what it has fetched.
const ListsDir = "/var/lib/apt/lists"

// Natural is the priority that apt gives a suite of itself. apt_preferences(5),
// APT's Default Priority Assignments.
func Natural(r source.Release) int {
	switch {
	case r.NotAutomatic && r.ButAutomaticUpgrades:
		return 100
	case r.NotAutomatic:
		return 1
	}
	return 500
}

// ParseRelease reads the head of a Release or InRelease file.
func ParseRelease(text []byte) (r source.Release) {
	for line := range strings.Lines(string(text)) {
		line = strings.TrimRight(line, "\r\n")
		key, value, ok := strings.Cut(line, ":")
		value = strings.TrimSpace(value)
		if !ok || strings.HasPrefix(line, " ") {
			continue
		}
		switch strings.ToLower(key) {
		case "origin":
			r.Origin = value
		case "label":
			r.Label = value
		case "suite":
			r.Archive = value
		case "codename":
			r.Codename = value
		case "notautomatic":
			r.NotAutomatic = strings.EqualFold(value, "yes")
		case "butautomaticupgrades":
			r.ButAutomaticUpgrades = strings.EqualFold(value, "yes")
		case "md5sum", "sha1", "sha256", "sha512":
			return r // the sums take up the rest
		}
	}
	return r
}

// quoted are the characters that apt does not put into the name of a list as they are.
const quoted = "\\|{}[]<>\"^~_=!@#$%^&*"

// ListName is the name under which apt keeps what it fetched from a URL.
func ListName(u string) string {
	if _, rest, ok := strings.Cut(u, ":"); ok {
		u = rest
	}
	if rest, ok := strings.CutPrefix(u, "//"); ok {
		u = rest
		host, tail, _ := strings.Cut(u, "/")
		if at := strings.LastIndexByte(host, '@'); at >= 0 {
			u = host[at+1:] + "/" + tail
		}
	}
	var b strings.Builder
	for i := range len(u) {
		const hex = "0123456789abcdef"
		switch c := u[i]; {
		case c == '/':
			b.WriteByte('_')
		case c <= ' ' || c >= 0x7f || strings.IndexByte(quoted, c) >= 0:
			b.WriteString("%" + string(hex[c>>4]) + string(hex[c&15]))
		default:
			b.WriteByte(c)
		}
	}
	return b.String()
}

// ReleaseURL is where the Release file of a suite stands, without its own name.
func ReleaseURL(u, suite string) string {
	switch {
	case suite == "/":
		return u
	case strings.HasSuffix(suite, "/"):
		return u + strings.TrimPrefix(suite, "/")
	}
	return u + "dists/" + suite + "/"
}

// mostReleases bounds how many releases of a host are looked for.
const mostReleases = 2_000

// ReadReleases reads what the Release files say that apt has fetched for a host's own
// sources. Those that were never fetched are left out; beyond is how many there are over the
// bound, which are not looked for.
func ReadReleases(root *rootfs.FS, sources []source.Source) (out []source.Release, beyond int) {
	seen := map[string]bool{}
	for i := range sources {
		s := &sources[i]
		if s.Family != Family || !s.Enabled {
			continue
		}
		for _, u := range s.EffURLs {
			for _, suite := range s.EffSuites {
				key := ReleaseKey(u, suite)
				if seen[key] {
					continue
				}
				seen[key] = true
				if len(seen) > mostReleases {
					continue
				}
				if r, ok := readRelease(root, u, suite); ok {
					out = append(out, r)
				}
			}
		}
	}
	return out, max(0, len(seen)-mostReleases)
}

func readRelease(root *rootfs.FS, u, suite string) (source.Release, bool) {
	at := path.Join(ListsDir, ListName(ReleaseURL(u, suite)))
	for _, name := range []string{"InRelease", "Release"} {
		text, err := root.ReadText(at + name)
		if strings.HasSuffix(ReleaseURL(u, suite), "/") {
			text, err = root.ReadText(ListsDir + "/" + ListName(ReleaseURL(u, suite)+name))
		}
		if err == nil {
			r := ParseRelease(text)
			r.URL, r.Suite = u, suite
			return r, true
		}
	}
	return source.Release{}, false
}

// ReleasePin is the pin that matches just what these fields say: each of them, to the
// letter. It is empty where they say nothing that a pin can say.
func ReleasePin(r source.Release) string {
	var parts []string
	for _, f := range [][2]string{{"o", r.Origin}, {"l", r.Label}, {"a", r.Archive}, {"n", r.Codename}} {
		if value, ok := literal(f[1]); ok {
			parts = append(parts, f[0]+"="+value)
		}
	}
	if len(parts) == 0 {
		return ""
	}
	return "release " + strings.Join(parts, ",")
}

// literal writes a value so that apt's pattern for it matches nothing else. A comma
// cannot be said.
func literal(value string) (string, bool) {
	if value == "" || strings.ContainsAny(value, ",\n\r") || strings.TrimSpace(value) != value {
		return "", false
	}
	var b strings.Builder
	for i, c := range value {
		if strings.ContainsRune(`*?[]\`, c) || c == '/' && i == 0 {
			b.WriteByte('\\')
		}
		b.WriteRune(c)
	}
	return b.String(), true
}

// PinMatches reports whether apt would let a pin of preferences(5) match a suite.
// Versions are not of this kind.
func PinMatches(pin string, r source.Release) bool {
	kind, spec, _ := strings.Cut(pin, " ")
	spec = strings.TrimSpace(spec)
	switch kind {
	case "origin":
		return Matches(strings.Trim(spec, `"`), site(r.URL))
	case "release":
	default:
		return false
	}
	any := false
	match := func(pattern, value string) bool {
		any = true
		return value != "" && Matches(pattern, value)
	}
	if !strings.Contains(spec, "=") {
		return spec != "" && (match(spec, r.Archive) || match(spec, r.Codename))
	}
	for part := range strings.SplitSeq(spec, ",") {
		part = strings.TrimSpace(part)
		if len(part) < 3 {
			continue
		}
		ok := true
		switch strings.ToLower(part[:2]) {
		case "o=":
			ok = match(part[2:], r.Origin)
		case "l=":
			ok = match(part[2:], r.Label)
		case "a=":
			ok = match(part[2:], r.Archive)
		case "n=":
			ok = match(part[2:], r.Codename)
		case "v=", "c=", "b=":
			any = true // narrower still; whether it matches is not told by the Release file
		}
		if !ok {
			return false
		}
	}
	return any
}

func site(u string) string {
	if p, err := url.Parse(u); err == nil {
		return p.Hostname()
	}
	return ""
}

// Matches is apt's: a regular expression between slashes, else a pattern of fnmatch(3), small
// and capital letters alike.
func Matches(expression, value string) bool {
	if len(expression) > 1 && expression[0] == '/' && expression[len(expression)-1] == '/' {
		re, err := regexp.CompilePOSIX("(?i)" + expression[1:len(expression)-1])
		if err != nil {
			re, err = regexp.Compile("(?i)" + expression[1:len(expression)-1])
		}
		return err == nil && re.MatchString(value)
	}
	return pattern.FnmatchFold(expression, value)
}

// OwnRelease reports whether a suite is one of a source.
func OwnRelease(r source.Release, urls, suites []string) bool {
	return slices.Contains(suites, r.Suite) &&
		slices.ContainsFunc(urls, func(u string) bool { return ReleaseKey(u, r.Suite) == ReleaseKey(r.URL, r.Suite) })
}

// PinTrouble is what is wrong with the pins of a source on a host: which others they
// match, or that they do not match their own.
type PinTrouble struct {
	Repository string
	Pin        string
	Other      *source.Release // matched and not its own; nil: its own is not matched
	Own        source.Release
	Lifts      bool // the source is to stand below others, and the pin lifts it
}

// JudgePins holds the pins of a sheet against the Release files that apt has on a host.
func JudgePins(sources []source.SheetSource, releases []source.Release) (out []PinTrouble) {
	for i := range sources {
		s := &sources[i]
		if len(s.Pins) == 0 || !s.Enabled {
			continue
		}
		for _, r := range releases {
			matched := slices.ContainsFunc(s.Pins, func(p string) bool { return PinMatches(p, r) })
			own := OwnRelease(r, s.URLs, s.Suites) || sameRepository(sources, s.Repository, r)
			t := PinTrouble{Repository: s.Repository, Pin: s.Pins[0]}
			switch {
			case matched && !own:
				other := r
				t.Other = &other
			case !matched && OwnRelease(r, s.URLs, s.Suites):
				t.Own = r
			case matched && own && s.Level < 0 && s.Priority != nil && *s.Priority > Natural(r):
				t.Own, t.Lifts = r, true
			default:
				continue
			}
			out = append(out, t)
		}
	}
	return out
}

// StillFetched are the releases that apt goes on fetching under a sheet: a source of the one
// before, which the sheet writes anew, takes those with it that it alone named.
func StillFetched(releases []source.Release, before, sheet []source.SheetSource) (out []source.Release) {
	for _, r := range releases {
		goes := slices.ContainsFunc(before, func(was source.SheetSource) bool {
			return OwnRelease(r, was.URLs, was.Suites) &&
				slices.ContainsFunc(sheet, func(s source.SheetSource) bool { return s.File == was.File })
		})
		stays := slices.ContainsFunc(sheet, func(s source.SheetSource) bool { return OwnRelease(r, s.URLs, s.Suites) })
		if !goes || stays {
			out = append(out, r)
		}
	}
	return out
}

// sameRepository reports whether a suite is another file's of the same repository.
func sameRepository(sources []source.SheetSource, repository string, r source.Release) bool {
	return slices.ContainsFunc(sources, func(s source.SheetSource) bool {
		return s.Repository == repository && OwnRelease(r, s.URLs, s.Suites)
	})
}

// String says it in words.
func (t PinTrouble) String() string {
	switch {
	case t.Other != nil:
		return "the pin of " + t.Repository + " (" + t.Pin + ") also matches " + strings.TrimSpace(
			t.Other.URL+" "+t.Other.Suite,
		) + ", which is not it"
	case t.Lifts:
		return "the pin of " + t.Repository + " would lift it above what its Release file asks for (NotAutomatic), though it is to stand " +
			"below others"
	}
	return "the pin of " + t.Repository + " (" + t.Pin + ") does not match it: its Release file says " + ReleasePin(t.Own)
}
