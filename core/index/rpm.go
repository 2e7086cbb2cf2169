package index

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"strings"
)

// RPM reads the primary list of an rpm-md repository.
func RPM(r io.Reader, visit func(Package)) error {
	p := primary{scanner: newScanner(r), out: counter{visit: visit}}
	for {
		kind, token, err := p.next()
		if errors.Is(err, io.EOF) {
			if p.depth > 0 || !p.root {
				return errCut
			}
			return nil
		}
		if err != nil {
			return err
		}
		if err := p.take(kind, token); err != nil {
			return err
		}
	}
}

// mostDepth bounds how deep elements stand in each other.
const mostDepth = 100

// primary is a list that is being read.
type primary struct {
	*scanner
	out   counter
	stack [mostDepth]string
	depth int
	root  bool // it has been met

	rpm             bool // the package is one
	name, arch, evr string
	sum             [12]byte
	summing         bool    // a text is the sum
	into            *string // what a text is
	last            string  // name of the element that was opened last
}

func (p *primary) take(kind int, token []byte) error {
	switch kind {
	case text:
		if p.summing {
			p.sum = shortSum(bytes.TrimSpace(token))
		}
		if p.into != nil {
			s, err := plain(token)
			*p.into += s
			return err
		}
		return nil
	case closes:
		return p.close(token)
	case alone:
		if p.depth >= 3 && p.depth < mostDepth { // what a package needs and has: most of a list, and nothing of it is asked for
			p.into, p.want, p.summing = nil, false, false
			p.passAlone()
			return nil
		}
	}
	if err := p.open(token); err != nil {
		return err
	}
	if kind == alone {
		return p.closed()
	}
	return nil
}

func (p *primary) open(tag []byte) error {
	if p.depth == mostDepth {
		return errors.New("its elements stand deeper in each other than those of any list of packages")
	}
	name := p.known(element(tag))
	p.stack[p.depth] = name
	p.depth++
	switch {
	case p.depth == 1 && (name != "metadata" || p.root):
		return fmt.Errorf("it is no list of packages: it begins with <%.40s>", name)
	case p.depth == 1:
		p.root = true
	case p.depth == 2 && name == "package":
		kind, err := attribute(tag, "type")
		p.rpm, p.name, p.arch, p.evr, p.sum = kind == "rpm", "", "", "", [12]byte{}
		return err
	case p.depth == 3 && p.stack[1] == "package":
		return p.field(name, tag)
	}
	return nil
}

// field begins what stands right below a package.
func (p *primary) field(name string, tag []byte) (err error) {
	switch name {
	case "name":
		p.name, p.into, p.want = "", &p.name, true
	case "arch":
		p.arch, p.into, p.want = "", &p.arch, true
	case "checksum":
		p.summing, p.want = true, true
	case "version":
		var epoch, version, release string
		if epoch, err = attribute(tag, "epoch"); err != nil {
			return err
		}
		if version, err = attribute(tag, "ver"); err != nil {
			return err
		}
		if release, err = attribute(tag, "rel"); err != nil {
			return err
		}
		p.evr = version
		if release != "" {
			p.evr += "-" + release
		}
		if epoch != "" && epoch != "0" {
			p.evr = epoch + ":" + p.evr
		}
	}
	return nil
}

func (p *primary) close(name []byte) error {
	if p.depth == 0 || p.stack[p.depth-1] != string(name) {
		return fmt.Errorf("it is broken: </%.40s> closes what is not open", name)
	}
	return p.closed()
}

// closed ends the element that is open.
func (p *primary) closed() error {
	p.depth--
	name := p.stack[p.depth]
	p.into, p.want, p.summing = nil, false, false
	if p.depth != 1 || name != "package" || !p.rpm {
		return nil
	}
	if p.name = strings.TrimSpace(p.name); p.name == "" || p.evr == "" {
		return errors.New("a package in it has no name, or no version")
	}
	return p.out.give(Package{Name: p.name, Version: p.evr, Arch: strings.TrimSpace(p.arch), Build: Build{Sum: p.sum}})
}

// names are those of elements that are met over and over.
var names = func() map[string]string {
	out := map[string]string{}
	for n := range strings.FieldsSeq("metadata package name arch version checksum summary description packager url time size " +
		"location format " +
		"rpm:license rpm:vendor rpm:group rpm:buildhost rpm:sourcerpm rpm:header-range rpm:provides rpm:requires rpm:conflicts " +
		"rpm:obsoletes rpm:recommends rpm:suggests rpm:supplements rpm:enhances rpm:entry file") {
		out[n] = n
	}
	return out
}()

func (p *primary) known(b []byte) string {
	if string(b) == p.last { // the same over and over
		return p.last
	}
	s, ok := names[string(b)]
	if !ok {
		s = string(b)
	}
	p.last = s
	return s
}
