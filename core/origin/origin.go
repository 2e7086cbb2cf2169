// Package origin tells which installed packages of a host came from which source, from what
// the package managers themselves keep: apt's lists, dnf's history, zypper's log, pacman's
// sync databases, flatpak's deployments. It runs no program.
//
// apt and pacman do not note where a package came from. What counts there as having come from
// a source is what its index offers in exactly the version that is installed.
package origin

import (
	"fmt"
	"io"
	"sort"
	"strings"
	"time"

	"patientlantern.example/lantern/core/family/arch"
	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/family/flatpak"
	"patientlantern.example/lantern/core/family/rpm"
	"patientlantern.example/lantern/core/family/zypp"
	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/source"
)

// Came is what is installed from one source.
type Came struct {
	Packages int        `json:"packages"`
	Names    []string   `json:"names,omitempty" doc:"The first ones, by name"`
	Newest   *time.Time `json:"newest,omitempty" doc:"When the one was installed that was installed last"`
	Unknown  string     `json:"unknown,omitempty" doc:"Why it cannot be told; the numbers say nothing then"`
}

// mostNames bounds the names that are told of one source.
const mostNames = 20

// mostBytes bounds what is read of one index, unpacked.
const mostBytes = 1 << 30

// Keys are the names under which a source is asked for: for apt one for each URL and suite,
// for the others that of the section or remote.
func Keys(s *source.Source) []string {
	if s.Family != deb.Family {
		return []string{s.Family + " " + s.ID}
	}
	return keysOf(s.EffURLs, s.EffSuites)
}

// KeysOfSheet are the names under which a source of a sheet is asked for.
func KeysOfSheet(family string, s *source.SheetSource) []string {
	if s.Family != "" {
		family = s.Family
	}
	if family != deb.Family {
		return []string{family + " " + s.ID}
	}
	return keysOf(s.URLs, s.Suites)
}

func keysOf(urls, suites []string) (out []string) {
	for _, u := range urls {
		for _, suite := range suites {
			out = append(out, deb.Family+" "+u+" "+suite)
		}
	}
	return out
}

// piece is one installed package.
type piece struct {
	name    string
	version string // with its epoch and release, as the package manager writes it
	arch    string
	at      time.Time // when it was installed; zero: not known
}

// teller tells, for one key without its family, what is installed from there.
type teller interface {
	from(key string) ([]piece, error)
}

// Look tells what is installed from those of the asked keys that sources of the host bear.
// Keys of other sources are left out.
func Look(root *rootfs.FS, sources []source.Source, asked []string) map[string]Came {
	have := map[string]bool{}
	for i := range sources {
		for _, k := range Keys(&sources[i]) {
			have[k] = true
		}
	}
	out := map[string]Came{}
	tellers := map[string]teller{}
	for _, key := range asked {
		family, rest, _ := strings.Cut(key, " ")
		if !have[key] {
			continue
		}
		t, ok := tellers[family]
		if !ok {
			var err error
			if t, err = open(root, family); err != nil {
				t = unknown{err}
			}
			tellers[family] = t
		}
		list, err := t.from(rest)
		if err != nil {
			out[key] = Came{Unknown: err.Error()}
			continue
		}
		out[key] = summed(list)
	}
	for _, t := range tellers {
		if c, ok := t.(io.Closer); ok {
			c.Close()
		}
	}
	return out
}

func open(root *rootfs.FS, of string) (teller, error) {
	switch of {
	case deb.Family:
		return openApt(root)
	case rpm.Family:
		return openDNF(root)
	case zypp.Family:
		return openZypper(root)
	case arch.Family:
		return openPacman(root)
	case flatpak.Family:
		return remotes{root}, nil
	}
	return nil, fmt.Errorf("it is not known where packages of %s come from", of)
}

// unknown tells of nothing.
type unknown struct{ why error }

func (u unknown) from(string) ([]piece, error) { return nil, u.why }

func summed(list []piece) (c Came) {
	sort.Slice(list, func(i, j int) bool { return list[i].name < list[j].name })
	for _, p := range list {
		c.Packages++
		if len(c.Names) < mostNames {
			c.Names = append(c.Names, p.name)
		}
		if !p.at.IsZero() && (c.Newest == nil || p.at.After(*c.Newest)) {
			at := p.at.UTC().Truncate(time.Second)
			c.Newest = &at
		}
	}
	return c
}
