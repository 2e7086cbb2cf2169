package drift

import (
	"fmt"
	"io/fs"
	"maps"
	"slices"
	"strings"
	"testing/fstest"

	"patientlantern.example/lantern/core/families"
	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/family/arch"
	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/source"
)

// options compares what else a source says with what the policy's text of its file says:
// checks of the age of metadata, certificates, proxies, exclusions and the like.
func (c *comparer) options(f *source.SheetFile, here []*source.Source) {
	want := c.written(f)
	weakened := func(s *source.Source) bool {
		return slices.ContainsFunc(c.out, func(f Finding) bool { return f.Class == ChecksWeakened && f.File == s.File && f.Line == s.Line })
	}
	for i, have := range here {
		if i >= len(want) {
			break
		}
		names := map[string]bool{}
		for _, m := range []map[string]string{want[i].Options, have.Options} {
			for k := range m {
				names[k] = true
			}
		}
		for _, name := range slices.Sorted(maps.Keys(names)) {
			w, h := want[i].Options[name], have.Options[name]
			if source.SameOption(have.Family, name, w, h) {
				continue
			}
			severity := Fault
			switch {
			case source.OptionSwitches(name) && weakened(have):
				continue // is told as what it comes to
			case source.OptionWeakens(have.Family, name, h):
				severity = Danger
			}
			c.add(
				Finding{
					Class:      ChangedSource,
					Severity:   severity,
					Field:      name,
					Repository: f.Repository,
					File:       f.Path,
					Line:       have.Line,
					Want:       w,
					Have:       h,
					Message:    fmt.Sprintf("%s: %s; the policy says %s", name, orNone(h), orNone(w)),
				},
			)
		}
	}
}

// written are the sources that the policy's text of a file comes to, as a host reads them.
func (c *comparer) written(f *source.SheetFile) (out []source.Source) {
	t := &c.survey.Traits
	if strings.HasSuffix(f.Path, ".sources") || strings.HasSuffix(f.Path, ".list") && c.sheet.Family == deb.Family {
		return deb.ParseDoc(f.Path, []byte(f.Text), t.Architectures).Sources
	}
	root := rootfs.New(fstest.MapFS{f.Path[1:]: {Data: []byte(f.Text), Mode: fs.FileMode(0o644)}})
	host := family.Host{Arch: t.Arch, Architectures: t.Architectures, Release: t.OS.Version, OSRelease: t.OS.Version}
	of, known := families.Of(c.sheet.Family)
	if !known || of.Name() == arch.Family || of.Name() == deb.Family {
		return nil // of apt's only the forms above are read; pacman's sections have no options beside those that are compared already
	}
	for _, s := range of.Read(root, host).Sources {
		if s.File == f.Path {
			out = append(out, s)
		}
	}
	return out
}
