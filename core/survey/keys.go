package survey

import (
	"io/fs"
	"path"
	"strings"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/family/arch"
	"patientlantern.example/lantern/core/family/rpm"
	"patientlantern.example/lantern/core/family/zypp"
	"patientlantern.example/lantern/core/keyring"
	"patientlantern.example/lantern/core/source"
)

func (r *reader) addKeys(list []source.Key, where, scope string) {
	for _, k := range list {
		k.Where, k.Scope = where, scope
		r.Survey.Keys = append(r.Survey.Keys, k)
	}
}

// rpmKeys reads the keys that rpm trusts: packages named gpg-pubkey, of which
// the description is the key.
func (r *reader) rpmKeys() {
	for _, p := range r.find("Name", "gpg-pubkey") {
		list, err := keyring.Read([]byte(p.Description()))
		if err != nil {
			r.problem(rpm.Family, r.rpm.Path, "the key gpg-pubkey-"+p.Version()+" cannot be understood: "+err.Error())
			continue
		}
		r.addKeys(list, r.rpm.Path, source.ScopeAny)
	}
}

// pacmanKeys reads pacman's keyring, in the form of either age of gpg.
func (r *reader) pacmanKeys(dir string) {
	for _, name := range []string{"pubring.kbx", "pubring.gpg"} {
		file := path.Join(dir, name)
		data, err := r.root.ReadFile(file)
		if err != nil || len(data) == 0 {
			if info, statErr := r.root.Stat(file); err != nil && statErr == nil && info.Mode()&fs.ModeType == 0 {
				r.problem(arch.Family, file, "the keyring cannot be read: "+family.Plain(err))
			}
			continue
		}
		list, err := keyring.Read(data)
		if err != nil {
			r.problem(arch.Family, file, "the keyring cannot be understood: "+err.Error())
			continue
		}
		r.addKeys(list, file, source.ScopeAny)
	}
}

// namedKeys reads the key files on this host that sources of dnf and zypper name.
// They are asked for before rpm trusts them.
func (r *reader) namedKeys() {
	type named struct {
		source *source.Source
		file   string
	}
	seen := map[string]bool{}
	var files []named
	var texts [][]byte
	trouble := func(s *source.Source, name string, err error) {
		if s.Enabled {
			r.problem(s.Family, name, "the key file that "+s.ID+" names cannot be read: "+family.Plain(err))
		}
	}
	for i := range r.Survey.Sources {
		s := &r.Survey.Sources[i]
		if s.Family != rpm.Family && s.Family != zypp.Family {
			continue
		}
		for _, by := range s.SignedBy {
			name, ok := strings.CutPrefix(by, "file:")
			if !ok && !strings.HasPrefix(by, "/") {
				continue
			}
			if rest, ok := strings.CutPrefix(name, "//"); ok {
				name = rest
			}
			if name = path.Clean("/" + name); seen[name] {
				continue
			}
			seen[name] = true
			data, err := r.root.ReadText(name)
			if err != nil {
				trouble(s, name, err)
				continue
			}
			files, texts = append(files, named{s, name}), append(texts, data)
			if info, err := r.root.Stat(name); err == nil {
				family.KeepPublic(r.Texts, r.Modes, info, name, data)
			}
		}
	}
	for i, got := range keyring.ReadAll(texts) {
		if got.Err != nil {
			trouble(files[i].source, files[i].file, got.Err)
			continue
		}
		r.addKeys(got.Keys, files[i].file, source.ScopeNamed)
	}
}
