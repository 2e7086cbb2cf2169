// Package index reads the lists of packages that repositories offer: apt's Packages, the
// primary list of rpm-md, pacman's databases and the summaries of ostree. What it is handed
// may hold anything: it reads in one pass, and takes no more memory than one package does.
package index

import (
	"errors"
	"fmt"
)

// Package is a package as a repository offers it.
type Package struct {
	Name    string `json:"name"`
	Version string `json:"version" doc:"With epoch and release, as the package manager writes it; of flatpak the branch"`
	Arch    string `json:"arch"`
	Commit  string `json:"commit,omitempty" doc:"flatpak only: what the branch stands at"`
	Source  string `json:"source,omitempty" doc:"apt only: the source package, where it bears another name"`
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

func (c *counter) give(name, version, arch string, source ...string) error {
	if c.n++; c.n > MostPackages {
		return ErrTooMany
	}
	if max(len(name), len(version), len(arch)) > longest {
		return errLong
	}
	p := Package{Name: name, Version: version, Arch: c.arch(arch)}
	if len(source) > 0 && source[0] != name {
		p.Source = source[0]
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
