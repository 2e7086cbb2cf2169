// Package index reads the lists of packages that repositories offer: apt's Packages, the
// primary list of rpm-md, pacman's databases and the summaries of ostree. What it is handed
// may hold anything: it reads in one pass, and takes no more memory than one package does.
package index

import (
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
)

// Package is a package as a repository offers it.
type Package struct {
	Name    string `json:"name"`
	Version string `json:"version" doc:"With epoch and release, as the package manager writes it; of flatpak the branch"`
	Arch    string `json:"arch"`
	Commit  string `json:"commit,omitempty" doc:"flatpak only: what the branch stands at"`
	Source  string `json:"source,omitempty" doc:"apt: the source package, where it has another name; flatpak: runtime, for what is one"`
	Build   Build  `json:"-"`
}

// Runtime is the source of what is a runtime of flatpak's.
const Runtime = "runtime"

// Build stands for what is in a package: another one under the same version is another build. All zero: its
// list says nothing of it.
type Build struct {
	Says uint32   // of apt: what the list says of it beside the sum, hashed
	Sum  [12]byte // the beginning of its sum
}

// shortSum is the beginning of a sum in hexadecimal digits; all zero for what is none.
func shortSum(digits []byte) (sum [12]byte) {
	if len(digits) < 2*len(sum) {
		return sum
	}
	if _, err := hex.Decode(sum[:], digits[:2*len(sum)]); err != nil {
		return [12]byte{}
	}
	return sum
}

// buildSize is how many bytes a build takes in a list that is stored.
const buildSize = 4 + 12

func (b *Build) append(to []byte) []byte {
	return append(binary.BigEndian.AppendUint32(to, b.Says), b.Sum[:]...)
}

// buildOf reads what append wrote.
func buildOf(raw []byte) Build {
	return Build{binary.BigEndian.Uint32(raw), [12]byte(raw[4:buildSize])}
}

// MostPackages bounds the packages of one list.
const MostPackages = 500_000

// longest bounds a name or a version, in bytes.
const longest = 1024

// ErrTooMany is returned for a list that offers more packages than are read.
var ErrTooMany = fmt.Errorf("it offers more than %d packages", MostPackages)

var errLong = errors.New("a name or a version in it is longer than any package has")

// counter hands packages on, so many of them.
type counter struct {
	visit func(Package)
	n     int
	archs map[string]string
}

func (c *counter) give(p Package) error {
	if c.n++; c.n > MostPackages {
		return ErrTooMany
	}
	if max(len(p.Name), len(p.Version), len(p.Arch)) > longest {
		return errLong
	}
	p.Arch = c.arch(p.Arch)
	if p.Source == p.Name {
		p.Source = ""
	}
	c.visit(p)
	return nil
}

// arch is the one copy of an architecture's name.
func (c *counter) arch(name string) string {
	if have, ok := c.archs[name]; ok {
		return have
	}
	if c.archs == nil {
		c.archs = map[string]string{}
	}
	if len(c.archs) < 100 {
		c.archs[name] = name
	}
	return name
}
