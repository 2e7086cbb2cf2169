package origin

import (
	"bytes"
	"errors"
	"io/fs"
	"path"

	"patientlantern.example/lantern/core/rootfs"
)

const flatpakDir = "/var/lib/flatpak"

// remotes reads flatpak's deployments, system-wide.
type remotes struct{ root *rootfs.FS }

// from looks at …/KIND/NAME/ARCH/BRANCH/active/deploy. It is a GVariant whose first field is
// the origin, ended by a zero.
func (r remotes) from(id string) (out []piece, err error) {
	for _, kind := range []string{"app", "runtime"} {
		names, err := r.root.ReadDir(path.Join(flatpakDir, kind))
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return nil, err
		}
		for _, e := range names {
			for _, file := range r.root.Glob(path.Join(flatpakDir, kind, e.Name(), "*", "*", "active", "deploy")) {
				data, err := r.root.ReadFile(file)
				if err != nil {
					return nil, err
				}
				origin, _, _ := bytes.Cut(data, []byte{0})
				if string(origin) != id {
					continue
				}
				p := piece{name: e.Name()}
				if info, err := r.root.Stat(file); err == nil {
					p.at = info.ModTime()
				}
				out = append(out, p)
			}
		}
	}
	return out, nil
}
