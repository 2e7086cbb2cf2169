package standin

import (
	"archive/tar"
	"bytes"
	"fmt"
	"time"
)

// PacmanRepository is a database of packages, as pacman reads it.
type PacmanRepository struct {
	Base     string   // path below the server's root
	Names    []string // under which it may be asked for: pacman asks for NAME.db
	Arch     string
	Packages []Package
	Key      *Key // nil: the database is not signed; its packages would be
}

// Build writes the database: path → content.
func (r PacmanRepository) Build(at time.Time) (map[string][]byte, error) {
	var plain bytes.Buffer
	w := tar.NewWriter(&plain)
	for _, p := range r.Packages {
		dir := p.Name + "-" + p.Version + "/"
		desc := fmt.Sprintf(
			"%%FILENAME%%\n%[1]s-%[2]s-%[3]s.pkg.tar.zst\n\n%%NAME%%\n%[1]s\n\n%%BASE%%\n%[1]s\n\n%%VERSION%%\n%[2]s\n\n"+
				"%%DESC%%\n%[4]s\n\n%%CSIZE%%\n1024\n\n%%ISIZE%%\n2048\n\n%%ARCH%%\n%[3]s\n\n%%BUILDDATE%%\n%[5]d\n\n",
			p.Name,
			p.Version,
			r.Arch,
			p.Summary,
			at.Unix(),
		)
		for _, h := range []*tar.Header{
			{Name: dir, Typeflag: tar.TypeDir, Mode: 0o755, ModTime: at},
			{Name: dir + "desc", Typeflag: tar.TypeReg, Mode: 0o644, Size: int64(len(desc)), ModTime: at},
		} {
			if err := w.WriteHeader(h); err != nil {
				return nil, err
			}
		}
		if _, err := w.Write([]byte(desc)); err != nil {
			return nil, err
		}
	}
	if err := w.Close(); err != nil {
		return nil, err
	}
	db, err := gzipped(plain.Bytes())
	if err != nil {
		return nil, err
	}
	out := map[string][]byte{}
	for _, n := range r.Names {
		out[r.Base+"/"+n+".db"] = db
		if r.Key == nil {
			continue
		}
		if out[r.Base+"/"+n+".db.sig"], err = r.Key.BinarySign(db, at); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// PacmanRepositories are the pacman repositories of the scenario.
func PacmanRepositories(keys map[string]*Key) []PacmanRepository {
	var out []PacmanRepository
	for _, choice := range []string{"licensed", "open"} {
		out = append(
			out,
			PacmanRepository{
				Base:     "/arch.gannet.example/" + choice + "/x86_64",
				Names:    []string{"gannet-" + choice},
				Arch:     "x86_64",
				Key:      keys["gannet-2025"],
				Packages: []Package{{"gannet-hypervisor", gannetVersion(choice), "virtual machines"}},
			},
		)
	}
	for _, mirror := range []string{"/north.fulmar.example", "/south.fulmar.example"} {
		out = append(out, PacmanRepository{Base: mirror + "/v3", Names: []string{"fulmar"}, Arch: "x86_64_v3", Key: keys["fulmar-2025"],
			Packages: []Package{
				{"driftwood-base", "2026.11-1.1", "base files of Driftwood, built for newer processors"},
				{"fulmar-kernel", "6.12.4-1", "kernel for newer processors"},
			}})
	}
	return append(
		out,
		PacmanRepository{Base: "/archive.driftwood.example/driftwood/os/x86_64", Names: []string{"driftwood"}, Arch: "x86_64",
			Packages: []Package{{"driftwood-base", "2026.11-1", "base files of Driftwood"}}},
	)
}
