package family

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/source"
)

// Deciding is a place beside a package manager's own configuration where other programs are
// told what decides as well where packages come from, what is believed and what runs.
type Deciding struct {
	Path    string                                     // a file, or a folder where Names is given
	Names   func(name string) bool                     // which files of the folder count
	Touches []string                                   // of source
	Comment string                                     // what begins a line that says nothing
	Line    func(line string) bool                     // whether a line decides anything; nil where each does
	All     func(text []byte, lines []string) []string // what the whole comes to; nil where it is its lines
	Stays   bool                                       // putting the file back is not enough: another program has to be told
	Loose   bool                                       // below /usr: counts where no package owns the file
	Since   int                                        // the reach of the first reader that looked there
	Later   *Later                                     // what later readers look for there as well
}

// Later is what is looked for in a file since a later reader, beside what was looked for there before.
type Later struct {
	Since int
	Says  func(text []byte, lines []string) []string // what the whole comes to
}

// CurlOption is the option that a line of a .curlrc gives, as it is written there, and whether a value follows.
func CurlOption(line string) (option string, valued bool) {
	if end := strings.IndexAny(line, " =:"); end >= 0 {
		return line[:end], true
	}
	return line, false
}

// Suffix is a rule for names: those that end so.
func Suffix(suffixes ...string) func(string) bool {
	return func(name string) bool {
		return slices.ContainsFunc(suffixes, func(s string) bool { return strings.HasSuffix(name, s) })
	}
}

// Prefix is a rule for lines or names: those that begin so.
func Prefix(prefixes ...string) func(string) bool {
	return func(name string) bool {
		return slices.ContainsFunc(prefixes, func(p string) bool { return strings.HasPrefix(name, p) })
	}
}

// GPGConf is what gpg is told for the whole system; it is read whatever home gpg is given, and even where gpg is told to
// read no options.
const GPGConf = "/etc/gnupg/gpg.conf"

// gpgQuiet are options of gpg that decide nothing about what is believed.
var gpgQuiet = Prefix(
	"no-greeting", "no-permission-warning", "lock-never", "keyserver", "no-auto-check-trustdb", "use-agent", "charset", "utf8-strings",
	"display-charset", "no-comments", "no-emit-version", "no-autostart", "batch", "quiet", "verbose", "no-tty",
)

// GPGDecides reports whether a line of gpg's configuration decides anything.
func GPGDecides(line string) bool { return !gpgQuiet(strings.TrimLeft(line, "-")) }

// What is told of such files in their own lines: so many of one file, so much of one line, and
// so many bytes of all files of a family. The rest is told by a digest, but for lines that take a
// check away.
const (
	mostDeciding = 200
	mostWeak     = 20
	longDeciding = 1_000
	allDeciding  = 256 << 10
)

// Decides notes what stands at places beside a package manager's own configuration.
func (r *Reading) Decides(root *rootfs.FS, places []Deciding) {
	for i := range places {
		p := &places[i]
		if p.Names == nil {
			r.decides(root, p, p.Path)
			continue
		}
		entries, err := root.ReadDir(p.Path)
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			r.Problem(p.Path, 0, "cannot be listed: "+Plain(err), false)
		}
		for _, e := range entries {
			if !e.IsDir() && p.Names(e.Name()) {
				r.decides(root, p, path.Join(p.Path, e.Name()))
			}
		}
	}
}

func (r *Reading) decides(root *rootfs.FS, p *Deciding, name string) {
	text, info, err := root.ReadTextInfo(name)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return
	case err != nil:
		r.Problem(name, 0, "cannot be read: "+Plain(err), false)
		return
	case !info.Mode().IsRegular():
		return
	}
	kept := !p.Stays && path.Base(name)[0] != '.' && bytes.IndexByte(text, 0) < 0 && !bytes.Contains(text, private)
	if !kept && !p.Stays { // what is not kept is not put back
		stays := *p
		stays.Stays, p = true, &stays
	}
	r.told(p, name, text)
	if p.Later != nil { // told by itself: a base that was read before has nothing of it
		later := *p
		later.Line, later.All, later.Since = nil, p.Later.Says, p.Later.Since
		r.told(&later, name, text)
	}
	if kept {
		r.Keep(info, name, text)
	}
}

// told notes what a file says: all of it, or where that is more than anybody reads, the lines
// that take a check away and a digest of the others.
func (r *Reading) told(p *Deciding, name string, text []byte) {
	d := source.Deciding{Family: r.Family, File: name, Lines: p.says(text), Touches: p.Touches, Since: p.Since, Stays: p.Stays}
	if len(d.Lines) == 0 || r.Crowded(len(r.Deciding), "files that decide beside the configuration", name, 0) {
		return
	}
	for _, l := range d.Lines {
		r.decided += len(l)
	}
	if r.decided > allDeciding {
		r.once(name, 0, "files beside the configuration say more than is told of a root: of those from here on a digest is")
	}
	if len(d.Lines) > mostDeciding || r.decided > allDeciding {
		rest := source.Digest([]byte(strings.Join(d.Lines, "\n")))
		weak := d.Weakening()
		d.Lines = append(weak[:min(len(weak), mostWeak)], fmt.Sprintf("%d lines in all, SHA-256 %s", len(d.Lines), rest))
	}
	r.Deciding = append(r.Deciding, d)
	if p.Loose {
		r.Loose = append(r.Loose, name)
	}
}

// shortly cuts a line that nobody would read to its end.
func shortly(l string) string {
	if len(l) <= longDeciding {
		return l
	}
	return strings.ToValidUTF8(l[:longDeciding], "") + "… SHA-256 " + source.Digest([]byte(l))
}

// private stands in every private key.
var private = []byte("PRIVATE KEY")

// says lists the lines that decide something, blanks folded and secrets masked.
func (p *Deciding) says(text []byte) (out []string) {
	if bytes.IndexByte(text, 0) >= 0 || p.Line == nil && p.All == nil && bytes.Contains(text, private) {
		return []string{"SHA-256 " + source.Digest(text)}
	}
	for l := range strings.Lines(string(MaskText(text))) {
		l = strings.Join(strings.Fields(strings.ToValidUTF8(l, "\ufffd")), " ")
		if l == "" || p.Comment != "" && strings.IndexByte(p.Comment, l[0]) >= 0 || p.Line != nil && !p.Line(l) {
			continue
		}
		out = append(out, shortly(Plainly(l)))
	}
	if p.All != nil {
		out = p.All(text, out)
	}
	return out
}
