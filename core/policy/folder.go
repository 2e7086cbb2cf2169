package policy

import (
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/diag"
)

// Folder is the content of a policy folder: slash-separated name → bytes.
type Folder map[string][]byte

// extensions are those of files that a policy is made of.
var extensions = []string{".yaml", ".yml", ".asc", ".gpg", ".pgp", ".pem"}

// leftOut says why something is no part of the policy that looks like one; empty where it does not.
func leftOut(fsys fs.FS, name string, d fs.DirEntry) string {
	looks := slices.Contains(extensions, strings.ToLower(path.Ext(name)))
	switch {
	case d.Type()&fs.ModeSymlink != 0:
		to, err := fs.Stat(fsys, name)
		if looks || err == nil && to.IsDir() {
			return "a link, which is not followed"
		}
	case !d.Type().IsRegular() && looks:
		return "no file to be read"
	case looks && !slices.Contains(extensions, path.Ext(name)):
		return "its name ends in " + path.Ext(name) + ", and a policy's files in small letters"
	}
	return ""
}

// Collect reads the policy files and key files of a folder. Hidden files and
// folders are left out, symbolic links are not followed. Of what looks like a part of the policy and is none it is said.
func Collect(fsys fs.FS) (Folder, []diag.Diagnostic) {
	out := Folder{}
	var bad []diag.Diagnostic
	total := int64(0)
	refuse := func(code, name, msg, remedy string) {
		bad = append(bad, diag.Diagnostic{Code: code, Severity: diag.Error, Pos: diag.Pos{File: name}, Message: msg, Remedy: remedy})
	}
	err := fs.WalkDir(fsys, ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if name != "." && d.Name()[0] == '.' {
			if d.IsDir() {
				return fs.SkipDir
			}
			return nil
		}
		if d.IsDir() {
			return nil
		}
		if why := leftOut(fsys, name, d); why != "" {
			bad = append(bad, diag.Diagnostic{
				Code: "left-out", Severity: diag.Warning, Pos: diag.Pos{File: name}, Message: "it is no part of the policy: " + why,
				Remedy: "put the file itself there, or give it another name",
			})
			return nil
		}
		if !d.Type().IsRegular() || !slices.Contains(extensions, path.Ext(name)) {
			return nil
		}
		info, err := d.Info()
		if err != nil {
			return err
		}
		if info.Size() <= MaxFile {
			total += info.Size()
		}
		if info.Size() > MaxFile || total > MaxFolder {
			refuse(
				"size",
				name,
				fmt.Sprintf(
					"the file has %d bytes; a policy file may have %d MiB, a folder %d MiB",
					info.Size(),
					MaxFile>>20,
					MaxFolder>>20,
				),
				"split it, or move what is no policy elsewhere",
			)
			return nil
		}
		data, err := fs.ReadFile(fsys, name)
		if err != nil {
			return err
		}
		out[name] = data
		return nil
	})
	if err != nil {
		var pe *fs.PathError
		if errors.As(err, &pe) {
			refuse("nothing-read", pe.Path, "cannot be read: "+pe.Err.Error(), "check the path and its permissions")
		} else {
			refuse("nothing-read", ".", err.Error(), "")
		}
	}
	return out, bad
}
