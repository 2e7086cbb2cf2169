package agent

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"os/exec"
	"path"
	"slices"
	"strings"
	"time"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/family/arch"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/survey"
)

// pacman is pacman.
type pacman struct{ *Host }

// view writes pacman.conf and what it includes into a folder, with the paths in it
// made to lead there. Files of access are taken from the host, where the texts do not
// have them.
func (h pacman) view(dir string, texts map[string][]byte) (string, error) {
	texts = maps.Clone(texts)
	for _, t := range slices.Collect(maps.Values(texts)) { // what a section that was off includes was not read
		for _, p := range arch.Includes(t) {
			if _, there := texts[p]; there {
				continue
			}
			if more, err := h.fs.ReadText(p); err == nil {
				texts[p] = more
			}
		}
	}
	for p, t := range texts {
		if p != arch.Config && !strings.HasPrefix(p, arch.Dir+"/") && !h.included(p, texts) {
			continue
		}
		if err := os.MkdirAll(path.Join(dir, path.Dir(p)), 0o700); err != nil {
			return "", err
		}
		if err := os.WriteFile(path.Join(dir, p), arch.Rooted(t, dir), 0o600); err != nil {
			return "", err
		}
	}
	return path.Join(dir, arch.Config), nil
}

// included reports whether some text includes a file by name.
func (h pacman) included(p string, texts map[string][]byte) bool {
	for _, t := range texts {
		if strings.Contains(string(t), p) {
			return true
		}
	}
	return false
}

func (h pacman) try(ctx context.Context, dir string, texts map[string][]byte, _ *survey.Result) error {
	if _, err := exec.LookPath("pacman-conf"); err != nil {
		return errors.New("pacman is not on this host, so nothing can be tried or refreshed")
	}
	for _, t := range texts { // what access will stand there is not there yet
		for _, p := range arch.Includes(t) {
			if _, there := texts[p]; !there && strings.HasPrefix(p, arch.Dir+"/lantern-") {
				texts[p] = []byte("Server = http://127.0.0.1/\n")
			}
		}
	}
	conf, err := h.view(dir, texts)
	if err != nil {
		return fmt.Errorf("the new configuration cannot be tried: %w", err)
	}
	out, err := run(ctx, time.Minute, nil, "pacman-conf", "--config", conf)
	if err != nil {
		return fmt.Errorf("pacman refuses the new configuration, so nothing was changed: %s", strings.ReplaceAll(pacmanErrors(out), dir, ""))
	}
	return nil
}

// refresh makes pacman fetch the databases. It does so for all of them at once; one
// that fails does not keep it from the others.
func (h pacman) refresh(ctx context.Context, sheet *source.Sheet, after *survey.Result) (string, []api.SourceOutcome, error) {
	if err := h.trust(ctx, sheet, after); err != nil {
		return "pacman", nil, err
	}
	args, done, err := h.led(after)
	defer done()
	if err != nil {
		return "pacman", nil, err
	}
	text, err := run(ctx, refreshTime, nil, "pacman", append([]string{"-Syy", "--noconfirm", "--noprogressbar", "--disable-download-timeout"}, args...)...)
	var out []api.SourceOutcome
	named := false
	for i := range after.Survey.Sources {
		s := &after.Survey.Sources[i]
		if !s.Enabled || s.Family != arch.Family || !listed(sheet, s) {
			continue
		}
		o := api.SourceOutcome{File: s.File, Line: s.Line, URL: strings.Join(s.EffURLs, " "), OK: true}
		for line := range strings.Lines(text) {
			if rest, ok := strings.CutPrefix(strings.TrimSpace(line), "error: failed retrieving file '"+s.ID+".db'"); ok {
				_, why, _ := strings.Cut(rest, " : ")
				o.OK, o.Message, named = false, why, true
			} else if strings.HasPrefix(strings.TrimSpace(line), "error: failed to synchronize all databases") && err != nil && !named {
				o.Message = pacmanErrors(text)
			}
		}
		out = append(out, o)
	}
	if err != nil && !named && !strings.Contains(text, "error: failed retrieving file") {
		return "pacman", out, fmt.Errorf("pacman: %s", pacmanErrors(text))
	}
	return "pacman", out, nil
}

// led leads pacman to the root's configuration. done is to be called afterwards.
func (h pacman) led(after *survey.Result) (args []string, done func(), err error) {
	if h.Root == "/" {
		return nil, func() {}, nil
	}
	dir := h.statePath("view")
	done = func() { os.RemoveAll(dir) }
	conf, err := h.view(dir, after.Texts)
	if err != nil {
		return nil, done, fmt.Errorf("the sources cannot be shown to pacman: %w", err)
	}
	if err := os.MkdirAll(path.Join(h.Root, "var/lib/pacman/sync"), 0o755); err != nil {
		return nil, done, err
	}
	return []string{"--config", conf, "--root", h.Root, "--dbpath", path.Join(h.Root, "var/lib/pacman"), "--gpgdir", path.Join(h.Root, "etc/pacman.d/gnupg"), "--logfile", "/dev/null"}, done, nil
}

// trust puts the signing keys of the sheet into pacman's keyring, where they are not
// yet, and signs them with the host's own key as pacman-key(8) says: pacman trusts no
// others. A keyring that was never made is made first.
func (h pacman) trust(ctx context.Context, sheet *source.Sheet, after *survey.Result) error {
	ring, asked := path.Join(h.Root, "etc/pacman.d/gnupg"), false
	for _, k := range sheet.Keys {
		if !strings.HasPrefix(k.Path, arch.Dir+"/") || slices.ContainsFunc(after.Survey.Keys, func(x source.Key) bool { return x.Fingerprint == k.Fingerprint && x.Where != k.Path }) {
			continue
		}
		if _, err := exec.LookPath("pacman-key"); err != nil {
			return errors.New("pacman-key is not on this host, so signing keys cannot be trusted")
		}
		steps := [][]string{{"--add", path.Join(h.Root, k.Path)}, {"--lsign-key", k.Fingerprint}}
		if !exists(path.Join(ring, "trustdb.gpg")) || !exists(path.Join(ring, "private-keys-v1.d")) {
			steps = append([][]string{{"--init"}}, steps...)
		}
		for _, args := range steps {
			if out, err := run(ctx, 2*time.Minute, nil, "pacman-key", append([]string{"--gpgdir", ring}, args...)...); err != nil {
				return fmt.Errorf("pacman-key cannot take the key %s: %s", k.Name, oneLine(out))
			}
			asked = true
		}
	}
	if asked { // gpg leaves a process behind that holds the keyring open
		_, _ = run(ctx, time.Minute, nil, "gpgconf", "--homedir", ring, "--kill", "all")
	}
	return nil
}

// pacmanErrors returns pacman's complaints in one line.
func pacmanErrors(text string) string {
	var out []string
	for line := range strings.Lines(text) {
		if rest, ok := strings.CutPrefix(strings.TrimSpace(line), "error: "); ok {
			out = append(out, rest)
		}
	}
	if len(out) == 0 {
		return oneLine(text)
	}
	return strings.Join(out, "; ")
}
