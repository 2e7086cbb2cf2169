// Package survey reads off a root folder what is configured on that host.
package survey

import (
	"fmt"
	"io/fs"
	"maps"
	"slices"
	"sort"
	"strconv"
	"time"

	"patientlantern.example/lantern/core/families"
	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/keyring"
	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/source"
)

// Machine is what the caller knows of the running machine. It counts only for
// what the root itself does not tell.
type Machine struct {
	Arch    string                           // the kernel's word, for the root / only
	CPUInfo []byte                           // the text of /proc/cpuinfo
	Free    func(path string) (int64, error) // free bytes at a path inside the root
	Now     time.Time                        // what counts for keys and signatures that end
}

// Result is a survey with the texts that it was read from.
type Result struct {
	Survey source.Survey
	Texts  map[string][]byte // source file → its bytes, passwords and all; never sent
	Modes  map[string]fs.FileMode

	root  *rootfs.FS
	top   fs.FileInfo       // of the root; nil where it is not known
	links map[string]string // where files of Texts lead that were asked for
	lists map[string]bool   // files of Texts that are lists of mirrors
	// called are those that only a source calls so: any file on the host may be.
	called map[string]bool
	// secret is what digests of their other lines are made with; nil until it is asked for.
	secret []byte
	runs   map[string]bool   // those that say which programs run
	of     map[string]string // the packages that they belong to
}

// WatchDirs are the folders whose changes can change what Read returns.
var WatchDirs = slices.Concat(families.Watched(), anchors, aroundDirs)

// Read reads a root: every family of which something stands there.
func Read(root *rootfs.FS, m Machine) Result {
	root = root.AsOf(m.Now)
	r := &reader{root: root}
	r.Result.root, r.links = root, map[string]string{}
	r.top, _ = root.Stat("/")
	r.databases()
	defer r.close()
	s := &r.Survey
	r.Texts, r.Modes = map[string][]byte{}, map[string]fs.FileMode{}
	traits(r, m, &s.Traits)
	host := family.Host{
		Arch: s.Traits.Arch, Architectures: s.Traits.Architectures, Release: r.release(), OSRelease: s.Traits.OS.Version,
		Level: s.Traits.CPU.Level,
	}
	if _, err := root.Stat("/usr/bin/dnf5"); err == nil {
		host.DNF5 = r.version("dnf5")
	}
	var read []string
	for reading := range families.Readings(root, host) {
		r.add(reading)
		read = append(read, reading.Family)
		if reading.Database != "" {
			r.openPacman(reading.Database)
			r.pacmanKeys(reading.Keyring)
		}
	}
	s.Reach = source.Reach
	r.beneath(read)
	r.around()
	r.rpmKeys()
	r.namedKeys()
	r.mirrors()
	r.vouching()
	r.writers()
	r.beyond()
	r.hide()
	r.tools(s.Traits.Tools)
	r.owners()
	s.Sources, s.Keys, s.Access, s.Problems = filled(s.Sources), filled(s.Keys), filled(s.Access), filled(s.Problems)
	s.Settings, s.Pins, s.Holds, s.Services = filled(s.Settings), filled(s.Pins), filled(s.Holds), filled(s.Services)
	s.Deciding = filled(s.Deciding)
	s.Traits.Architectures = source.Strings(s.Traits.Architectures)
	return r.Result
}

// mostProblems bounds how many problems of one family are told one by one.
const mostProblems = 500

// beyond says what was not looked at, and tells problems that nobody would read to the end
// by their number. What stops a package manager goes before what it passes over.
func (r *reader) beyond() {
	s := &r.Survey
	for _, cut := range r.root.Beyond() {
		r.notRead(cut)
	}
	r.behind()
	if left := r.root.Work("keys", keyring.MostWork); left != nil && *left < 0 {
		r.unread("", "", "more keys stand on this root than are checked: of some it is not known whether they are believed")
	}
	weight := func(p source.Problem) int {
		switch {
		case p.Fatal:
			return 0
		case p.Unread:
			return 1
		}
		return 2
	}
	sort.SliceStable(s.Problems, func(i, j int) bool { return weight(s.Problems[i]) < weight(s.Problems[j]) })
	told, said := map[string]int{}, map[source.Problem]bool{}
	s.Problems = slices.DeleteFunc(s.Problems, func(p source.Problem) bool {
		if said[p] { // of a file that is looked into for several things
			return true
		}
		said[p] = true
		told[p.Family]++
		return told[p.Family] > mostProblems
	})
	for _, name := range slices.Sorted(maps.Keys(told)) {
		if n := told[name] - mostProblems; n > 0 {
			r.unread(name, "", fmt.Sprintf("%d more problems are not told one by one", n))
		}
	}
}

// hide takes out of what is told whatever says a secret where no reader expects one.
func (r *reader) hide() {
	s := &r.Survey
	for i := range s.Problems {
		s.Problems[i].Message = family.Plainly(s.Problems[i].Message)
	}
	for i := range s.Pins {
		p := &s.Pins[i]
		p.Pin = family.Plainly(p.Pin)
		for j := range p.Packages {
			p.Packages[j] = family.Plainly(p.Packages[j])
		}
	}
	for i := range s.Access {
		a := &s.Access[i]
		a.For, a.Identity = family.Plainly(a.For), family.Plainly(a.Identity)
	}
	for i := range s.Services {
		v := &s.Services[i]
		v.ID, v.URL = family.Plainly(v.ID), family.Plainly(v.URL)
	}
}

// filled is a list that is [] in JSON where it is empty.
func filled[T any](list []T) []T {
	if list == nil {
		return []T{}
	}
	return list
}

// reader is a survey that is being made.
type reader struct {
	Result
	root  *rootfs.FS
	loose []string // files below /usr that count where no package owns them
	vouch []string // files and folders that are named to vouch for servers
	packages
}

func (r *reader) add(f family.Reading) {
	s := &r.Survey
	s.Sources = append(s.Sources, f.Sources...)
	s.Keys = append(s.Keys, f.Keys...)
	s.Access = append(s.Access, f.Access...)
	s.Settings = append(s.Settings, f.Settings...)
	s.Pins = append(s.Pins, f.Pins...)
	s.Holds = append(s.Holds, f.Holds...)
	s.Services = append(s.Services, f.Services...)
	s.Deciding = append(s.Deciding, f.Deciding...)
	s.Problems = append(s.Problems, f.Problems...)
	r.loose = append(r.loose, f.Loose...)
	r.vouch = append(r.vouch, f.Vouch...)
	for _, name := range f.Programs {
		if r.runs == nil {
			r.runs = map[string]bool{}
		}
		r.runs[name] = true
	}
	maps.Copy(r.Texts, f.Texts)
	maps.Copy(r.Modes, f.Modes)
	if len(f.Architectures) > 0 && (f.Family == s.Traits.Family || len(s.Traits.Architectures) == 0) {
		s.Traits.Architectures = f.Architectures
	}
}

func (r *reader) problem(family, file, message string) {
	r.Survey.Problems = append(r.Survey.Problems, source.Problem{Family: family, File: file, Message: message})
}

// unread notes what was not read, or not to its end.
func (r *reader) unread(family, file, message string) {
	r.Survey.Problems = append(r.Survey.Problems, source.Problem{Family: family, File: file, Message: message, Unread: true})
}

// notRead notes what was not read, of which a reader may have said so already. What is more than we read stops nobody
// else.
func (r *reader) notRead(cut rootfs.Cut) {
	said := false
	for i := range r.Survey.Problems {
		if p := &r.Survey.Problems[i]; p.File == cut.Place && p.File != "" && p.Line == 0 {
			p.Fatal = p.Fatal && !cut.More
			p.Unread, said = p.Unread || !p.Fatal, true
		}
	}
	if !said {
		r.unread("", cut.Place, cut.Message)
	}
}

// Masked returns the texts with passwords masked, and fills Survey.Files with
// their digests.
func (r *Result) Masked() map[string][]byte {
	out := make(map[string][]byte, len(r.Texts))
	r.Survey.Files = make([]source.File, 0, len(r.Texts)) // none is something else than not known
	for _, name := range slices.Sorted(maps.Keys(r.Texts)) {
		masked := family.MaskText(r.Texts[name])
		if r.called[name] {
			masked = onlyMirrors(masked, name, r.secret)
		}
		out[name] = masked
		f := source.File{Path: name, Digest: source.Digest(masked), Mode: fmt.Sprintf("%04o", r.Modes[name])}
		r.stands(&f)
		f.Program, f.Package = r.runs[name], r.of[name]
		if r.lists[name] {
			f.Mirrors = source.Listed(masked)
		}
		r.Survey.Files = append(r.Survey.Files, f)
	}
	return out
}

// link is where a file leads; empty where it is no link.
func (r *Result) link(name string) string {
	target, asked := r.links[name]
	if !asked {
		target = r.root.Link(name)
		r.links[name] = target
	}
	return target
}

// stands says whose a file is and whether it is one, or a link.
func (r *Result) stands(f *source.File) {
	if r.root == nil {
		return
	}
	f.Link = r.link(f.Path)
	info, err := r.root.Stat(f.Path)
	if err != nil || r.top == nil {
		return
	}
	uid, _, ok := rootfs.Owner(info)
	if root, _, known := rootfs.Owner(r.top); ok && known && uid != root {
		f.Owner = strconv.FormatUint(uint64(uid), 10)
	}
}
