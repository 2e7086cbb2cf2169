package drift

import (
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

// options lists what else a source says otherwise than the policy's text of it: checks of the
// age of metadata, certificates, proxies, exclusions and the like. What switches a check is
// told as what it comes to, among the fields that are known to differ.
func options(want, have *source.Source, differs []field, settings []source.Setting) (out []field) {
	weakened := slices.ContainsFunc(differs, func(f field) bool {
		return strings.HasPrefix(f.name, "signature check") && f.severity == Danger
	})
	names := map[string]bool{}
	for _, m := range []map[string]string{want.Options, have.Options} {
		for k := range m {
			names[k] = true
		}
	}
	for _, name := range slices.Sorted(maps.Keys(names)) {
		w, h := source.Says(want.Options, name), source.Says(have.Options, name)
		include := have.Family == arch.Family && name == "Include" // goes on behind the file's end
		if include || source.SameOption(have.Family, name, want.Options, have.Options, settings) {
			continue
		}
		severity := Fault
		if source.OptionWeakens(have.Family, name, have.Options) {
			severity = Danger
		}
		if source.OptionSwitches(name) && (weakened || severity != Danger) {
			continue
		}
		out = append(out, field{name, w, h, severity})
	}
	return out
}

// written are the sources that the policy's text of a file comes to, as a host reads them.
func (c *comparer) written(f *source.SheetFile) (out []source.Source) {
	t := &c.survey.Traits
	if strings.HasSuffix(f.Path, ".sources") || strings.HasSuffix(f.Path, ".list") && c.sheet.Family == deb.Family {
		return deb.ParseDoc(f.Path, []byte(f.Text), t.Architectures).Sources
	}
	root := rootfs.New(fstest.MapFS{f.Path[1:]: {Data: []byte(f.Text), Mode: fs.FileMode(0o644)}})
	host := family.Host{Arch: t.Arch, Architectures: t.Architectures, Release: t.OS.Version, OSRelease: t.OS.Version, Level: t.CPU.Level}
	of, known := families.Of(c.sheet.Family)
	switch {
	case !known || of.Name() == deb.Family:
		return nil // of apt's only the forms above are read
	case of.Name() == arch.Family: // its files are read as part of another
		root = rootfs.New(fstest.MapFS{arch.Config[1:]: {Data: []byte(f.Text), Mode: fs.FileMode(0o644)}})
		out = of.Read(root, host).Sources
		for i := range out {
			out[i].File = f.Path
		}
		return out
	}
	for _, s := range of.Read(root, host).Sources {
		if s.File == f.Path {
			out = append(out, s)
		}
	}
	return out
}
