package flatpak

import (
	"encoding/base64"
	"errors"
	"io/fs"
	"path"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/keyring"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/text/ini"
)

// parts reads the definitions that become remotes the next time flatpak looks.
func (r *reader) parts() {
	entries, err := r.root.ReadDir(PartDir)
	if err != nil {
		if !errors.Is(err, fs.ErrNotExist) {
			r.Problem(PartDir, 0, "cannot be listed: "+family.Plain(err), false)
		}
		return
	}
	for _, e := range entries {
		name := path.Join(PartDir, e.Name())
		info, err := r.root.Stat(name)
		id, isPart := strings.CutSuffix(e.Name(), partExt)
		if err != nil || !info.Mode().IsRegular() {
			continue
		}
		off := ""
		switch {
		case !isPart && e.Name()[0] != '.' && strings.Contains(e.Name(), partExt):
			id, _, _ = strings.Cut(e.Name(), partExt)
			off = source.OffByFilename
		case !isPart:
			continue
		case r.remotes[id]:
			off = source.OffByDuplicate
		case slices.Contains(r.applied, id):
			off = source.OffAsInvalid // it was a remote before, and somebody deleted it
		}
		r.part(name, id, off)
	}
}

func (r *reader) part(name, id, off string) {
	problems := len(r.Problems)
	if off != "" {
		defer func() { r.Problems = r.Problems[:problems] }()
	}
	text, info, err := r.root.ReadTextInfo(name)
	if err != nil {
		r.refuse(name, 0, "the file cannot be read: %s", family.Plain(err))
		return
	}
	if off == "" || off == source.OffByDuplicate {
		r.Keep(info, name, text)
	}
	f := ini.ParseKeyFile(text)
	if f.Err != nil {
		r.refuse(name, f.Err.Line, "%s", f.Err.Message)
		return
	}
	_, all := r.groups(f)
	g := all[partGroup]
	if g == nil {
		r.refuse(name, 0, "there is no group [%s]", partGroup)
		return
	}
	u, ok := g.text("Url")
	if !ok {
		r.refuse(name, g.line, "there is no Url")
		return
	}
	if v, ok := g.text("Version"); ok && v != "1" {
		r.refuse(name, g.lines["Version"], "Version must be 1, it is %q", v)
		return
	}
	s := source.Source{
		Family:  Family,
		File:    name,
		Line:    g.line,
		ID:      id,
		Enabled: true,
		Kinds:   []string{"binary"},
		Options: map[string]string{},
	}
	s.Name, _ = g.text("Title")
	if name, localised := g.text("Title[C]"); localised && !r.strict {
		s.Name = name
	}
	if u != "" {
		s.URLs = []string{family.MaskURL(u)}
	} else {
		s.Enabled, s.DisabledBy = false, source.OffByFlag
	}
	key, verified := g.text("GPGKey")
	s.Checks = source.Checks{Packages: check(verified), Metadata: check(verified)}
	if verified && !r.embedded(&s, key, name, g.lines["GPGKey"], off) {
		return
	}
	for _, k := range []string{"DeploySideloadCollectionID", "DeployCollectionID", "CollectionID"} {
		if v, _ := g.text(k); v != "" && !verified {
			r.refuse(name, g.lines[k], "%s needs a GPGKey", k)
			return
		}
	}
	for _, k := range g.keys {
		switch k {
		case "Url", "Title", "GPGKey":
		default:
			v, _ := g.text(k)
			s.Options[k] = family.Option(k, v)
		}
	}
	priority := defaultPriority
	s.Priority = &priority
	if off != "" {
		s.Enabled, s.DisabledBy = false, off
	} else {
		r.LoginInURL(r.root, name, u)
	}
	r.finish(&s)
}

// embedded reads the key that a definition carries.
func (r *reader) embedded(s *source.Source, key, name string, line int, off string) bool {
	data := decode(key)
	if len(data) < 10 {
		r.refuse(name, line, "GPGKey is not a key in base64")
		return false
	}
	keys, err := keyring.Read(data, family.KeysAt(r.root))
	if err != nil {
		r.Problem(name, line, "the GPGKey cannot be understood: "+err.Error(), false)
	}
	var fingerprints []string
	for _, k := range keys {
		fingerprints = append(fingerprints, k.Fingerprint)
	}
	s.SignedBy = []string{"embedded:" + strings.Join(fingerprints, ",")}
	if off == "" {
		r.add(keys, name, s.Enabled)
	}
	return true
}

// decode reads base64 as GLib does: what is none of its letters is passed over,
// and letters that fill no group of four are lost.
func decode(text string) []byte {
	var letters []byte
	for _, c := range []byte(text) {
		if c == '+' || c == '/' || c == '=' || c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' {
			letters = append(letters, c)
		}
	}
	out, _ := base64.StdEncoding.DecodeString(string(letters[:len(letters)&^3]))
	return out
}
