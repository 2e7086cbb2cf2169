package survey

import (
	"path"
	"strings"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/source"
)

// Where libraries and modules stand that no package brings, and that are taken before those of packages.
const localLibraries = "/usr/local/lib"

// loadedDirs are the folders whose changes can change what package managers load.
var loadedDirs = []string{localLibraries, "/usr/local/lib64", "/etc/ld.so.conf.d"}

// loaded notes what is loaded into package managers from where no package has put it: libraries, the folders that are
// searched for them, and modules of Python, in which dnf and unattended upgrades are written.
func (r *reader) loaded(found *family.Reading) {
	search := func(line string) bool { return strings.HasPrefix(line, "/") || strings.HasPrefix(line, "include") }
	found.Decides(r.root, []family.Deciding{
		{Path: "/etc/ld.so.conf", Touches: family.Program, Comment: "#", Line: search, Stays: true, Loose: true, Since: source.Scopes},
		{
			Path: "/etc/ld.so.conf.d", Names: family.Suffix(".conf"), Touches: family.Program, Comment: "#", Line: search,
			Stays: true, Loose: true, Since: source.Scopes,
		},
		// What OpenSSL loads of itself, and what GnuTLS takes for strong enough.
		{Path: "/etc/ssl/openssl.cnf", Touches: anything, Comment: "#;", Line: opensslLoads, Stays: true, Since: source.Scopes},
		{Path: "/etc/pki/tls/openssl.cnf", Touches: anything, Comment: "#;", Line: opensslLoads, Stays: true, Since: source.Scopes},
		{
			Path: "/etc/gnutls/config", Touches: family.Both(family.Trust, family.Transport), Comment: "#",
			Stays: true, Loose: true, Since: source.Scopes,
		},
	})
	libraries := []string{localLibraries, "/usr/local/lib64"}
	entries, _ := r.root.ReadDir(localLibraries) // where it cannot be listed, that is told of what was not read
	for _, e := range entries {
		switch dir := path.Join(localLibraries, e.Name()); {
		case strings.Contains(e.Name(), "-linux-gnu"):
			libraries = append(libraries, dir)
		case strings.HasPrefix(e.Name(), "python3"):
			r.modules(found, path.Join(dir, "dist-packages"))
			r.modules(found, path.Join(dir, "site-packages"))
		}
	}
	for _, dir := range libraries {
		found.Decides(r.root, []family.Deciding{
			{Path: dir, Names: loadedByManagers, Touches: family.Program, All: digested, Stays: true, Since: source.Scopes},
		})
	}
}

// anything is what code can touch that is loaded into a package manager.
var anything = family.Both(family.Program, family.Transport)

// opensslLoads reports whether a line of openssl.cnf has OpenSSL load something: config(5).
var opensslLoads = family.Prefix("dynamic_path", "module", "engine_id", "SO_PATH", "LOAD", ".include")

// loadedByManagers reports whether a library of that name is one that package managers load, or what they verify and fetch with
// does.
var loadedByManagers = family.Prefix(
	"libapt-p", "librpm", "libdnf", "libsolv", "libzypp", "libalpm", "libflatpak", "libostree", "librepo", "libmodulemd", "libcurl", "libssl",
	"libcrypto", "libgnutls", "libgcrypt", "libgpgme", "libgpg-error", "libsequoia",
)

// modules notes Python's modules of package managers, and what Python runs whenever it starts.
func (r *reader) modules(found *family.Reading, dir string) {
	runs := func(name string) bool { return name == "sitecustomize.py" || name == "usercustomize.py" }
	named := func(name string) bool {
		name, _, _ = strings.Cut(name, ".")
		return name == "apt_pkg" || name == "apt_inst" || name == "hawkey"
	}
	found.Decides(r.root, []family.Deciding{
		{
			Path: dir, Names: family.Suffix(".pth"), Touches: family.Program, Comment: "#", Line: family.Prefix("import "),
			Stays: true, Since: source.Scopes,
		},
		{
			Path: dir, Names: func(name string) bool { return runs(name) || named(name) }, Touches: family.Program, All: digested,
			Stays: true, Since: source.Scopes,
		},
	})
	for _, module := range []string{"dnf", "libdnf", "libdnf5", "hawkey", "rpm", "apt"} {
		found.Decides(r.root, []family.Deciding{
			{Path: path.Join(dir, module, "__init__.py"), Touches: family.Program, All: digested, Stays: true, Since: source.Scopes},
		})
	}
}
