package survey

import (
	"errors"
	"io/fs"
	"strings"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/source"
)

// behind says once of what stands in the place of a folder, or of links that lead to none, what each reader found that wanted something
// below it.
func (r *reader) behind() {
	kept, said := r.Survey.Problems[:0], map[string]int{}
	for _, p := range r.Survey.Problems {
		at, why := "", ""
		if !p.Fatal && strings.HasPrefix(p.File, "/") {
			at, why = r.inTheWay(p.File)
		}
		if at == "" {
			kept = append(kept, p)
			continue
		}
		if n, is := said[at]; is {
			if kept[n].Family != p.Family {
				kept[n].Family = ""
			}
			continue
		}
		said[at] = len(kept)
		kept = append(kept, source.Problem{Family: p.Family, File: at, Unread: true, Message: source.NothingBelow + why})
	}
	r.Survey.Problems = kept
}

// inTheWay is what keeps a file from being looked up that is to stand below it, and why, in words; empty where nothing does.
func (r *reader) inTheWay(file string) (at, why string) {
	if _, err := r.root.Stat(file); err == nil || errors.Is(err, fs.ErrNotExist) {
		return "", ""
	}
	at, err := r.root.InTheWay(file)
	if err != nil {
		return at, family.Plain(err)
	}
	return at, "not a directory"
}
