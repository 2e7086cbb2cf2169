package deb

import (
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/text/aptconf"
)

// maxIncludes is how deep apt lets configuration files include others.
const maxIncludes = 10

// maxConfigs bounds how many configuration files are read, included ones each time.
const maxConfigs = 2_000

// spelled are items that apt has before it reads a file: they keep apt's spelling.
var spelled = []string{
	"APT::Architecture", "APT::Sandbox", "Acquire::AllowInsecureRepositories",
	"Acquire::AllowWeakRepositories", "Acquire::AllowDowngradeToInsecureRepositories", "Acquire::cdrom::mount",
	"Acquire::IndexTargets::deb::Packages", "Acquire::IndexTargets::deb-src::Sources", "DPkg::Path",
	"Dir::Bin::planners", "Dir::Bin::solvers",
	"APT::Compressor::.::Binary", "APT::Compressor::gzip::Binary", "APT::Compressor::gzip::CompressArg",
	"APT::Compressor::gzip::UncompressArg", "APT::Compressor::bzip2::Binary", "APT::Compressor::bzip2::CompressArg",
	"APT::Compressor::bzip2::UncompressArg", "APT::Compressor::lz4::Binary", "APT::Compressor::lz4::CompressArg",
	"APT::Compressor::lz4::UncompressArg", "APT::Compressor::lzma::Binary", "APT::Compressor::lzma::CompressArg",
	"APT::Compressor::lzma::UncompressArg", "APT::Compressor::xz::Binary", "APT::Compressor::xz::CompressArg",
	"APT::Compressor::xz::UncompressArg", "APT::Compressor::zstd::Binary", "APT::Compressor::zstd::CompressArg",
	"APT::Compressor::zstd::UncompressArg",
}

// configure reads apt's own configuration: the parts, then the main file. Its
// defaults for the places of files are those of Debian's apt.
func (r *reader) configure() {
	for _, name := range spelled {
		r.conf.Set(name, "")
	}
	r.conf.Set("APT::Architecture", first(r.archs)) // a file can take it away
	if r.way != byAptKey {
		r.conf.Set("APT::Key", "")
	}
	for _, t := range touching {
		if r.way != byAptKey && t.Name == "Dir::Etc::trusted" {
			continue // there is none any more, but where somebody sets it
		}
		if strings.HasPrefix(t.Name, "Dir") && t.Default != "" || t.Name == "APT::Sandbox::User" {
			r.conf.Set(t.Name, t.Default)
		}
	}
	r.configDir(r.conf.File("Dir::Etc::parts"), 0)
	if main := r.conf.File("Dir::Etc::main"); r.isFile(main) {
		r.configFile(main, 0)
	}
	r.settings()
	r.processors()
	r.conf.Raise("Binary::apt-get") // what it fetches is what is asked here
	native := r.conf.Get("APT::Architecture", "")
	archs := r.conf.List("APT::Architectures")
	if len(archs) == 0 && len(r.archs) > 0 { // the native one and dpkg's foreign ones
		archs = append([]string{native}, r.archs[1:]...)
	}
	if native != "" && !slices.Contains(archs, native) {
		archs = slices.Concat([]string{native}, archs)
	}
	foreign := r.conf.List("APT::BarbarianArchitectures")
	var kept []string
	for _, a := range archs {
		if a != "" && !slices.Contains(kept, a) && !slices.Contains(foreign, a) {
			kept = append(kept, a)
		}
	}
	r.Architectures = kept
	r.native = native
	r.archs = slices.Concat(kept, foreign)
}

// processors makes sure of dpkg's table of processors, without which apt does nothing, where somebody has moved it.
func (r *reader) processors() {
	const table = "Dir::dpkg::cputable"
	var file string
	var line int
	r.conf.Walk(func(name, value, in string, at int) {
		if in != "" && value != "" && (strings.EqualFold(name, "RootDir") || strings.EqualFold(name, table)) {
			file, line = in, at
		}
	})
	if file == "" {
		return
	}
	r.conf.Default("Dir::dpkg", "/usr/share/dpkg")
	r.conf.Default(table, "cputable")
	if at := r.conf.File(table); !r.isFile(at) {
		r.Problem(file, line, "apt refuses to work: there is no table of processors at "+at, true)
	}
}

func first(list []string) string {
	if len(list) == 0 {
		return ""
	}
	return list[0]
}

func (r *reader) isFile(name string) bool {
	if name == "" || name == "/dev/null" {
		return false
	}
	info, err := r.root.Stat(name)
	return err == nil && info.Mode().IsRegular()
}

// partFiles lists the files of a folder that apt reads: those with the extension,
// or with none, under a name of letters, digits and _ - : .
func (r *reader) partFiles(dir, ext string) (out []string) {
	if dir == "" || dir == "/dev/null" {
		return nil
	}
	entries, err := r.root.ReadDir(dir)
	if err != nil {
		if !errors.Is(err, fs.ErrNotExist) {
			r.Problem(dir, 0, "cannot be listed: "+family.Plain(err), false)
		}
		return nil
	}
	for _, e := range entries {
		name := e.Name()
		if i := strings.LastIndexByte(name, '.'); !plainName(name) || i >= 0 && name[i+1:] != ext {
			continue
		}
		if full := path.Join(dir, name); r.isFile(full) {
			out = append(out, full)
		}
	}
	return out
}

func (r *reader) configDir(dir string, depth int) {
	for _, name := range r.partFiles(dir, "conf") {
		r.configFile(name, depth)
	}
}

func (r *reader) configFile(name string, depth int) {
	if r.confStop {
		return
	}
	if r.confFiles++; r.confFiles > maxConfigs {
		r.confStop = true
		r.Problem(name, 0, fmt.Sprintf("configuration files include more than %d others: those from here on are not read", maxConfigs), true)
		return
	}
	text, info, err := r.root.ReadTextInfo(name)
	if err != nil {
		r.Problem(name, 0, "apt refuses to work: its configuration cannot be read: "+family.Plain(err), true)
		return
	}
	r.Keep(info, name, text)
	statements, err := aptconf.Parse(text)
	for _, s := range statements {
		switch s.Directive {
		case "":
			r.conf.SetAt(s.Name, s.Value, name, s.Line)
		case "clear":
			r.conf.ClearAt(s.Value, name, s.Line)
		case "include":
			switch {
			case depth > maxIncludes:
				r.Problem(name, s.Line, "apt refuses to work: configuration files include each other more than 10 deep", true)
				r.confStop = true // apt gives up at once
				return
			case len(s.Value) > 2 && strings.HasSuffix(s.Value, "/"):
				r.configDir(s.Value, depth+1)
			case r.isFile(s.Value):
				r.configFile(s.Value, depth+1)
			default:
				r.Problem(name, s.Line, fmt.Sprintf("apt refuses to work: the included file %s cannot be read", s.Value), true)
				return
			}
		}
	}
	var bad *aptconf.Error
	if errors.As(err, &bad) {
		r.Problem(name, bad.Line, "apt refuses to work: "+bad.Message, true)
		if depth > 0 && len(statements) == 0 { // it may be any file on the host that is included here
			delete(r.Texts, name)
		}
	}
}

// access lists the logins that apt would use, auth.conf(5); never the passwords.
func (r *reader) access() {
	var files []string
	if main := r.conf.File("Dir::Etc::netrc"); r.isFile(main) {
		files = append(files, main)
	}
	files = append(files, r.partFiles(r.conf.File("Dir::Etc::netrcparts"), "conf")...)
	for _, name := range files {
		text, err := r.root.ReadText(name)
		if err != nil {
			r.Problem(name, 0, "cannot be read: "+family.Plain(err), false)
			continue
		}
		mode := ""
		if info, err := r.root.Stat(name); err == nil {
			mode = fmt.Sprintf("%04o", info.Mode().Perm())
		}
		for _, m := range logins(text) {
			r.Access = append(r.Access, source.Access{Kind: "basic", Where: name, For: m.machine, Identity: m.login, Mode: mode})
		}
	}
}

type login struct{ machine, login string }

// logins reads the machines of a netrc file with their logins. Passwords are
// passed over and not kept.
func logins(text []byte) (out []login) {
	expect := ""
	for _, token := range strings.Fields(string(text)) {
		switch expect {
		case "machine":
			out = append(out, login{machine: family.MaskURL(token)})
			expect = ""
			continue
		case "login":
			out[len(out)-1].login = token
			expect = ""
			continue
		case "password":
			expect = ""
			continue
		}
		if token == "machine" || len(out) > 0 && (token == "login" || token == "password") {
			expect = token
		}
	}
	return out
}
