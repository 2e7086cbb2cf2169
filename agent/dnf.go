package agent

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path"
	"slices"
	"strings"
	"time"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/family/rpm"
	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/survey"
	"patientlantern.example/lantern/core/text/pattern"
)

// dnf is dnf, or yum where that is what it is called.
type dnf struct{ *Host }

func (h dnf) program() (string, error) {
	if strings.Contains(h.Root, ",") { // it would look at this machine's own repositories
		return "", fmt.Errorf("dnf cannot be led to %s: it takes a comma for the end of a path", h.Root)
	}
	for _, name := range []string{"dnf", "yum"} {
		if _, err := exec.LookPath(name); err == nil {
			return name, nil
		}
	}
	return "", errors.New("neither dnf nor yum is on this host, so nothing can be tried or refreshed")
}

// args leads dnf to the root's configuration, and to the .repo files in a folder
// unless that is empty.
// Its own --installroot is no help: it moves neither the paths of keys nor those of
// certificates.
func (h dnf) args(repos string, t source.Traits) []string {
	args := []string{"--noplugins", "--quiet", "--setopt=skip_if_unavailable=0", "--setopt=*.skip_if_unavailable=0",
		"--setopt=exit_on_lock=1"} // else it waits for whoever holds the lock, and as long as that takes
	if repos != "" {
		args = append(args, "--setopt=reposdir="+repos)
	}
	if h.Root == "/" {
		return args
	}
	conf := h.statePath("dnf.conf") // an empty one; dnf takes no other kind of file than a regular one
	if err := h.save("dnf.conf", nil); err != nil {
		conf = ""
	}
	if p := path.Join(h.Root, "etc/dnf/dnf.conf"); exists(p) {
		conf = p
	}
	args = append(args, "--config="+conf)
	for _, x := range [][2]string{
		{"varsdir", "etc/dnf/vars"},
		{"cachedir", "var/cache/dnf"},
		{"persistdir", "var/lib/dnf"},
		{"logdir", "var/log"},
	} {
		args = append(args, "--setopt="+x[0]+"="+path.Join(h.Root, x[1]))
	}
	if t.OS.Version != "" {
		args = append(args, "--releasever="+t.OS.Version)
	}
	if t.Arch != "" {
		args = append(args, "--forcearch="+t.Arch)
	}
	return args
}

// ask runs dnf, and again where another one is at work.
func (h dnf) ask(ctx context.Context, limit time.Duration, program string, args ...string) (string, error) {
	return h.patiently(ctx, func() (string, error) { return h.run(ctx, limit, nil, program, args...) })
}

func exists(p string) bool {
	_, err := os.Stat(p)
	return err == nil
}

// view writes .repo files into a folder.
func (h dnf) view(dir string, texts map[string][]byte) error {
	return h.viewRepos(dir, texts, rpm.Rooted)
}

// viewRepos writes .repo files into a folder, with the paths in them made to lead into
// the root.
func (h *Host) viewRepos(dir string, texts map[string][]byte, rooted func(text []byte, root string) ([]byte, error)) error {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	for p, t := range texts {
		if path.Ext(p) != ".repo" {
			continue
		}
		if h.Root != "/" {
			led, err := rooted(t, h.Root)
			if err != nil {
				return fmt.Errorf("%s: %w", p, err)
			}
			t = led
		}
		if err := os.WriteFile(path.Join(dir, path.Base(p)), t, 0o600); err != nil {
			return err
		}
	}
	return nil
}

func (h dnf) try(ctx context.Context, dir string, texts map[string][]byte, now *survey.Result, s stuck) error {
	program, err := h.program()
	if err != nil {
		return err
	}
	repos := path.Join(dir, rpm.ReposDir)
	if err := h.view(repos, texts); err != nil {
		return fmt.Errorf("the new configuration cannot be tried: %w", err)
	}
	side, err := os.OpenRoot(dir)
	if err != nil {
		return err
	}
	defer side.Close()
	if err := firstRefusal(
		"dnf",
		rpm.Read(
			rootfs.New(side.FS()),
			family.Host{Arch: now.Survey.Traits.Arch, Architectures: now.Survey.Traits.Architectures, OSRelease: now.Survey.Traits.OS.Version},
		).Problems,
		s,
	); err != nil {
		return err
	}
	if len(s.problems) > 0 {
		return nil
	}
	args := h.args(repos, now.Survey.Traits)
	if text, old := texts[rpm.Config], now.Texts[rpm.Config]; !bytes.Equal(text, old) { // as it would stand, or without it
		conf := path.Join(dir, "dnf.conf")
		if err := os.WriteFile(conf, text, 0o600); err != nil {
			return fmt.Errorf("the new configuration cannot be tried: %w", err)
		}
		args = append(args, "--config="+conf)
	}
	out, err := h.ask(ctx, time.Minute, program, append(args, "--cacheonly", "repolist", "--all")...)
	if err != nil {
		return fmt.Errorf("dnf refuses the new configuration, so nothing was changed: %s", dnfErrors(out))
	}
	return nil
}

// led leads dnf to the root's configuration and sources. done is to be called
// afterwards.
func (h dnf) led(q asked) (args []string, done func(), err error) {
	if h.plain(q) {
		return h.args("", q.survey.Survey.Traits), func() {}, nil
	}
	repos := h.statePath("view")
	done = func() { removeAll(repos) }
	if err := h.view(repos, q.texts()); err != nil {
		return nil, done, fmt.Errorf("the sources cannot be shown to dnf: %w", err)
	}
	args = h.args(repos, q.survey.Survey.Traits)
	if q.scratch != "" {
		args = append(args, "--setopt=cachedir="+q.scratch)
	}
	return args, done, nil
}

// refresh makes dnf fetch the metadata of each source of the sheet. Others are left
// alone: dnf would ask whether to trust their keys, and nobody is there to answer.
func (h dnf) refresh(ctx context.Context, q asked) (string, []api.SourceOutcome, error) {
	program, err := h.program()
	if err != nil {
		return "", nil, err
	}
	args, done, err := h.led(q)
	defer done()
	if err != nil {
		return program, nil, err
	}
	// Quietly, dnf would keep to itself what the server answered.
	args = slices.DeleteFunc(args, func(a string) bool { return a == "--quiet" })
	args = append(args, "--setopt=retries=1", "--setopt=timeout=30", "--refresh", "--assumeyes")
	out := refreshed(q, rpm.Family, dnfErrors, func(ids []string) (string, error) {
		only := slices.Clone(args)
		for _, id := range ids {
			only = append(only, "--repo="+id)
			if !strings.Contains(id, ".") { // yum knows no pattern, and takes a name to end at the first dot
				only = append(only, "--setopt="+id+".skip_if_unavailable=0")
			}
		}
		return h.ask(ctx, q.limit(), program, append(only, "makecache")...)
	})
	return program, out, nil
}

// orError is what a program said, or the error where it was ended before it could.
func orError(said string, err error) string {
	var slow tooSlow
	if said == "" || errors.As(err, &slow) {
		return err.Error()
	}
	return said
}

// listed reports whether a source is one that the sheet speaks of.
func listed(sheet *source.Sheet, s *source.Source) bool {
	for _, rule := range sheet.InPlace {
		if slices.Contains(rule.Sections, s.ID) && rule.Enabled {
			return true
		}
	}
	return slices.ContainsFunc(sheet.Files, func(f source.SheetFile) bool { return f.Path == s.File })
}

// dnfReason is a reason, as dnf 4 and dnf 5 give one; behind it dnf 5 says again of which URL.
var dnfReason = pattern.Lazy(`^(?:\s+- |>>> )(.*?)(?: - https?://\S+)?$`)

// noURL is how dnf 5 closes its reasons.
const noURL = "Usable URL not found"

// dnfErrors returns dnf's complaints in one line: the reasons where it gives any.
func dnfErrors(text string) string {
	const unavailable = "GPG signature is not available"
	var reasons, errs []string
	seen := map[string]bool{}
	for line := range strings.Lines(text) {
		line = strings.TrimRight(line, "\n")
		if m := dnfReason().FindStringSubmatch(line); m != nil && !seen[m[1]] {
			seen[m[1]] = true
			reasons = append(reasons, m[1])
		} else if rest, ok := strings.CutPrefix(line, "Error: "); ok {
			errs = append(errs, rest)
		}
	}
	if len(reasons) > 1 {
		reasons = slices.DeleteFunc(reasons, func(why string) bool { return why == noURL })
	}
	switch {
	case len(reasons) > 0 && strings.Contains(strings.Join(errs, " "), unavailable): // all else was had
		return unavailable + ": " + strings.Join(reasons, "; ")
	case len(reasons) > 0:
		return strings.Join(reasons, "; ")
	case len(errs) > 0:
		return strings.Join(errs, "; ")
	}
	return oneLine(text)
}
