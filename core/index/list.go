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
	lines  string   // of each package its name, version, architecture, commit and source between tabs
	ends   []uint32 // where each line ends
	builds []Build  // of each package; empty where nothing is known of any
}

// NewList sorts packages. A package that is offered twice stands in it once.
func NewList(packages []Package) *List {
	packages = slices.Clone(packages)
	slices.SortFunc(packages, func(a, b Package) int {
		return cmp.Or(strings.Compare(a.Name, b.Name), strings.Compare(a.Version, b.Version), strings.Compare(a.Arch, b.Arch),
			strings.Compare(a.Commit, b.Commit), strings.Compare(a.Source, b.Source),
			cmp.Compare(a.Build.Says, b.Build.Says), bytes.Compare(a.Build.Sum[:], b.Build.Sum[:]))
	})
	packages = slices.Compact(packages)
	var b strings.Builder
	size := 0
	for i := range packages {
		p := &packages[i]
		size += len(p.Name) + len(p.Version) + len(p.Arch) + len(p.Commit) + len(p.Source) + 5
	}
	b.Grow(size)
	l := &List{ends: make([]uint32, 0, len(packages)), builds: make([]Build, 0, len(packages))}
	known := false
	for _, p := range packages {
		l.builds = append(l.builds, p.Build)
		known = known || p.Build != (Build{})
		for i, s := range [...]string{p.Name, p.Version, p.Arch, p.Commit, p.Source} {
			if i > 0 {
				b.WriteByte('\t')
			}
			b.WriteString(plainWord(s))
		}
		b.WriteByte('\n')
		l.ends = append(l.ends, uint32(b.Len()))
	}
	l.lines = b.String()
	if !known {
		l.builds = nil
	}
	return l
}

// plainWord keeps what parts lines out of names that a server made up.
func plainWord(s string) string {
	if strings.ContainsAny(s, "\t\n\x00") {
		return strings.NewReplacer("\t", " ", "\n", " ", "\x00", " ").Replace(s)
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
	if l.builds != nil {
		p.Build = l.builds[i]
	}
	return p
}

func (l *List) name(i int) string {
	name, _, _ := strings.Cut(l.line(i), "\t")
	return name
}

// Names yields the names of all packages, in order and each once.
func (l *List) Names() iter.Seq[string] {
	return func(yield func(string) bool) {
		last := ""
		for i := range l.ends {
			name := l.name(i)
			if name == last && i > 0 {
				continue
			}
			if last = name; !yield(name) {
				return
			}
		}
	}
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
	packed := w.EncodeAll([]byte(l.lines), nil)
	if l.builds == nil {
		return packed, nil
	}
	text := make([]byte, 0, 1+len(l.builds)*buildSize)
	text = append(text, behindLines)
	for i := range l.builds {
		text = l.builds[i].append(text)
	}
	return w.EncodeAll(text, packed), nil // frames that follow each other are one text
}

// behindLines stands between the lines of a list that is stored and its builds, which older versions stored none of.
const behindLines = 0

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
	lines, builds, _ := bytes.Cut(lines, []byte{behindLines})
	l := &List{lines: string(lines)}
	for i := range len(l.lines) {
		if l.lines[i] == '\n' {
			l.ends = append(l.ends, uint32(i+1))
		}
	}
	if len(builds) > 0 && len(builds) == len(l.ends)*buildSize {
		l.builds = make([]Build, len(l.ends))
		for i := range l.builds {
			l.builds[i] = buildOf(builds[i*buildSize:])
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
			if what := l.became(i, ni, old, j, nj); what != "" {
				tell(&c.Updated, a, what)
			}
			i, j = ni, nj
		}
	}
	return c
}

// became says in words what became of the packages of a name; empty where they are the same.
func (l *List) became(from, to int, old *List, oldFrom, oldTo int) string {
	if l.between(from, to) == old.between(oldFrom, oldTo) &&
		(l.builds == nil || old.builds == nil || slices.Equal(l.builds[from:to], old.builds[oldFrom:oldTo])) {
		return ""
	}
	alike := to-from == oldTo-oldFrom
	for k := 0; alike && k < to-from; k++ {
		is, was := l.At(from+k), old.At(oldFrom+k)
		alike = is.Version == was.Version
		if was.Build == (Build{}) || is.Build == (Build{}) { // one of the two was kept when nothing was known of builds
			is.Build, was.Build = Build{}, Build{}
		}
		if alike && is != was {
			return is.Version + " is another build"
		}
	}
	if alike {
		return ""
	}
	return old.At(oldTo-1).Version + " became " + l.At(to-1).Version
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
