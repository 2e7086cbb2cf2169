package agent

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path"
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
	args := []string{"-Syy", "--noconfirm", "--noprogressbar", "--disable-download-timeout"}
	if h.Root != "/" {
		dir := h.statePath("view")
		defer os.RemoveAll(dir)
		conf, err := h.view(dir, after.Texts)
		if err != nil {
			return "pacman", nil, fmt.Errorf("the sources cannot be shown to pacman: %w", err)
		}
		args = append(args, "--config", conf, "--root", h.Root, "--dbpath", path.Join(h.Root, "var/lib/pacman"), "--gpgdir", path.Join(h.Root, "etc/pacman.d/gnupg"), "--logfile", "/dev/null")
		if err := os.MkdirAll(path.Join(h.Root, "var/lib/pacman/sync"), 0o755); err != nil {
			return "pacman", nil, err
		}
	}
	text, err := run(ctx, refreshTime, nil, "pacman", args...)
	var out []api.SourceOutcome
	named := false
	for i := range after.Survey.Sources {
		s := &after.Survey.Sources[i]
		if !s.Enabled || s.Family != arch.Family || !listed(sheet, s.File) {
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
