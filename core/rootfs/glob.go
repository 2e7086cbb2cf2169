package rootfs

import (
	"path"
	"slices"
	"strings"
)

// Glob lists the paths that a pattern of glob(7) matches, sorted by bytes: *, ?
// and [...] match within one part of a path, none matches a leading dot, and a
// backslash takes the meaning off the next character. A pattern without any of
// them is returned as it is when the file is there.
func (r *FS) Glob(pattern string) []string {
	if pattern == "" {
		return nil
	}
	at := []string{""}
	if strings.HasPrefix(pattern, "/") {
		at = []string{"/"}
	}
	parts := strings.Split(strings.Trim(pattern, "/"), "/")
	for i, part := range parts {
		if part == "" {
			continue
		}
		last := i == len(parts)-1
		var next []string
		for _, dir := range at {
			if len(next) > MostEntries {
				r.cutPattern(pattern) // one that matches more is none that anybody wrote for sources
				break
			}
			if !strings.ContainsAny(part, `*?[\`) {
				if name := dir + part; !last || r.exists(name) {
					next = append(next, name)
				}
				continue
			}
			entries, err := r.ReadDir("/" + dir)
			if err != nil {
				continue
			}
			for _, e := range entries {
				if n := e.Name(); (n[0] != '.' || part[0] == '.') && match(part, n) {
					next = append(next, dir+n)
				}
			}
		}
		if at = next; !last {
			for i := range at {
				at[i] += "/"
			}
		}
	}
	if strings.HasSuffix(pattern, "/") && len(pattern) > 1 { // folders alone
		at = slices.DeleteFunc(at, func(name string) bool {
			info, err := r.Stat(name)
			return err != nil || !info.IsDir()
		})
	}
	slices.Sort(at)
	return at
}

func (r *FS) exists(name string) bool {
	_, err := r.Stat("/" + name)
	return err == nil
}

// match is path.Match with the shell's [!...] beside [^...].
func match(pattern, name string) bool {
	pattern = strings.ReplaceAll(pattern, "[!", "[^")
	ok, err := path.Match(pattern, name)
	return err == nil && ok
}
