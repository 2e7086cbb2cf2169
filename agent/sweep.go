package agent

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"patientlantern.example/lantern/core/source"
)

// temporary reports whether a name is that of a temporary file for base: hidden, and
// followed by digits.
func temporary(name, base string) bool {
	rest, ok := strings.CutPrefix(name, "."+base)
	return ok && rest != "" && strings.Trim(rest, "0123456789") == ""
}

// besides lists the temporary files that stand beside a file.
func besides(real string) (out []string) {
	entries, err := os.ReadDir(filepath.Dir(real))
	if err != nil {
		return nil
	}
	for _, e := range entries {
		if e.Type().IsRegular() && temporary(e.Name(), filepath.Base(real)) {
			out = append(out, filepath.Join(filepath.Dir(real), e.Name()))
		}
	}
	return out
}

// sweepAfter removes the temporary files that a change has left which was interrupted.
// One that holds neither what stood there nor what was to come is what somebody wrote:
// it is kept.
func (h *Host) sweepAfter(j *journal) {
	for _, f := range j.Files {
		p, err := h.path(f.Path)
		if err != nil {
			continue
		}
		var old string
		if b, err := os.ReadFile(h.statePath("journal/" + f.Backup)); err == nil && f.Backup != "" {
			old = source.Digest(b)
		}
		for _, name := range besides(p) {
			data, err := os.ReadFile(name)
			if err != nil {
				continue
			}
			d, part := source.Digest(data), len(data) == 0
			if d != old && d != f.New && !part && f.Backup != "" {
				if _, err := h.keepCopy(f.Path, data); err != nil {
					continue // it stays where it is
				}
			}
			_ = os.Remove(name) // a later start tries again
		}
	}
}

// sweep removes what an agent that was killed has left: its own temporary files, beside
// the files that it keeps and in its own folder, and programs that it had started. It is
// called while the lock is held and no journal is open.
func (h *Host) sweep() {
	h.endLeftovers()
	paths := map[string]bool{}
	if m, err := h.accessMemory(); err == nil {
		for _, f := range m.Files {
			paths[f.Path] = true
		}
	}
	if s := h.lastSheet(); s != nil {
		for _, f := range s.Files {
			paths[f.Path] = true
		}
		for _, a := range s.Access {
			for _, f := range a.Files {
				paths[f.Path] = true
			}
		}
	}
	h.sweepAccess()
	for path := range paths {
		if p, err := h.path(path); err == nil {
			for _, name := range besides(p) {
				_ = os.Remove(name) // a later start tries again
			}
		}
	}
	for _, dir := range []string{"try", "view", "aside", partsDir, "flatpak", "flatpak-user"} {
		_ = os.RemoveAll(h.statePath(dir)) // made anew where they are needed
	}
	_ = filepath.WalkDir(h.State, func(name string, d fs.DirEntry, err error) error {
		if err != nil {
			return nil //nolint:nilerr // what cannot be read cannot be swept
		}
		if d.Type().IsRegular() && strings.HasPrefix(d.Name(), ".") {
			_ = os.Remove(name) // only renameio makes hidden files there
		}
		return nil
	})
}

// sweepAccess removes the access files of a sheet that was not carried out in the end. What
// somebody changed in them since stays, for the next round to see.
func (h *Host) sweepAccess() {
	m, err := h.accessMemory()
	var last memory
	if loadErr := h.loadJSON("memory.json", &last); err != nil || loadErr != nil && !errors.Is(loadErr, fs.ErrNotExist) ||
		m.Stamp != "" && m.Sheet == last.Sheet {
		return // it is whole, or it cannot be told
	}
	named := map[string]bool{}
	if s := h.lastSheet(); s != nil {
		for _, a := range s.Access {
			for _, f := range a.Files {
				named[f.Path] = true
			}
		}
	}
	kept := m
	kept.Stamp, kept.Files = "", nil
	for _, f := range m.Files {
		p, err := h.path(f.Path)
		if data, there, readErr := readPlain(p); err != nil || readErr != nil || named[f.Path] || there && source.Digest(data) != f.Digest {
			kept.Files = append(kept.Files, f)
			continue
		}
		if err := os.Remove(p); err != nil && !errors.Is(err, fs.ErrNotExist) {
			kept.Files = append(kept.Files, f)
		}
	}
	if len(kept.Files) != len(m.Files) {
		_ = h.saveJSON(accessName, kept) // the next round looks again
	}
}

// Settle puts back what a change that was interrupted has left, and sweeps. It is what an
// agent does first.
func (h *Host) Settle() error {
	if _, err := h.Recover(); err != nil {
		return err
	}
	h.sweep()
	return nil
}
