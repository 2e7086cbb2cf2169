package agent

import (
	"context"
	"encoding/xml"
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
	"patientlantern.example/lantern/core/family/flatpak"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/survey"
	"patientlantern.example/lantern/core/version"
)

// needs looks for what must be there before anything is changed.
func (h *Host) needs(sheet *source.Sheet) error {
	for _, n := range sheet.Needs {
		have := survey.Installed(h.fs, n.Packages)
		for _, p := range n.Packages {
			if have[p] == "" {
				return fmt.Errorf("nothing was changed: %s, which is not installed on this host; install it: %s",
					n.Wants(p), family.Install(sheet.Family, p))
			}
		}
		for folder, want := range n.Free {
			if free, err := h.free(folder); err == nil && free < want {
				return fmt.Errorf(
					"nothing was changed: %s needs %d MiB free in %s, and there are %d",
					n.Repository,
					want>>20,
					folder,
					free>>20,
				)
			}
		}
	}
	return nil
}

// witnesses looks whether the packages are visible that prove that sources work.
func (a *attempt) witnesses(ctx context.Context, after *survey.Result) error {
	c, sheet := a.carrier, a.sheet
	if len(sheet.Witnesses) == 0 || len(a.stuck.problems) > 0 {
		return nil
	}
	m, err := c.host.manager(sheet.Family)
	if err != nil {
		return err
	}
	for _, w := range sheet.Witnesses {
		if a.down(w.Repository) { // that it cannot be refreshed is said already
			continue
		}
		seen, err := m.visible(ctx, asked{sheet: sheet, survey: after, stuck: a.stuck, at: c.now()}, w)
		if err != nil {
			return fmt.Errorf("the witness %s of %s cannot be looked for: %w", w.Package, w.Repository, err)
		}
		best := ""
		for _, v := range seen {
			if best == "" || version.Compare(sheet.Family, v, best) > 0 {
				best = v
			}
		}
		switch {
		case best == "":
			return fmt.Errorf("the witness is not there: %s does not offer the package %s", w.Repository, w.Package)
		case w.AtLeast != "" && version.Compare(sheet.Family, best, w.AtLeast) < 0:
			return fmt.Errorf(
				"the witness is too old: %s offers %s %s, and the policy wants %s or newer",
				w.Repository,
				w.Package,
				best,
				w.AtLeast,
			)
		}
		c.report.Witnesses = append(c.report.Witnesses, api.WitnessSeen{Repository: w.Repository, Package: w.Package, Version: best})
	}
	return nil
}

// down reports whether a repository could not be refreshed, which is noted and not held
// against the change.
func (a *attempt) down(repository string) bool {
	files := map[string]bool{}
	for _, s := range a.sheet.Sources {
		if s.Repository == repository {
			files[s.File] = true
		}
	}
	return slices.ContainsFunc(a.report.Sources, func(o api.SourceOutcome) bool { return !o.OK && files[o.File] })
}

// visible asks apt which versions of a package the sources of a repository offer.
func (h apt) visible(ctx context.Context, q asked, w source.SheetWitness) ([]string, error) {
	var urls []string
	for _, s := range q.sheet.Sources {
		if s.Repository == w.Repository && s.Enabled {
			urls = append(urls, s.URLs...)
		}
	}
	if !haveApt() { // our own reading has just seen them
		var out []string
		for _, u := range urls {
			out = append(out, h.offered[u+" "+w.Package]...)
		}
		return out, nil
	}
	args, done, err := h.led(q)
	defer done()
	if err != nil {
		return nil, err
	}
	text, err := h.runAptCache(ctx, append(args, "madison", w.Package)...)
	if err != nil {
		return nil, errors.New(aptOutput{text}.errors())
	}
	var out []string
	for line := range strings.Lines(text) { // package | version | URL suite/component arch Packages
		f := strings.Split(line, "|")
		if len(f) != 3 || strings.TrimSpace(f[0]) != w.Package {
			continue
		}
		from, _, _ := strings.Cut(strings.TrimSpace(f[2]), " ")
		if slices.ContainsFunc(urls, func(u string) bool {
			return strings.TrimRight(u, "/") == strings.TrimRight(from, "/") ||
				h.Root != "/" && rooted(u, h.Root) == strings.TrimRight(from, "/")
		}) {
			out = append(out, strings.TrimSpace(f[1]))
		}
	}
	return out, nil
}

// rooted is a URL of a file as apt is shown it below a root.
func rooted(u, root string) string {
	scheme, rest, _ := strings.Cut(u, ":")
	if root == "/" || !slices.Contains([]string{"file", "copy", "cdrom", "mirror+file"}, scheme) {
		return u
	}
	return scheme + ":" + root + "/" + strings.Trim(rest, "/")
}

// sections lists the names of a repository's sources that are on.
func sections(sheet *source.Sheet, after *survey.Result, repository string) (out []string) {
	for _, s := range sheet.Sources {
		if s.Repository != repository || !s.Enabled || s.Family != "" {
			continue
		}
		id := s.ID
		for i := range after.Survey.Sources { // an equal one may stand under another name
			x := &after.Survey.Sources[i]
			if x.File == s.File {
				id = s.ID
				break
			}
			if x.Enabled && x.Family == sheet.Family && source.SameSet(x.EffURLs, s.URLs) {
				id = x.ID
			}
		}
		out = append(out, id)
	}
	for _, rule := range sheet.InPlace {
		if rule.Repository == repository && rule.Enabled {
			out = append(out, rule.Sections...)
		}
	}
	return out
}

func (h dnf) visible(ctx context.Context, q asked, w source.SheetWitness) ([]string, error) {
	program, err := h.program()
	if err != nil {
		return nil, err
	}
	args, done, err := h.led(q)
	defer done()
	if err != nil {
		return nil, err
	}
	args = append(args, "--cacheonly")
	for _, id := range sections(q.sheet, q.survey, w.Repository) {
		args = append(args, "--repo="+id)
	}
	text, err := h.ask(ctx, time.Minute, program, append(args, "repoquery", "--qf", "=%{name} %{evr}\n", w.Package)...)
	if err != nil {
		return nil, errors.New(dnfErrors(text))
	}
	var out []string
	for line := range strings.Lines(text) {
		if name, v, ok := strings.Cut(strings.TrimSpace(line), " "); ok && name == "="+w.Package {
			out = append(out, v)
		}
	}
	return out, nil
}

func (h zypper) visible(ctx context.Context, q asked, w source.SheetWitness) ([]string, error) {
	led, done, err := h.led(q)
	defer done()
	if err != nil {
		return nil, err
	}
	args := append([]string{"--non-interactive", "--no-refresh", "--xmlout"}, led...)
	args = append(args, "search", "--details", "--match-exact", "--type", "package")
	for _, id := range sections(q.sheet, q.survey, w.Repository) {
		args = append(args, "--repo", id)
	}
	text, err := h.askZypper(ctx, time.Minute, append(args, w.Package)...)
	if code := exitCode(err); err != nil && code != 104 { // nothing found, zypper(8)
		return nil, errors.New(zypperErrors(text))
	}
	var out []string
	d := xml.NewDecoder(strings.NewReader(text))
	for {
		tok, err := d.Token()
		if err != nil {
			return out, nil // what stands behind the XML is not of interest
		}
		if e, ok := tok.(xml.StartElement); ok && e.Name.Local == "solvable" {
			at := map[string]string{}
			for _, a := range e.Attr {
				at[a.Name.Local] = a.Value
			}
			if at["name"] == w.Package && at["edition"] != "" {
				out = append(out, at["edition"])
			}
		}
	}
}

func (h pacman) visible(ctx context.Context, q asked, w source.SheetWitness) ([]string, error) {
	args, done, err := h.led(q)
	defer done()
	if err != nil {
		return nil, err
	}
	text, err := h.run(
		ctx,
		time.Minute,
		nil,
		"pacman",
		append(append([]string{"-Sl"}, args...), sections(q.sheet, q.survey, w.Repository)...)...)
	if err != nil {
		return nil, errors.New(pacmanErrors(text))
	}
	var out []string
	for line := range strings.Lines(text) { // repository package version [installed]
		if f := strings.Fields(line); len(f) >= 3 && f[1] == w.Package {
			out = append(out, f[2])
		}
	}
	return out, nil
}

// flatpak is flatpak, which a host has besides another package manager.
type flatpakTool struct{ *Host }

func (h flatpakTool) env(dir string) []string {
	return []string{
		"FLATPAK_SYSTEM_DIR=" + dir,
		"FLATPAK_CONFIG_DIR=" + path.Join(h.Root, "etc/flatpak"),
		"FLATPAK_USER_DIR=" + h.statePath("flatpak-user"),
		"XDG_DATA_HOME=" + h.statePath("flatpak-user"),
	}
}

// view copies flatpak's configuration into a folder, with the files in it made to lead
// below the root.
func (h flatpakTool) view(dir string, text []byte) error {
	for _, d := range []string{"objects", "refs/heads", "refs/remotes", "refs/mirrors", "state", "tmp/cache", "extensions"} {
		if err := os.MkdirAll(path.Join(dir, "repo", d), 0o700); err != nil {
			return err
		}
	}
	if h.Root != "/" {
		text = flatpak.Rooted(text, h.Root)
	}
	return os.WriteFile(path.Join(dir, "repo/config"), text, 0o600)
}

// ask lets flatpak look at a configuration on the side, and then at each remote of the
// sheet where fetch is true.
func (h flatpakTool) ask(ctx context.Context, text []byte, sheet *source.Sheet, fetch bool) ([]api.SourceOutcome, error) {
	if _, err := exec.LookPath("flatpak"); err != nil {
		return nil, errors.New("flatpak is not on this host, so nothing can be tried or refreshed")
	}
	dir := h.statePath("flatpak")
	defer os.RemoveAll(dir)
	if err := h.view(dir, text); err != nil {
		return nil, fmt.Errorf("the remotes cannot be shown to flatpak: %w", err)
	}
	out, err := h.run(ctx, time.Minute, h.env(dir), "flatpak", "--system", "remotes", "--show-disabled", "--columns=name")
	if err != nil {
		return nil, fmt.Errorf("flatpak refuses the new configuration: %s", oneLine(out))
	}
	var seen []api.SourceOutcome
	for i := range sheet.Sources {
		s := &sheet.Sources[i]
		if s.Family != flatpak.Family {
			continue
		}
		if !slices.Contains(strings.Fields(out), s.ID) {
			if s.IfThere {
				continue
			}
			return seen, fmt.Errorf("flatpak does not see the remote %s", s.ID)
		}
		if !fetch || !s.Enabled {
			continue
		}
		o := api.SourceOutcome{File: s.File, URL: strings.Join(s.URLs, " "), OK: true}
		if text, err := h.run(ctx, refreshTime, h.env(dir), "flatpak", "--system", "remote-ls", s.ID); err != nil {
			o.OK, o.Message = false, oneLine(text)
		}
		seen = append(seen, o)
	}
	return seen, nil
}

// hasRemotes reports whether a sheet speaks of flatpak.
func hasRemotes(sheet *source.Sheet) bool {
	return slices.ContainsFunc(sheet.Sources, func(s source.SheetSource) bool { return s.Family == flatpak.Family })
}
