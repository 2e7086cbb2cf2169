// Package families knows every package manager that is read, each behind one interface: whether
// something of it stands on a root, how its configuration is read, and which folders can change
// that. Who treats all of them alike asks here, and names none.
package families

import (
	"iter"
	"slices"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/family/arch"
	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/family/flatpak"
	"patientlantern.example/lantern/core/family/rpm"
	"patientlantern.example/lantern/core/family/zypp"
	"patientlantern.example/lantern/core/rootfs"
)

// Family is a family of package managers, as all of them are spoken to.
type Family interface {
	// Name is that of surveys, sheets and policies: deb, rpm, zypp, arch or flatpak.
	Name() string
	// Program is the package manager as people call it.
	Program() string
	// Present reports whether something of it stands on a root, so that it is to be read.
	Present(root *rootfs.FS) bool
	// Read reads its configuration off a root.
	Read(root *rootfs.FS, host family.Host) family.Reading
	// Watched are the folders whose changes can change what Read returns.
	Watched() []string
	// Owns reports whether a whole host can be kept by it; otherwise it stands beside another.
	Owns() bool
	// FirstOfName reports whether of sources with one name the first alone counts, whichever file
	// it stands in, on or off.
	FirstOfName() bool
	// Reserves reports whether a name is none that a source can have: its section says something else.
	Reserves(name string) bool
}

// All are the families, in the order in which they are read.
func All() []Family { return slices.Clone(all) }

var all = []Family{
	known{
		name: deb.Family, program: "apt", owns: true, watched: deb.WatchDirs,
		present: func(*rootfs.FS) bool { return true }, // sources of its form are read wherever they stand
		read:    func(root *rootfs.FS, h family.Host) family.Reading { return deb.Read(root, h.Architectures) },
	},
	known{
		name: rpm.Family, program: "dnf", owns: true, first: true, reserved: rpm.Reserved,
		watched: rpm.WatchDirs, present: rpm.Present, read: rpm.Read,
	},
	known{
		name: zypp.Family, program: "zypper", owns: true, first: true, watched: zypp.WatchDirs, present: zypp.Present, read: zypp.Read,
	},
	known{
		name: arch.Family, program: "pacman", owns: true, reserved: arch.Reserved,
		watched: arch.WatchDirs, present: arch.Present, read: arch.Read,
	},
	known{
		name: flatpak.Family, program: "flatpak", watched: flatpak.WatchDirs, present: flatpak.Present,
		read: func(root *rootfs.FS, _ family.Host) family.Reading { return flatpak.Read(root) },
	},
}

// Of is a family by its name; ok is false for none.
func Of(name string) (f Family, ok bool) {
	i := slices.IndexFunc(all, func(f Family) bool { return f.Name() == name })
	if i < 0 {
		return nil, false
	}
	return all[i], true
}

// OfHosts are the names of the families by which a whole host can be kept.
func OfHosts() (out []string) {
	for _, f := range all {
		if f.Owns() {
			out = append(out, f.Name())
		}
	}
	return out
}

// Program is the package manager of a family as people call it.
func Program(name string) string {
	switch f, ok := Of(name); {
	case ok:
		return f.Program()
	case name == "":
		return "the package manager"
	}
	return name
}

// FirstOfName reports whether of sources of a family with one name the first alone counts.
func FirstOfName(name string) bool {
	f, ok := Of(name)
	return ok && f.FirstOfName()
}

// Watched are the folders of every family.
func Watched() (out []string) {
	for _, f := range all {
		out = append(out, f.Watched()...)
	}
	return out
}

// Readings reads every family of which something stands on a root, one after another.
func Readings(root *rootfs.FS, host family.Host) iter.Seq[family.Reading] {
	return func(yield func(family.Reading) bool) {
		for _, f := range all {
			if f.Present(root) && !yield(f.Read(root, host)) {
				return
			}
		}
	}
}

// known is a family as the registry has it.
type known struct {
	name, program string
	owns, first   bool
	watched       []string
	reserved      []string // names that no source can have
	present       func(*rootfs.FS) bool
	read          func(*rootfs.FS, family.Host) family.Reading
}

func (k known) Name() string                                       { return k.name }
func (k known) Program() string                                    { return k.program }
func (k known) Owns() bool                                         { return k.owns }
func (k known) FirstOfName() bool                                  { return k.first }
func (k known) Watched() []string                                  { return k.watched }
func (k known) Reserves(name string) bool                          { return slices.Contains(k.reserved, name) }
func (k known) Present(root *rootfs.FS) bool                       { return k.present(root) }
func (k known) Read(root *rootfs.FS, h family.Host) family.Reading { return k.read(root, h) }
