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

// mostDeciding bounds the lines of one file that are told one by one; the rest are told by a
// digest.
const mostDeciding = 200

const decidingFiles = "files that decide beside the configuration"

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
			if p.Names(e.Name()) {
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
	says := p.says(text)
	if len(says) > 0 && !r.Crowded(len(r.Deciding), decidingFiles, name, 0) {
		r.Deciding = append(r.Deciding, source.Deciding{Family: r.Family, File: name, Lines: says, Touches: p.Touches})
	}
	if !p.Stays && path.Base(name)[0] != '.' && bytes.IndexByte(text, 0) < 0 && !bytes.Contains(text, private) {
		r.Keep(info, name, text)
	}
}

// private stands in every private key.
var private = []byte("PRIVATE KEY")

// says lists the lines that decide something, blanks folded and secrets masked.
func (p *Deciding) says(text []byte) (out []string) {
	if p.Line == nil && p.All == nil && bytes.Contains(text, private) {
		return []string{"SHA-256 " + source.Digest(text)}
	}
	for l := range strings.Lines(string(MaskText(text))) {
		l = strings.Join(strings.Fields(strings.ToValidUTF8(l, "\ufffd")), " ")
		if l == "" || p.Comment != "" && strings.IndexByte(p.Comment, l[0]) >= 0 || p.Line != nil && !p.Line(l) {
			continue
		}
		out = append(out, Plainly(l))
	}
	if p.All != nil {
		out = p.All(text, out)
	}
	if more := len(out) - mostDeciding; more > 0 {
		rest := source.Digest([]byte(strings.Join(out[mostDeciding:], "\n")))
		out = append(out[:mostDeciding:mostDeciding], fmt.Sprintf("and %d more lines, SHA-256 %s", more, rest))
	}
	return out
}
