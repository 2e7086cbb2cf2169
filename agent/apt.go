package agent

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path"
	"path/filepath"
	"time"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/survey"
)

// apt is apt-get, or our own reading where there is none.
type apt struct{ *Host }

func (h apt) try(ctx context.Context, dir string, texts map[string][]byte, now *survey.Result, s stuck) error {
	if err := h.view(dir, texts); err != nil {
		return fmt.Errorf("the new configuration cannot be tried: %w", err)
	}
	side, err := os.OpenRoot(dir)
	if err != nil {
		return err
	}
	defer side.Close()
	if err := firstRefusal("apt", deb.Read(rootfs.New(side.FS()), now.Survey.Traits.Architectures).Problems, s); err != nil {
		return err
	}
	if !haveApt() || len(s.problems) > 0 {
		return nil
	}
	args := append(h.aptArgs(now.Survey.Traits), viewArgs(dir)...)
	at, err := h.viewConf(dir, texts, now.Texts)
	if err != nil {
		return fmt.Errorf("the new configuration cannot be tried: %w", err)
	}
	out, err := h.runApt(ctx, time.Minute, at, append(args, "indextargets", "--no-release-info")...)
	if err != nil {
		return fmt.Errorf("apt refuses the new configuration, so nothing was changed: %s", out.errors())
	}
	return nil
}

func (h apt) refresh(ctx context.Context, q asked) (string, []api.SourceOutcome, error) {
	if haveApt() {
		out, err := h.refreshWithApt(ctx, q)
		return "apt-get", out, err
	}
	out, err := h.refreshAlone(ctx, &q.survey.Survey, q.at)
	return "own reading", out, err
}

// view writes source files into a folder that stands for the root. Paths of keys
// are made to lead where the keys really are, which apt's own options do not do.
func (h *Host) view(dir string, texts map[string][]byte) error {
	if err := os.MkdirAll(path.Join(dir, deb.PartsDir), 0o755); err != nil {
		return err
	}
	for p, t := range texts {
		if p != deb.MainList && path.Dir(p) != deb.PartsDir {
			continue
		}
		if h.Root != "/" {
			t = deb.Rooted(p, t, h.Root)
		}
		if err := os.WriteFile(dir+p, t, 0o644); err != nil {
			return err
		}
	}
	return nil
}

// viewConf writes apt's configuration as it would stand into such a folder, and says where; what does not change is left where it
// is. A file that stops apt stops the try otherwise, also where it is what goes.
func (h *Host) viewConf(dir string, texts, was map[string][]byte) (at aptConf, err error) {
	conf, given, changes := path.Dir(deb.ProxyPath), map[string][]byte{}, false
	for _, list := range []map[string][]byte{texts, was} {
		for p := range list {
			text, is := texts[p]
			old, stood := was[p]
			changed := is != stood || !bytes.Equal(text, old)
			switch {
			case path.Dir(p) == conf && is:
				given[p] = text
				changes = changes || changed
			case path.Dir(p) == conf:
				changes = true
			case p == deb.MainConf && changed:
				at.main = dir + deb.MainConf
			}
		}
	}
	if at.main != "" {
		if err := os.MkdirAll(path.Dir(at.main), 0o755); err != nil {
			return at, err
		}
		if err := os.WriteFile(at.main, texts[deb.MainConf], 0o600); err != nil {
			return at, err
		}
	}
	if !changes {
		return at, nil
	}
	at.parts = dir + conf
	return at, h.layConf(at.parts, given, was)
}

// layConf makes a folder that stands for apt.conf.d: with the given texts, by their paths on the host, and what stands there beside
// those that are known.
func (h *Host) layConf(dir string, given, known map[string][]byte) error {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	from := path.Dir(deb.ProxyPath)
	entries, err := fs.ReadDir(h.dir.FS(), from[1:])
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	texts := maps.Clone(given)
	for _, e := range entries {
		name := path.Join(from, e.Name())
		_, is := known[name]
		if _, comes := given[name]; is || comes {
			continue
		}
		if text, err := fs.ReadFile(h.dir.FS(), name[1:]); err == nil { // else apt cannot read it either
			texts[name] = text
		}
	}
	for name, text := range texts {
		if err := os.WriteFile(path.Join(dir, path.Base(name)), text, 0o600); err != nil {
			return err
		}
	}
	return nil
}

func viewArgs(dir string) []string {
	return []string{"-o", "Dir::Etc::sourcelist=" + dir + deb.MainList, "-o", "Dir::Etc::sourceparts=" + dir + deb.PartsDir}
}

// aptArgs points apt-get at the root.
func (h *Host) aptArgs(t source.Traits) []string {
	if h.Root == "/" {
		return nil
	}
	args := []string{"-o", "Dir=" + h.Root, "-o", "APT::Sandbox::User=root"}
	if len(t.Architectures) > 0 {
		args = append(args, "-o", "APT::Architecture="+t.Architectures[0])
		for _, a := range t.Architectures {
			args = append(args, "-o", "APT::Architectures::="+a)
		}
	}
	return args
}

// led leads apt to the root's configuration and sources. done is to be called
// afterwards.
func (h *Host) led(q asked) (args []string, done func(), err error) {
	args, done = h.aptArgs(q.survey.Survey.Traits), func() {}
	if h.plain(q) {
		return args, done, nil
	}
	dir := h.statePath("view")
	done = func() { removeAll(dir) }
	if err := h.view(dir, q.texts()); err != nil {
		return nil, done, fmt.Errorf("the sources cannot be shown to apt: %w", err)
	}
	args = append(args, viewArgs(dir)...)
	if q.scratch != "" {
		if err := os.MkdirAll(path.Join(q.scratch, "partial"), 0o755); err != nil {
			return nil, done, err
		}
		h.lend(q.scratch)
		args = append(args, "-o", "Dir::State::lists="+q.scratch, "-o", "APT::Sandbox::User=root")
	}
	if len(q.stuck.files) > 0 { // what is left out keeps its lists
		args = append(args, "-o", "APT::Get::List-Cleanup=0")
	}
	return args, done, nil
}

// partsDir is where apt.conf.d stands as it was, below the state.
const partsDir = "parts"

// partsOf is a folder in which apt's configuration stands as it stood when a host was surveyed;
// empty where that is how it stands. Who asks how sources could be fetched before a change must
// not be answered by the proxy that the change has brought.
func (h *Host) partsOf(q asked) (dir string, err error) {
	was, had := q.survey.Texts[deb.ProxyPath]
	is, err := h.fs.ReadText(deb.ProxyPath)
	if has := err == nil; has == had && bytes.Equal(was, is) {
		return "", nil
	}
	dir = h.statePath(partsDir)
	removeAll(dir)
	given := map[string][]byte{}
	if had {
		given[deb.ProxyPath] = was
	}
	return dir, h.layConf(dir, given, map[string][]byte{deb.ProxyPath: is})
}

// aptLists is where apt keeps what it has fetched, below the root.
const aptLists = "var/lib/apt/lists"

// lend has apt begin with what the host has fetched already, in a folder of its own: what has
// not changed upstream is asked for and not fetched again, and what is older than what was seen
// before is refused as on the host. Files are linked; apt puts others in their place and writes
// in none, so the host's own stay as they are. Where that cannot be done apt begins with nothing.
func (h *Host) lend(scratch string) {
	to, err := filepath.Rel(h.Root, scratch)
	if err != nil || !filepath.IsLocal(to) {
		return
	}
	entries, err := fs.ReadDir(h.dir.FS(), aptLists)
	if err != nil {
		return
	}
	for _, e := range entries {
		if e.Type().IsRegular() && e.Name() != "lock" {
			_ = h.dir.Link(path.Join(aptLists, e.Name()), path.Join(filepath.ToSlash(to), e.Name()))
		}
	}
}

// removeAll removes what was made on the way; what stays behind is swept at the next
// start.
func removeAll(dir string) { _ = os.RemoveAll(dir) }
