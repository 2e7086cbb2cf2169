package agent

import (
	"cmp"
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
		if err := os.WriteFile(path.Join(dir, p), arch.AsRoot(arch.Rooted(t, dir)), 0o600); err != nil {
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

func (h pacman) try(ctx context.Context, dir string, texts map[string][]byte, _ *survey.Result, s stuck) error {
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
	out, err := h.run(ctx, time.Minute, nil, "pacman-conf", "--config", conf)
	if err != nil && len(s.problems) == 0 {
		return fmt.Errorf(
			"pacman refuses the new configuration, so nothing was changed: %s",
			strings.ReplaceAll(pacmanErrors(out), dir, ""),
		)
	}
	return nil
}

// refresh makes pacman fetch the databases. It does so for all of them at once; one
// that fails does not keep it from the others.
func (h pacman) refresh(ctx context.Context, q asked) (string, []api.SourceOutcome, error) {
	if q.scratch == "" {
		if err := h.trust(ctx, q.sheet, q.survey); err != nil {
			return "pacman", nil, err
		}
	}
	args, done, err := h.led(q)
	defer done()
	if err != nil {
		return "pacman", nil, err
	}
	text, err := h.patiently(ctx, func() (string, error) {
		return h.run(
			ctx,
			q.limit(),
			nil,
			"pacman",
			append([]string{"-Syy", "--noconfirm", "--noprogressbar", "--disable-download-timeout"}, args...)...)
	})
	if err == nil { // what it complains of then is not so any more; but a page for people is had as well, and is no database
		text, _ = h.run(ctx, time.Minute, nil, "pacman", append([]string{"-Ssq", "^no package has this name$"}, args...)...)
	} else if _, now, begun := strings.Cut(text, ":: Synchronizing"); begun { // before, it looks at those that are there
		text = now
	}
	out, named := readSync(text, err, q)
	if err != nil && !named {
		return "pacman", out, fmt.Errorf("pacman: %s", orError(pacmanErrors(text), err))
	}
	return "pacman", out, nil
}

// complaint is what pacman says of one database.
type complaint struct {
	why   string
	tries int  // servers that did not give it
	last  bool // it was not had from any
}

// complaints reads what pacman says of databases, by their names.
func complaints(text string) map[string]*complaint {
	out := map[string]*complaint{}
	note := func(name, why string) *complaint {
		if out[name] == nil {
			out[name] = &complaint{}
		}
		out[name].why = cmp.Or(out[name].why, why)
		return out[name]
	}
	for line := range strings.Lines(text) {
		said, is := strings.CutPrefix(strings.TrimSpace(line), "error: ")
		if !is {
			continue
		}
		if rest, ok := strings.CutPrefix(said, "failed retrieving file '"); ok {
			file, said, _ := strings.Cut(rest, "'")
			_, said, _ = strings.Cut(said, " : ")
			bare, signature := strings.CutSuffix(file, ".sig")
			c := note(strings.TrimSuffix(bare, ".db"), said)
			if signature {
				said = "its signature: " + said
			}
			if c.tries == 0 {
				c.why = said // what is said of an older one that is still there comes before it at times
			}
			c.last = c.last || signature
			c.tries++
		} else if rest, ok := strings.CutPrefix(said, "failed to update "); ok {
			name, said, _ := strings.Cut(rest, " (")
			note(name, strings.TrimSuffix(said, ")")).last = true
		} else if rest, ok := strings.CutPrefix(said, "could not open file "); ok { // it was had, and is none
			file, said, _ := strings.Cut(rest, ": ")
			if name, of := strings.CutSuffix(path.Base(file), ".db"); of {
				c := note(name, said)
				c.why, c.last = said, true
			}
		} else if name, said, ok := strings.Cut(said, ": "); ok && !strings.Contains(name, " ") { // "salt: signature from … is invalid"
			note(name, said).last = true
		}
	}
	return out
}

// readSync reads pacman's account of a refresh. named is true where it says of a
// database that it could not be had. One server that does not give it is no failure where
// another does. A database of which it does not say that it was
// brought up to date, or was so already, was not, where the whole failed.
func readSync(text string, failed error, q asked) (out []api.SourceOutcome, named bool) {
	all, skips := complaints(text), strings.Contains(text, "too many errors from")
	for i := range q.survey.Survey.Sources {
		s := &q.survey.Survey.Sources[i]
		c := all[s.ID]
		bad := c != nil && (c.last || failed != nil && (skips || c.tries >= len(s.EffURLs)))
		if !s.Enabled || s.Family != arch.Family || !listed(q.sheet, s) {
			if s.Enabled && s.Family == arch.Family && bad {
				named = true // somebody else's
			}
			continue
		}
		if !syncs(s) {
			continue // pacman says nothing of it, and leaves it as it is
		}
		o := api.SourceOutcome{File: s.File, Line: s.Line, URL: strings.Join(s.EffURLs, " "), OK: true}
		if bad {
			o.OK, o.Message, named = false, orNothing(c.why), true
		}
		out = append(out, o)
	}
	if failed != nil && !named {
		for i := range out {
			out[i].OK, out[i].Message = false, orError(pacmanErrors(text), failed)
		}
	}
	return out, named
}

// syncs reports whether pacman brings a database up to date: pacman.conf(5), Usage.
func syncs(s *source.Source) bool {
	usage := strings.Fields(s.Options["Usage"])
	return len(usage) == 0 || slices.Contains(usage, "Sync") || slices.Contains(usage, "All")
}

func orNothing(said string) string {
	if said == "" {
		return "pacman could not fetch it"
	}
	return said
}

// led leads pacman to the root's configuration. done is to be called afterwards.
func (h pacman) led(q asked) (args []string, done func(), err error) {
	if h.plain(q) {
		return nil, func() {}, nil
	}
	dir := h.statePath("view")
	done = func() { removeAll(dir) }
	conf, err := h.view(dir, q.texts())
	if err != nil {
		return nil, done, fmt.Errorf("the sources cannot be shown to pacman: %w", err)
	}
	args = []string{"--config", conf}
	db := path.Join(h.Root, "var/lib/pacman")
	if q.scratch != "" {
		db = q.scratch
	}
	if err := os.MkdirAll(path.Join(db, "sync"), 0o755); err != nil {
		return nil, done, err
	}
	if h.Root != "/" {
		args = append(args, "--root", h.Root, "--logfile", "/dev/null")
		if ring := h.ring(); exists(ring) { // 7.1 refuses to work without it
			args = append(args, "--gpgdir", ring)
		}
	}
	if h.Root != "/" || q.scratch != "" {
		args = append(args, "--dbpath", db)
	}
	return args, done, nil
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
