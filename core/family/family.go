// Package family holds what the readers of all package managers share: the form
// of their answer, and how secrets are hidden in it.
package family

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strconv"
	"strings"

	"patientlantern.example/lantern/core/keyring"
	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/source"
)

// Host is what a reader is told of the host besides its files.
type Host struct {
	Arch          string   // the kernel's word; empty where it cannot be told
	Architectures []string // the family's words, native first
	Release       string   // of the distribution, as the package that provides it says
	OSRelease     string   // VERSION_ID of os-release
	Level         int      // of an x86-64 processor; 0 where it is not known
	DNF5          string   // version of the package dnf5; empty where it is not known
}

// Reading is what a reader found on a root.
type Reading struct {
	Family        string
	Sources       []source.Source
	Keys          []source.Key
	Access        []source.Access
	Settings      []source.Setting
	Pins          []source.Pin
	Holds         []source.Hold
	Services      []source.Service
	Deciding      []source.Deciding // what stands beside the package manager's own configuration
	Problems      []source.Problem
	Architectures []string          // the family's words, where its configuration says
	said          map[string]bool   // what is said once
	modes         map[string]string // of files that hold logins
	variables     []variable
	used          map[string]string // what becomes of variables, by their names
	expanded      int               // bytes that variables came to
	decided       int               // bytes of lines of Deciding
	Texts         map[string][]byte // source file → its bytes, secrets and all
	Modes         map[string]fs.FileMode
	Programs      []string // files of Texts that say which programs run
	Loose         []string // files of Deciding that count where no package owns them
	Vouch         []string // files and folders of certificates that vouch for servers
	Database      string   // pacman: where it keeps what is installed
	Keyring       string   // pacman: where it keeps its keys
}

// Begin returns an empty reading of a family.
func Begin(name string) Reading {
	return Reading{Family: name, Texts: map[string][]byte{}, Modes: map[string]fs.FileMode{}, used: map[string]string{}}
}

// MostSources is how many sources of one family are told.
const MostSources = 8_000

// Full reports whether no more sources are told, and says so once.
func (r *Reading) Full(file string, line int) bool {
	if len(r.Sources) < MostSources {
		return false
	}
	r.once(file, line, fmt.Sprintf("more than %d sources are configured: those from here on are not told", MostSources))
	return true
}

// once notes something that could not be understood or was left out, one time.
func (r *Reading) once(file string, line int, message string) {
	if r.said[message] {
		return
	}
	if r.said == nil {
		r.said = map[string]bool{}
	}
	r.said[message] = true
	r.Unread(file, line, message)
}

// most is how many settings, pins and holds of one family are told.
const most = 4_000

// Crowded reports whether no more of some things are told, and says so once.
func (r *Reading) Crowded(n int, what, file string, line int) bool {
	if n < most {
		return false
	}
	r.once(file, line, fmt.Sprintf("there are more than %d %s: those from here on are not told", most, what))
	return true
}

// What variables may come to, in bytes: a value, and all values of a root together.
const (
	MostExpanded  = 64 << 10
	allExpansions = 16 << 20
)

// Expanding reports whether a text may be put together out of n bytes, and says once when no
// more may.
func (r *Reading) Expanding(n int, file string, line int) bool {
	r.expanded += n
	if n <= MostExpanded && r.expanded <= allExpansions {
		return true
	}
	r.once(file, line, "variables come to more than is told of a root: values from here on may stand as they are written")
	return false
}

// Problem notes something that could not be understood.
func (r *Reading) Problem(file string, line int, message string, fatal bool) {
	r.Problems = append(
		r.Problems,
		source.Problem{Family: r.Family, File: file, Line: line, Message: Plainly(message), Fatal: fatal},
	)
}

// Unread notes what was not read, or not to its end.
func (r *Reading) Unread(file string, line int, message string) {
	r.Problem(file, line, message, false)
	r.Problems[len(r.Problems)-1].Unread = true
}

// Keep notes the text of a source file, and how it stands on the host.
func (r *Reading) Keep(info fs.FileInfo, name string, text []byte) {
	r.Texts[name], r.Modes[name] = text, info.Mode().Perm()
}

// hook is how a hook, or what says which plugin runs, is read.
var hook = Deciding{Comment: "#;", Touches: Program}

// KeepPrograms notes the files of a folder that say which programs run.
func (r *Reading) KeepPrograms(root *rootfs.FS, dir, suffix string) {
	entries, err := root.ReadDir(dir)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		r.Problem(dir, 0, "cannot be listed: "+Plain(err), false)
	}
	for _, e := range entries {
		if !strings.HasSuffix(e.Name(), suffix) {
			continue
		}
		name := path.Join(dir, e.Name())
		text, info, err := root.ReadTextInfo(name)
		switch {
		case err == nil && info.Mode().IsRegular():
			r.Keep(info, name, text)
			r.Programs = append(r.Programs, name)
			r.told(&hook, name, text)
		case err != nil && !errors.Is(err, fs.ErrNotExist): // a link to nowhere, as to /dev/null, takes one away
			r.Problem(name, 0, "cannot be read: "+Plain(err), false)
		}
	}
}

// System is where the system's own packages keep what runs with a package manager. What
// stands there and belongs to no package was put there by somebody.
const System = "/usr/"

// mostProgram bounds a program that is kept as it stands, in bytes; of a larger one the
// digest is.
const mostProgram = 64 << 10

// KeepSystem notes the programs of a folder below /usr that a package manager runs of
// itself, down to a depth.
func (r *Reading) KeepSystem(root *rootfs.FS, dir string, depth int, suffixes ...string) {
	entries, err := root.ReadDir(dir)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		r.Problem(dir, 0, "cannot be listed: "+Plain(err), false)
	}
	for _, e := range entries {
		name := path.Join(dir, e.Name())
		if e.IsDir() && depth > 0 {
			r.KeepSystem(root, name, depth-1, suffixes...)
			continue
		}
		if e.IsDir() || len(suffixes) > 0 && !slices.Contains(suffixes, path.Ext(e.Name())) {
			continue
		}
		text, info, err := root.ReadTextInfo(name)
		switch {
		case err == nil && info.Mode().IsRegular():
			if len(text) > mostProgram || bytes.IndexByte(text, 0) >= 0 {
				text = []byte("SHA-256 " + source.Digest(text) + "\n")
			}
			r.Keep(info, name, text)
			r.Programs = append(r.Programs, name)
		case err != nil && !errors.Is(err, fs.ErrNotExist):
			r.Problem(name, 0, "cannot be read: "+Plain(err), false)
		}
	}
}

// mostPublic bounds a key or certificate that is kept whole, in bytes.
const mostPublic = 256 << 10

// WhoeverReads says what a private key in a key file means.
const WhoeverReads = "whoever reads it can sign as its owner; export the public one alone"

// KeepKeys notes the text of a key file, which a policy can own like a source file: MaskText hides what is private in
// it. What is no key file at all, and is only called one, is left where it is.
func KeepKeys(texts map[string][]byte, modes map[string]fs.FileMode, info fs.FileInfo, name string, text []byte, got *keyring.Result) {
	if len(text) <= mostPublic && (len(got.Keys) > 0 || bytes.Contains(text, []byte("-----BEGIN PGP "))) {
		texts[name], modes[name] = text, info.Mode().Perm()
	}
}

// KeepCertificates notes the text of a file of certificates, which a policy can own likewise. What is none, or holds
// anything private, is left where it is.
func KeepCertificates(texts map[string][]byte, modes map[string]fs.FileMode, info fs.FileInfo, name string, text []byte) {
	if len(text) <= mostPublic && bytes.Contains(text, []byte("-----BEGIN ")) && !bytes.Contains(text, private) {
		texts[name], modes[name] = text, info.Mode().Perm()
	}
}

// Variables hands the regular files of a folder of variables to take, by name; a
// variable is called like its file.
func (r *Reading) Variables(root *rootfs.FS, dir string, take func(name, file string, text []byte)) {
	entries, err := root.ReadDir(dir)
	if err != nil {
		return
	}
	for _, e := range entries {
		file := path.Join(dir, e.Name())
		if info, err := root.Stat(file); err != nil || !info.Mode().IsRegular() {
			continue
		}
		text, info, err := root.ReadTextInfo(file)
		if err != nil {
			r.Problem(file, 0, "cannot be read: "+Plain(err), false)
			continue
		}
		if secretWord(e.Name()) { // the value must not come up wherever it is put in
			text = []byte(Hidden)
		} else if !strings.HasPrefix(e.Name(), ours) && bytes.IndexByte(text, 0) < 0 && !bytes.Contains(text, private) {
			r.variables = append(r.variables, variable{e.Name(), file, text, info})
		}
		take(e.Name(), file, text)
	}
}

// PutIn is a text with variables put in by the rules of Expand, and which they are. A text that would come to too much stays.
func (r *Reading) PutIn(text string, vars map[string]string) (out string, names map[string]string) {
	if !strings.Contains(text, "$") {
		return text, nil
	}
	names = map[string]string{}
	out = Expand(text, func(name string) (string, bool) {
		value, ok := vars[name]
		if ok {
			names[name] = value
		}
		return value, ok
	})
	if !r.Expanding(len(out), "", 0) {
		return text, nil
	}
	return out, names
}

// Uses notes that variables were put into a text. What stands where a secret does is nobody's to read: it is told of none of them
// whose value masking takes out of the text.
func (r *Reading) Uses(names map[string]string, text string) {
	if len(names) == 0 {
		return
	}
	masked := string(MaskText([]byte(text)))
	for name, value := range names {
		if value != "" && strings.Count(masked, value) < strings.Count(text, value) {
			r.used[name] = holdsSecret
		} else if r.used[name] == "" {
			r.used[name] = putIn
		}
	}
}

// What becomes of a variable.
const (
	putIn       = "put in"
	holdsSecret = "holds a secret"
)

// variable is one that stands in a file of its own.
type variable struct {
	name, file string
	text       []byte
	info       fs.FileInfo
}

// valueOf is the value of a variable, which goes to the first of some bytes, as far as a line shows it: blanks around it count.
func valueOf(text []byte, ends string) []string {
	line := string(MaskText(text))
	if i := strings.IndexAny(line, ends); i >= 0 {
		line = line[:i]
	}
	if line == "" {
		return nil
	}
	plain := shortly(Plainly(strings.ToValidUTF8(line, "\ufffd")))
	if strings.Join(strings.Fields(plain), " ") != plain {
		plain = strconv.Quote(plain)
	}
	return []string{plain}
}

// DecideVariables notes what stands in the files of variables, once it is known which of them were put in somewhere. Of the others it
// only notes that they are there: what they say is each host's own. A value goes to the first of the bytes ends.
func (r *Reading) DecideVariables(ends string) {
	value := func(text []byte, _ []string) []string { return valueOf(text, ends) }
	for _, v := range r.variables {
		switch r.used[v.name] {
		case holdsSecret:
		case putIn:
			r.Keep(v.info, v.file, v.text)
			r.told(&Deciding{Touches: Origin, All: value, Since: source.Variables, Stays: strings.HasPrefix(v.file, "/usr/")}, v.file, v.text)
		default:
			if r.Crowded(len(r.Deciding), "files that decide beside the configuration", v.file, 0) {
				return
			}
			r.Deciding = append(r.Deciding, source.Deciding{Family: r.Family, File: v.file, Lines: []string{}, Touches: Origin,
				Since: source.Variables, Unused: true})
		}
	}
}

// Refused reports whether the package manager refuses to work.
func (r *Reading) Refused() bool {
	for i := range r.Problems {
		if r.Problems[i].Fatal {
			return true
		}
	}
	return false
}

// Plain takes the path off a file error: a Problem names it already.
func Plain(err error) string {
	var pe *fs.PathError
	if errors.As(err, &pe) {
		return pe.Err.Error()
	}
	return err.Error()
}

// Hidden stands in a survey where a secret stands on the host.
const Hidden = "***"

// Option returns an option's value as a survey may hold it.
func Option(key, value string) string {
	if value != "" && SecretKey(key) {
		return Hidden
	}
	return Plainly(value)
}

// Tidy makes the lists of a Source that are missing empty ones, and hides what
// stands where nobody expects a URL.
func Tidy(s *source.Source) {
	s.ID, s.Name = Plainly(s.ID), Plainly(s.Name)
	s.Mirrorlist, s.Metalink = Plainly(s.Mirrorlist), Plainly(s.Metalink)
	for key, value := range s.Options {
		if masked := Plainly(key); masked != key {
			delete(s.Options, key)
			s.Options[masked] = value
		}
	}
	for _, list := range []*[]string{
		&s.Kinds,
		&s.URLs,
		&s.EffURLs,
		&s.Suites,
		&s.Components,
		&s.Archs,
		&s.EffSuites,
		&s.EffArchs,
		&s.SignedBy,
	} {
		*list = source.Strings(*list)
		for i, text := range *list {
			shown := Plainly(text)
			if i > 0 && SaysSecret((*list)[i-1]) {
				shown = Hidden
			}
			if shown != text {
				(*list)[i] = shown
			}
		}
	}
}

// Head is what stands at the top of every source file that the policy owns.
const Head = "# Patient Lantern writes this file from the team's policy. An edit made here is\n" +
	"# found as drift; change the policy instead.\n"

// TokenMark stands in a URL that is being rendered where a token goes.
const TokenMark = "{access-token}"

// Variable is the name of the variable that holds a part of an account's access.
func Variable(account, what string) string {
	return ours + strings.ReplaceAll(account, "-", "_") + "_" + what
}

// ours is how the names of variables begin that hold access.
const ours = "lantern_"

// Token puts a variable where the token goes in a URL: as it is written to a file, and
// as a survey shows it.
func Token(url, variable string) (written, shown string) {
	return strings.ReplaceAll(url, TokenMark, "$"+variable), strings.ReplaceAll(url, TokenMark, Hidden)
}

// SigningKey is a key that a rendered source trusts.
type SigningKey struct{ Name, Fingerprint, Armored string }
