package agent

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/family/zypp"
	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/survey"
)

// zypper is zypper.
type zypper struct{ *Host }

func (h zypper) program() error {
	if _, err := exec.LookPath("zypper"); err != nil {
		return errors.New("zypper is not on this host, so nothing can be tried or refreshed")
	}
	return nil
}

// try lets zypper list the repositories in a root of its own, which holds nothing else
// but the host's configuration.
func (h zypper) try(ctx context.Context, dir string, texts map[string][]byte, now *survey.Result, s stuck) error {
	if err := h.program(); err != nil {
		return err
	}
	if err := h.viewRepos(path.Join(dir, zypp.ReposDir), texts, zypp.Rooted); err != nil {
		return fmt.Errorf("the new configuration cannot be tried: %w", err)
	}
	settings := []string{"etc/zypp/vars.d/*"}
	for _, folder := range zypp.ConfigDirs {
		settings = append(settings, path.Join(folder, zypp.MainConfig), path.Join(folder, zypp.DropIns, "*"))
	}
	for _, pattern := range settings {
		list, err := filepath.Glob(path.Join(h.Root, pattern))
		if err != nil {
			return err
		}
		for _, name := range list {
			data, err := os.ReadFile(name)
			if err != nil {
				continue // a folder, or what went a moment ago
			}
			to := path.Join(dir, strings.TrimPrefix(name, h.Root))
			if err := os.MkdirAll(path.Dir(to), 0o700); err != nil {
				return err
			}
			if err := os.WriteFile(to, data, 0o600); err != nil {
				return err
			}
		}
	}
	side, err := os.OpenRoot(dir)
	if err != nil {
		return err
	}
	defer side.Close()
	t := now.Survey.Traits
	if err := firstRefusal(
		"zypper",
		zypp.Read(
			rootfs.New(side.FS()),
			family.Host{Arch: t.Arch, Architectures: t.Architectures, Release: t.OS.Version, OSRelease: t.OS.Version, Level: t.CPU.Level},
		).Problems,
		s,
	); err != nil {
		return err
	}
	if len(s.problems) > 0 {
		return nil
	}
	out, err := h.run(ctx, time.Minute, nil, "zypper", "--root", dir, "--non-interactive", "--no-refresh", "repos")
	// 6: there are no repositories, zypper(8).
	if code := exitCode(err); err != nil && code != 6 {
		return fmt.Errorf("zypper refuses the new configuration, so nothing was changed: %s", zypperErrors(out))
	}
	return nil
}

func exitCode(err error) int {
	var exit *exec.ExitError
	if errors.As(err, &exit) {
		return exit.ExitCode()
	}
	return -1
}

// led leads zypper to the root's configuration and sources. done is to be called
// afterwards.
func (h zypper) led(q asked) (args []string, done func(), err error) {
	if h.plain(q) {
		return nil, func() {}, nil
	}
	repos := h.statePath("view")
	done = func() { removeAll(repos) }
	if err := h.viewRepos(repos, q.texts(), zypp.Rooted); err != nil {
		return nil, done, fmt.Errorf("the sources cannot be shown to zypper: %w", err)
	}
	if h.Root != "/" {
		args = append(args, "--root", h.Root)
	}
	args = append(args, "--reposd-dir", repos)
	if q.scratch != "" {
		args = append(args, "--cache-dir", q.scratch)
	}
	return args, done, nil
}

// askZypper runs zypper. Where it cannot renew its picture of what is installed (with an rpm database that
// has changed, in some versions) it throws the picture away, and makes a new one when it is asked
// again.
func (h *Host) askZypper(ctx context.Context, limit time.Duration, args ...string) (string, error) {
	text, err := h.run(ctx, limit, nil, "zypper", args...)
	if err != nil && strings.Contains(text, "rpmdb2solv") {
		text, err = h.run(ctx, limit, nil, "zypper", args...)
	}
	return text, err
}

// refresh makes zypper fetch the metadata of each source of the sheet. The keys that
// they name are the policy's, so zypper may take them up.
func (h zypper) refresh(ctx context.Context, q asked) (string, []api.SourceOutcome, error) {
	if err := h.program(); err != nil {
		return "", nil, err
	}
	led, done, err := h.led(q)
	defer done()
	if err != nil {
		return "zypper", nil, err
	}
	args := append([]string{"--non-interactive", "--gpg-auto-import-keys"}, led...)
	out := refreshed(q, zypp.Family, zypperErrors, func(ids []string) (string, error) {
		return h.patiently(ctx, func() (string, error) {
			return h.askZypper(ctx, q.limit(), slices.Concat(args, []string{"refresh", "--force"}, ids)...)
		})
	})
	return "zypper", out, nil
}

// zypperErrors returns zypper's complaints in one line: what follows the last dash of
// its history where there is one, else the lines that are no progress.
func zypperErrors(text string) string {
	var history, rest []string
	for line := range strings.Lines(text) {
		line = strings.TrimSpace(line)
		switch {
		case strings.HasPrefix(line, "- [|]"),
			line == "",
			line == "History:",
			strings.HasPrefix(line, "Warning: The /etc/products.d"),
			strings.HasPrefix(line, "The link must point"),
			strings.HasPrefix(
				line,
				"Forcing raw",
			),
			strings.HasPrefix(line, "Skipping repository"),
			strings.HasPrefix(line, "Please check"),
			strings.HasPrefix(line, "Could not refresh"),
			strings.HasPrefix(line, "Retrieving repository"):
		case strings.HasPrefix(line, "Error code: "), strings.HasPrefix(line, "Error message: "):
			history = append(history, line)
		case strings.HasPrefix(line, "- "):
			history = append(history, strings.TrimPrefix(line, "- "))
		default:
			rest = append(rest, line)
		}
	}
	if len(history) > 0 {
		return strings.Join(plainly(history, rest), "; ")
	}
	return oneLine(strings.Join(rest, " "))
}

// unsure is what zypper says in the end of a signature that it does not take; what was wrong with it stands above.
const unsure = "Signature verification failed for "

// plainly are zypper's complaints with what was wrong with a signature in the place of that something was, and without what rpm says
// when it cannot keep a key which zypper uses all the same.
func plainly(history, rest []string) (out []string) {
	why := ""
	for _, line := range rest {
		if sentence, ok := strings.CutPrefix(line, "Warning: "); ok && why == "" {
			for _, words := range []string{
				" is unsigned.", " is signed with an unknown key ", "This file was modified after it has been signed.",
			} {
				if strings.Contains(sentence, words) {
					why = strings.TrimSuffix(sentence, ".")
				}
			}
		}
	}
	for _, line := range history {
		switch {
		case strings.HasPrefix(line, "Command exited with status"), // of rpm, which says then:
			strings.HasPrefix(line, "error: ") && strings.HasSuffix(line, " import failed."):
		case strings.HasPrefix(line, unsure) && why != "":
			out = append(out, why)
		default:
			out = append(out, line)
		}
	}
	if out == nil {
		return history
	}
	return out
}
