package survey

import (
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/source"
)

// vouching notes who is in the files and folders of certificates that are named to vouch for servers: by a source, by a
// setting, by the environment or by the command that fetches. What it decides is theirs who are in it, and the name of
// the file says nothing of them.
func (r *reader) vouching() {
	named := map[string]bool{}
	note := func(file string) {
		if file != "" {
			named[path.Clean("/"+file)] = true
		}
	}
	for _, file := range r.vouch {
		note(file)
	}
	for i := range r.Survey.Sources {
		if s := &r.Survey.Sources[i]; s.Family == source.FamilyZypp {
			for _, u := range slices.Concat(s.EffURLs, []string{s.Mirrorlist, s.Metalink}) {
				r.asked(u, s.ID, s.File, s.Line, note)
			}
		}
	}
	for i := range r.Survey.Services {
		s := &r.Survey.Services[i]
		r.asked(s.URL, s.ID, s.File, s.Line, note)
	}
	for i := range r.Survey.Settings {
		if t := &r.Survey.Settings[i]; slices.Contains(t.Touches, source.TouchesProgram) {
			forWords(shellWords(t.Value), note)
		}
	}
	for i := range r.Survey.Deciding {
		for _, line := range r.Survey.Deciding[i].Lines {
			if name, value, is := strings.Cut(line, "="); is && slices.Contains(vouchVariables, strings.ToUpper(name)) {
				note(value)
			}
		}
	}
	files, told := make([]string, 0, len(named)), slices.Concat(anchors, source.Bundles)
	for file := range named {
		if !slices.ContainsFunc(told, func(own string) bool { return within(file, own) }) {
			files = append(files, file)
		}
	}
	slices.Sort(files)
	for _, file := range files[:min(len(files), mostVouching)] {
		r.looksInto(file)
	}
	if n := len(files) - mostVouching; n > 0 {
		r.unread("", files[mostVouching], fmt.Sprintf("%d more files that vouch for servers are not looked into", n))
	}
	r.system()
}

// mostVouching is how many files and folders that vouch for servers are looked into.
const mostVouching = 200

// vouchVariables name files and folders of certificates to the libraries and programs that package managers fetch with.
var vouchVariables = []string{"SSL_CERT_FILE", "SSL_CERT_DIR", "CURL_CA_BUNDLE", "REQUESTS_CA_BUNDLE"}

// asked notes what an address of zypper names: who vouches for its server, and the certificate it logs in with.
func (r *reader) asked(address, id, file string, line int, note func(string)) {
	if name, said := source.Query(address, "ssl_capath"); said {
		note(name)
	}
	if name, _ := source.Query(address, "ssl_clientcert"); name != "" {
		found := family.Begin(source.FamilyZypp)
		found.Certificate(r.root, name, id, file, line)
		r.add(found)
	}
}

// forWords notes the files that the words of a command that fetches name: curl(1) and wget(1).
func forWords(words []string, note func(string)) {
	for i, w := range words {
		option, value, joined := strings.Cut(w, "=")
		if !slices.Contains([]string{"--cacert", "--capath", "--proxy-cacert", "--ca-certificate", "--ca-directory"}, option) {
			continue
		}
		if !joined && i+1 < len(words) {
			value = words[i+1]
		}
		note(value)
	}
}

// vouchers are those who are in a file or folder that is looked at because something names or needs it.
func vouchers(name string, lines []string) source.Deciding {
	return source.Deciding{
		File: name, Lines: lines, Touches: family.Both(family.Trust, family.Transport), Since: source.Vouching, Named: true, Stays: true,
	}
}

// looksInto notes who is in a file, or in the files of a folder.
func (r *reader) looksInto(name string) {
	d := vouchers(name, []string{})
	info, err := r.root.Stat(name)
	switch {
	case err == nil && info.IsDir():
		entries, err := r.root.ReadDir(name)
		if err != nil {
			r.problem("", name, "cannot be listed: "+family.Plain(err))
		}
		for _, e := range entries {
			if at := path.Join(name, e.Name()); !e.IsDir() {
				for _, who := range r.whoIsIn(at) {
					d.Lines = append(d.Lines, e.Name()+": "+who)
				}
			}
		}
	case err == nil && info.Mode().IsRegular():
		d.Lines = append(d.Lines, r.whoIsIn(name)...)
	case err != nil && !errors.Is(err, fs.ErrNotExist):
		r.problem("", name, "cannot be read: "+family.Plain(err))
	}
	d.Lines = family.Fewer(d.Lines)
	r.Survey.Deciding = append(r.Survey.Deciding, d)
}

// whoIsIn names those for whom there is a certificate in a file. Of a file without any, which is only called one, it
// says no more than whether it changes.
func (r *reader) whoIsIn(name string) []string {
	text, info, err := r.root.ReadTextInfo(name)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil
	case err != nil:
		r.problem("", name, "cannot be read: "+family.Plain(err))
		return nil
	case !info.Mode().IsRegular():
		return nil
	}
	if found := family.Vouchers(text); len(found) > 0 || len(text) == 0 {
		return found
	}
	if len(r.salt()) == 0 {
		return []string{"no certificate, " + family.Hidden}
	}
	return []string{"no certificate, " + hidden(r.salt(), name, text)}
}
