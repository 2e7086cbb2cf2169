// Package saved reads surveys that were saved to files, so that a policy can be tried
// on a fleet with no service.
package saved

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
	"unicode/utf8"

	"patientlantern.example/lantern/core/keyring"
	"patientlantern.example/lantern/core/source"
)

// Snapshot is one saved survey: what lantern read prints, with what else is known of the
// host where that was saved too.
type Snapshot struct {
	Host   string            `json:"host,omitempty"` // the file's name where it is empty
	Labels map[string]string `json:"labels,omitempty"`
	source.Survey
	// Texts are the source files themselves, passwords masked; without them the exact
	// lines of a change cannot be told.
	Texts map[string]string `json:"texts,omitempty"`
	// Certificates are the key files among them that are binary, in armour.
	Certificates map[string]string `json:"certificates,omitempty"`
}

// Of makes a snapshot of a survey and the texts that it names, passwords masked.
func Of(host string, labels map[string]string, survey source.Survey, texts map[string][]byte) Snapshot {
	out := Snapshot{Host: host, Labels: labels, Survey: survey, Texts: make(map[string]string, len(texts))}
	for p, text := range texts {
		if utf8.Valid(text) {
			out.Texts[p] = string(text)
			continue
		}
		list, err := keyring.Certificates(text)
		if err != nil {
			continue // neither text nor keys: nothing that a policy could say
		}
		if armoured, err := keyring.Armor(list); err == nil {
			if out.Certificates == nil {
				out.Certificates = map[string]string{}
			}
			out.Certificates[p] = armoured
		}
	}
	return out
}

// MaxFile bounds a file, in bytes.
const MaxFile = 32 << 20

// Read reads the files NAME.json of a folder, by name. Others are left out.
func Read(fsys fs.FS) ([]Snapshot, error) {
	entries, err := fs.ReadDir(fsys, ".")
	if err != nil {
		return nil, err
	}
	var out []Snapshot
	seen := map[string]string{}
	for _, e := range entries {
		name, isJSON := strings.CutSuffix(e.Name(), ".json")
		if !isJSON || e.IsDir() || e.Name()[0] == '.' {
			continue
		}
		h, err := one(fsys, e.Name())
		if err != nil {
			return nil, fmt.Errorf("%s: %w", e.Name(), err)
		}
		if h.Host == "" {
			h.Host = name
		}
		if other, twice := seen[h.Host]; twice {
			return nil, fmt.Errorf("%s: the host %s stands in %s already; keep one of them", e.Name(), h.Host, other)
		}
		seen[h.Host] = e.Name()
		out = append(out, *h)
	}
	slices.SortFunc(out, func(a, b Snapshot) int { return strings.Compare(a.Host, b.Host) })
	return out, nil
}

func one(fsys fs.FS, name string) (*Snapshot, error) {
	info, err := fs.Stat(fsys, name)
	switch {
	case err != nil:
		return nil, plain(err)
	case !info.Mode().IsRegular():
		return nil, errors.New("it is no regular file")
	case info.Size() > MaxFile:
		return nil, fmt.Errorf("it has %d bytes; a survey may have %d MiB", info.Size(), MaxFile>>20)
	}
	data, err := fs.ReadFile(fsys, name)
	if err != nil {
		return nil, plain(err)
	}
	h := &Snapshot{}
	if err := json.Unmarshal(data, h); err != nil {
		var syntax *json.SyntaxError
		if errors.As(err, &syntax) {
			line := 1 + strings.Count(string(data[:syntax.Offset]), "\n")
			return nil, fmt.Errorf(
				"line %d is not JSON: %v; save surveys with lantern survey save, or lantern read --format json",
				line,
				err,
			)
		}
		return nil, fmt.Errorf("it is no survey: %v; save surveys with lantern survey save, or lantern read --format json", err)
	}
	if h.Traits.OS.ID == "" && h.Traits.Family == "" && len(h.Sources) == 0 {
		return nil, errors.New(
			"it is no survey: it says nothing of a system; save surveys with lantern survey save, or lantern read --format json",
		)
	}
	return h, nil
}

func plain(err error) error {
	var pe *fs.PathError
	if errors.As(err, &pe) {
		return pe.Err
	}
	return err
}

// Bytes returns the texts as the package change takes them.
func (h *Snapshot) Bytes() map[string][]byte {
	out := make(map[string][]byte, len(h.Texts))
	for p, t := range h.Texts {
		out[p] = []byte(t)
	}
	return out
}

// FileName is the name of a host's file.
func FileName(host string) string { return path.Base(host) + ".json" }
