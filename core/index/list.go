package index

import (
	"bytes"
	"cmp"
	"fmt"
	"io"
	"iter"
	"slices"
	"sort"
	"strings"

	"github.com/klauspost/compress/zstd"
)

// List is a list of packages by name, in little memory. It is never changed.
type List struct {
	lines string   // of each package its name, version, architecture, commit and source between tabs
	ends  []uint32 // where each line ends
}

// NewList sorts packages. A package that is offered twice stands in it once.
func NewList(packages []Package) *List {
	packages = slices.Clone(packages)
	slices.SortFunc(packages, func(a, b Package) int {
		return cmp.Or(strings.Compare(a.Name, b.Name), strings.Compare(a.Version, b.Version), strings.Compare(a.Arch, b.Arch),
			strings.Compare(a.Commit, b.Commit))
	})
	packages = slices.Compact(packages)
	var b strings.Builder
	l := &List{ends: make([]uint32, 0, len(packages))}
	for _, p := range packages {
		for i, s := range []string{p.Name, p.Version, p.Arch, p.Commit, p.Source} {
			if i > 0 {
				b.WriteByte('\t')
			}
			b.WriteString(plainWord(s))
		}
		b.WriteByte('\n')
		l.ends = append(l.ends, uint32(b.Len()))
	}
	l.lines = b.String()
	return l
}

// plainWord keeps what parts lines out of names that a server made up.
func plainWord(s string) string {
	if strings.ContainsAny(s, "\t\n") {
		return strings.NewReplacer("\t", " ", "\n", " ").Replace(s)
	}
	return s
}

// Len is the number of packages.
func (l *List) Len() int { return len(l.ends) }

func (l *List) line(i int) string {
	from := uint32(0)
	if i > 0 {
		from = l.ends[i-1]
	}
	return l.lines[from : l.ends[i]-1]
}

// At returns a package by its place.
func (l *List) At(i int) (p Package) {
	rest := l.line(i)
	p.Name, rest, _ = strings.Cut(rest, "\t")
	p.Version, rest, _ = strings.Cut(rest, "\t")
	p.Arch, rest, _ = strings.Cut(rest, "\t")
	p.Commit, p.Source, _ = strings.Cut(rest, "\t")
	return p
}

func (l *List) name(i int) string {
	name, _, _ := strings.Cut(l.line(i), "\t")
	return name
}

// Named yields what is offered under a name.
func (l *List) Named(name string) iter.Seq[Package] {
	return func(yield func(Package) bool) {
		for i := sort.Search(len(l.ends), func(i int) bool { return l.name(i) >= name }); i < len(l.ends) && l.name(i) == name; i++ {
			if !yield(l.At(i)) {
				return
			}
		}
	}
}

// mostUnpacked bounds a list that is read back, in bytes.
const mostUnpacked = 1 << 30

// Pack returns a list as it is stored.
func (l *List) Pack() ([]byte, error) {
	w, err := zstd.NewWriter(nil, zstd.WithEncoderConcurrency(1), zstd.WithEncoderLevel(zstd.SpeedFastest))
	if err != nil {
		return nil, err
	}
	defer w.Close()
	return w.EncodeAll([]byte(l.lines), nil), nil
}

// Unpack reads back what Pack returned.
func Unpack(packed []byte) (*List, error) {
	r, err := zstd.NewReader(bytes.NewReader(packed), zstd.WithDecoderConcurrency(1))
	if err != nil {
		return nil, err
	}
	defer r.Close()
	lines, err := io.ReadAll(io.LimitReader(r, mostUnpacked))
	if err != nil {
		return nil, fmt.Errorf("a list of packages that is kept cannot be read: %w", err)
	}
	l := &List{lines: string(lines)}
	for i := range len(l.lines) {
		if l.lines[i] == '\n' {
			l.ends = append(l.ends, uint32(i+1))
		}
	}
	return l, nil
}

// Changes is how a list differs from the one before.
type Changes struct {
	Added   int      `json:"added"`
	Removed int      `json:"removed"`
	Updated int      `json:"updated" doc:"Offered under the same name in other versions"`
	Names   []string `json:"names,omitempty" doc:"The first of them, with what became of them"`
}

// mostChanged bounds the names that are told.
const mostChanged = 20

// Since tells how a list differs from an older one.
func (l *List) Since(old *List) (c Changes) {
	tell := func(count *int, name, what string) {
		*count++
		if len(c.Names) < mostChanged {
			c.Names = append(c.Names, name+" "+what)
		}
	}
	for i, j := 0, 0; i < l.Len() || j < old.Len(); {
		var a, b string
		if i < l.Len() {
			a = l.name(i)
		}
		if j < old.Len() {
			b = old.name(j)
		}
		switch {
		case j == old.Len() || i < l.Len() && a < b:
			tell(&c.Added, a, l.At(i).Version+" is new")
			i = l.after(i, a)
		case i == l.Len() || b < a:
			tell(&c.Removed, b, "has gone")
			j = old.after(j, b)
		default:
			ni, nj := l.after(i, a), old.after(j, b)
			if l.between(i, ni) != old.between(j, nj) {
				tell(&c.Updated, a, old.At(nj-1).Version+" became "+l.At(ni-1).Version)
			}
			i, j = ni, nj
		}
	}
	return c
}

// after is the first place behind those of a name.
func (l *List) after(i int, name string) int {
	for i < l.Len() && l.name(i) == name {
		i++
	}
	return i
}

func (l *List) between(from, to int) string {
	begin := uint32(0)
	if from > 0 {
		begin = l.ends[from-1]
	}
	return l.lines[begin:l.ends[to-1]]
}
