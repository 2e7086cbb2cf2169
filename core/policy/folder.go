package policy

import (
	"errors"
	"fmt"
	"io/fs"
	"path"

	"patientlantern.example/lantern/core/diag"
)

// Folder is the content of a policy folder: slash-separated name → bytes.
type Folder map[string][]byte

// Collect reads the policy files and key files of a folder. Hidden files and
// folders are left out, symbolic links are not followed.
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
		if !d.Type().IsRegular() {
			return nil
		}
		ext := path.Ext(name)
		if ext != ".yaml" && ext != ".yml" && ext != ".asc" && ext != ".gpg" && ext != ".pgp" && ext != ".pem" {
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
