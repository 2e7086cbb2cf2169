package survey

import (
	"bytes"
	"errors"
	"path"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/family/arch"
	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/family/rpm"
	"patientlantern.example/lantern/core/family/zypp"
	"patientlantern.example/lantern/core/pkgdb"
	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/source"
)

// packages are the databases of installed packages that stand on the root.
type packages struct {
	dpkg      *dpkgDB // nil where there is none
	dpkgArchs []string
	rpm       *pkgdb.RPM
	pacman    *pkgdb.Pacman
	pacmanDir string // where pacman keeps what it knows
	rpmFailed bool
}

// oldRPM are databases of kinds that are not read.
var oldRPM = []string{
	"/var/lib/rpm/Packages",
	"/var/lib/rpm/Packages.db",
	"/usr/lib/sysimage/rpm/Packages.db",
	"/usr/lib/sysimage/rpm/Packages",
}

func (r *reader) databases() {
	r.readDpkg()
	if foreign, err := r.root.ReadText(deb.Foreign); err == nil {
		for a := range strings.FieldsSeq(string(foreign)) {
			if len(r.dpkgArchs) == 0 || a != r.dpkgArchs[0] {
				r.dpkgArchs = append(r.dpkgArchs, a)
			}
		}
	}
	db, err := pkgdb.OpenRPM(r.root)
	switch {
	case err == nil:
		r.rpm = db
	case !errors.Is(err, pkgdb.ErrNoRPM):
		r.rpmTrouble(err)
	default:
		for _, name := range oldRPM {
			if _, err := r.root.Stat(name); err == nil {
				r.unread(
					rpm.Family,
					name,
					"rpm's database is of a kind that is not read: the keys in it, owners of files and versions of tools are missing here",
				)
				break
			}
		}
	}
}

func (r *reader) close() {
	if r.rpm != nil {
		r.rpm.Close()
	}
}

// rpmTrouble notes once that the rpm database cannot be read.
func (r *reader) rpmTrouble(err error) {
	if !r.rpmFailed {
		r.rpmFailed = true
		file := ""
		if r.rpm != nil {
			file = r.rpm.Path
		}
		r.unread(rpm.Family, file, "rpm's database cannot be read: "+err.Error())
	}
}

func (r *reader) find(table, key string) []pkgdb.Package {
	if r.rpm == nil || r.rpmFailed {
		return nil
	}
	list, err := r.rpm.Find(table, key)
	if err != nil {
		r.rpmTrouble(err)
	}
	return list
}

// releases are the capabilities by which dnf knows the release of a distribution.
var releases = []string{
	"system-release(releasever)",
	"system-release",
	"distribution-release(releasever)",
	"distribution-release",
	"redhat-release",
	"suse-release",
}

// release returns the version of the package that provides the release.
func (r *reader) release() string {
	for _, name := range releases {
		if list := r.find("Providename", name); len(list) > 0 {
			return list[0].Provided(name)
		}
	}
	return ""
}

// rpmArch returns the architecture of rpm itself, or of the C library.
func (r *reader) rpmArch() string {
	for _, name := range []string{"rpm", "glibc", "bash"} {
		for _, p := range r.find("Name", name) {
			switch a := p.Arch(); a {
			case "", "noarch":
			default:
				return kernelWord(a)
			}
		}
	}
	return ""
}

// family tells the family from the database that is there.
func (r *reader) family() string {
	switch {
	case r.dpkg != nil:
		return deb.Family
	case zypp.Present(r.root):
		return zypp.Family
	case r.rpm != nil || rpm.Present(r.root):
		return rpm.Family
	case arch.Present(r.root):
		return arch.Family
	}
	return ""
}

func (r *reader) openPacman(db string) {
	r.pacmanDir = db
	if p, err := pkgdb.OpenPacman(r.root, db); err == nil {
		r.pacman = p
	}
}

// toolNames are the programs that work on package sources.
var toolNames = []string{"apt", "dpkg", "dnf", "yum", "libdnf", "rpm", "zypper", "libzypp", "pacman", "flatpak", "gnupg", "gnupg2"}

func (r *reader) tools(to map[string]string) {
	for _, tool := range toolNames {
		if v := r.version(tool); v != "" {
			to[tool] = v
		}
	}
}

// version returns the version of an installed package; empty where there is none.
func (r *reader) version(name string) string {
	if r.dpkg != nil {
		if v := r.dpkg.versions[name]; v != "" {
			return v
		}
	}
	if list := r.find("Name", name); len(list) > 0 {
		return list[0].Version()
	}
	if r.pacman == nil {
		return ""
	}
	return r.pacman.Version(name)
}

// Installed returns the versions of those packages that are installed on a root, by
// name.
func Installed(root *rootfs.FS, names []string) map[string]string {
	r := &reader{root: root}
	r.databases()
	defer r.close()
	db := "/var/lib/pacman"
	if p, err := pkgdb.OpenPacman(root, db); err == nil {
		r.pacman = p
	}
	out := map[string]string{}
	for _, name := range names {
		if v := r.version(name); v != "" {
			out[name] = v
		}
	}
	return out
}

// owners says which package owns each source file, as far as a database can tell.
func (r *reader) owners() {
	owner := map[string]string{}
	for i := range r.Survey.Sources {
		owner[r.Survey.Sources[i].File] = ""
	}
	for file := range r.Texts {
		owner[file] = ""
	}
	for _, file := range r.loose {
		owner[file] = ""
	}
	if len(owner) == 0 {
		return
	}
	readable := r.dpkgOwners(owner)
	if r.rpm != nil && !r.rpmFailed {
		readable = true
		for file, have := range owner {
			if have != "" {
				continue
			}
			name, err := r.rpm.Owner(file)
			if err != nil {
				r.rpmTrouble(err)
				break
			}
			owner[file] = name
		}
	}
	if r.pacman != nil {
		readable = true
		files := make([]string, 0, len(owner))
		for file := range owner {
			files = append(files, file)
		}
		for file, name := range r.pacman.Owners(files) {
			if owner[file] == "" {
				owner[file] = name
			}
		}
	}
	if !readable {
		return
	}
	r.of = owner
	for file := range r.runs { // a package's own program comes and goes with it
		if strings.HasPrefix(file, family.System) && owner[file] != "" {
			delete(r.Texts, file)
			delete(r.Modes, file)
			delete(r.runs, file)
		}
	}
	r.Survey.Deciding = slices.DeleteFunc(r.Survey.Deciding, func(d source.Deciding) bool {
		return slices.Contains(r.loose, d.File) && owner[d.File] != ""
	})
	for i := range r.Survey.Sources {
		o := owner[r.Survey.Sources[i].File]
		r.Survey.Sources[i].Owner = &o
	}
}

// dpkgOwners asks dpkg's lists of files.
func (r *reader) dpkgOwners(owner map[string]string) bool {
	entries, err := r.root.ReadDir("/var/lib/dpkg/info")
	if err != nil {
		return false
	}
	dirs := map[string]bool{} // of the files that are asked for
	for file := range owner {
		dirs[above(file)] = true
	}
	for _, e := range entries {
		pkg, ok := strings.CutSuffix(e.Name(), ".list")
		if !ok {
			continue
		}
		data, err := r.root.ReadFile("/var/lib/dpkg/info/" + e.Name())
		if err != nil {
			continue
		}
		if !containsAny(data, dirs) {
			continue
		}
		for line := range bytes.Lines(data) {
			line = bytes.TrimSuffix(line, []byte("\n"))
			if _, asked := owner[string(line)]; asked {
				owner[string(line)], _, _ = strings.Cut(pkg, ":")
			}
		}
	}
	return true
}

// above is a folder in which a file stands: the second one from the top below /etc, where
// many stand, so that few folders are looked for.
func above(file string) string {
	if rest, ok := strings.CutPrefix(file, "/etc/"); ok {
		if first, _, deeper := strings.Cut(rest, "/"); deeper {
			return "/etc/" + first + "/"
		}
	}
	return path.Dir(file) + "/"
}

// containsAny reports whether a list of files has any of some folders in it.
func containsAny(data []byte, dirs map[string]bool) bool {
	for dir := range dirs {
		if bytes.Contains(data, []byte(dir)) {
			return true
		}
	}
	return false
}
