package agent

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"patientlantern.example/lantern/core/family/arch"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/survey"
)

// ringDir is the folder of pacman's keyring.
const ringDir = "/etc/pacman.d/gnupg"

// ring is where it is.
func (h pacman) ring() string { return path.Join(h.Root, ringDir) }

// inRing reports whether a key stands in it.
func inRing(k *source.Key) bool { return strings.HasPrefix(k.Where, ringDir+"/") }

// trust puts the signing keys of the sheet into pacman's keyring, where they are not
// yet, and signs them with the host's own key as pacman-key(8) says: pacman trusts no
// others. A keyring that was never made is made first.
func (h pacman) trust(ctx context.Context, sheet *source.Sheet, after *survey.Result) error {
	ring := h.ring()
	stood := exists(ring)
	for _, k := range sheet.Keys {
		if !strings.HasPrefix(k.Path, arch.Dir+"/") ||
			slices.ContainsFunc(after.Survey.Keys, func(x source.Key) bool {
				return x.Fingerprint == k.Fingerprint && x.Where != k.Path && x.Good()
			}) {
			continue
		}
		if _, err := exec.LookPath("pacman-key"); err != nil {
			return errors.New("pacman-key is not on this host, so signing keys cannot be trusted")
		}
		if err := h.noteTrusted(k.Fingerprint, after); err != nil {
			return err
		}
		steps := [][]string{{"--add", path.Join(h.Root, k.Path)}, {"--lsign-key", k.Fingerprint}}
		if !exists(path.Join(ring, "trustdb.gpg")) || !exists(path.Join(ring, "private-keys-v1.d")) {
			steps = append([][]string{{"--init"}}, steps...)
		}
		for _, args := range steps {
			if out, err := h.run(ctx, 2*time.Minute, nil, "pacman-key", append([]string{"--gpgdir", ring}, args...)...); err != nil {
				return fmt.Errorf("pacman-key cannot take the key %s: %s", k.Name, oneLine(out))
			}
			if args[0] == "--init" {
				if err := errors.Join(h.noteMade(after), h.noteRing(!stood)); err != nil {
					return err
				}
			}
		}
		if err := h.noteRing(false); err != nil {
			return err
		}
	}
	return nil
}

const madeName = "made.json" // beside the journal: the keys that came with a keyring which the agent has made

// noteMade notes the key of a keyring that was just made: it vouches for others, and is nobody else's doing. One that
// stood there before is somebody's.
func (h pacman) noteMade(before *survey.Result) error {
	var list []string
	for _, k := range h.Survey().Survey.Keys {
		had := slices.ContainsFunc(before.Survey.Keys, func(x source.Key) bool { return x.Fingerprint == k.Fingerprint && !x.Agents })
		if k.Validity == "ultimate" && !had {
			list = append(list, k.Fingerprint)
		}
	}
	return h.saveJSON(madeName, list)
}

// markMade marks those keys in a survey.
func (h *Host) markMade(s *source.Survey) {
	var list []string
	if s.Traits.Family != arch.Family || h.loadJSON(madeName, &list) != nil {
		return
	}
	for i := range s.Keys {
		s.Keys[i].Agents = s.Keys[i].Validity == "ultimate" && slices.Contains(list, s.Keys[i].Fingerprint)
	}
}

const trustedName = "trusted.json" // beside the journal: the keys that a change has added to pacman's keyring

// noteTrusted notes that a change adds a key which the keyring does not have.
func (h pacman) noteTrusted(fingerprint string, now *survey.Result) error {
	has := slices.ContainsFunc(now.Survey.Keys, func(x source.Key) bool {
		return x.Fingerprint == fingerprint && inRing(&x)
	})
	if open, err := h.journalOpen(); has || !open || err != nil {
		return err
	}
	var list []string
	if err := h.loadJSON("journal/"+trustedName, &list); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return h.saveJSON("journal/"+trustedName, append(list, fingerprint))
}

// untrust takes the keys out of pacman's keyring that a change has added. One that cannot be
// taken out stays a finding: the host did not have it when the policy came.
func (h pacman) untrust(dir string) {
	var list []string
	if h.loadJSON(dir+"/"+trustedName, &list) != nil {
		return
	}
	for _, fingerprint := range list {
		ctx, cancel := context.WithTimeout(context.Background(), ringTime)
		_ = pacmanRing{h.Host, ringDir + "/pubring.gpg"}.forget(ctx, fingerprint)
		cancel()
	}
	h.unmakeRing(dir)
}

const ringName = "ring.json" // beside the journal: what stands in a keyring that a change has made

// noteRing notes what stands in the keyring that a change has just made, or anew where it has noted that before.
func (h pacman) noteRing(made bool) error {
	open, err := h.journalOpen()
	if err != nil || !open || !made && !exists(h.statePath("journal/"+ringName)) {
		return err
	}
	files, err := h.ringFiles()
	if err != nil {
		return err
	}
	return h.saveJSON("journal/"+ringName, files)
}

// ringFiles are the files of pacman's keyring, with the digests of what people write into: its configuration. Names come and go with
// gpg's work, and those are left out.
func (h pacman) ringFiles() (map[string]string, error) {
	out := map[string]string{}
	ring := h.ring()
	err := filepath.WalkDir(ring, func(name string, d fs.DirEntry, err error) error {
		base := filepath.Base(name)
		passing := strings.HasSuffix(base, "~") || strings.HasSuffix(base, ".lock") || strings.HasPrefix(base, ".#") ||
			strings.HasPrefix(base, "S.") || base == "random_seed"
		if err != nil || d.IsDir() || passing {
			return err
		}
		inside := strings.TrimPrefix(name, ring)
		if out[inside] = ""; strings.HasSuffix(name, ".conf") {
			text, err := os.ReadFile(name)
			out[inside] = source.Digest(text)
			return err
		}
		return nil
	})
	return out, err
}

// unmakeRing takes away a keyring that a change has made, with the key that came with it. One in which something of
// somebody's stands stays.
func (h pacman) unmakeRing(dir string) {
	var files map[string]string
	var made []string
	if h.loadJSON(dir+"/"+ringName, &files) != nil || h.loadJSON(madeName, &made) != nil {
		return
	}
	now, err := h.ringFiles()
	if err != nil {
		return
	}
	for name, digest := range now {
		if was, known := files[name]; !known || was != digest {
			return
		}
	}
	seen := false // of a keyring that cannot be read nobody knows what it holds
	for _, k := range h.Survey().Survey.Keys {
		if !inRing(&k) {
			continue
		}
		if seen = slices.Contains(made, k.Fingerprint); !seen {
			return
		}
	}
	if !seen {
		return
	}
	if os.RemoveAll(h.ring()) == nil {
		_ = os.Remove(h.statePath(madeName))
	}
}
