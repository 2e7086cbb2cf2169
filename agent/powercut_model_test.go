package agent

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// node is a file or a folder as it is in memory, and as the disk has it for sure.
type node struct {
	data, synced         []byte
	mode, syncedMode     fs.FileMode
	time, syncedTime     time.Time          // when it was written, as it was told or has been synced; zero for the moment of the cut
	versions             []map[string]*node // of a folder: as it was last synced, and each that came after
	link                 string
	name                 string // for messages
	created, dir, linked bool
}

func (n *node) now() map[string]*node { return n.versions[len(n.versions)-1] }

// edit makes the next version of a folder.
func (n *node) edit(how func(map[string]*node)) {
	next := maps.Clone(n.now())
	how(next)
	n.versions = append(n.versions, next)
}

func (n *node) sync() {
	if n.dir {
		n.versions = n.versions[len(n.versions)-1:]
		return
	}
	n.synced, n.syncedMode, n.syncedTime, n.created = n.data, n.mode, n.time, false
}

// disk is what a file system promises and no more: the data of a file are there from its
// fsync on, a name from the fsync of its folder on, and the changes of one folder are kept in
// their order.
type disk struct {
	root string
	top  *node
	dirs []*node
}

func newDir(name string) *node {
	return &node{dir: true, name: name, versions: []map[string]*node{{}}}
}

// diskOf is a disk that has all that stands below a folder.
func diskOf(t *testing.T, root string) *disk {
	d := &disk{root: root, top: newDir("/")}
	d.dirs = []*node{d.top}
	at := map[string]*node{root: d.top}
	require.NoError(t, filepath.WalkDir(root, func(name string, e fs.DirEntry, err error) error {
		if err != nil || name == root || strings.HasPrefix(name, root+"/var/cache/apt/") && strings.HasSuffix(name, ".bin") {
			return err
		}
		info, err := e.Info()
		if err != nil {
			return err
		}
		n := &node{mode: info.Mode().Perm(), time: info.ModTime(), name: name[len(root):]}
		switch {
		case e.IsDir():
			n = newDir(name[len(root):])
			d.dirs = append(d.dirs, n)
			at[name] = n
		case e.Type()&fs.ModeSymlink != 0:
			n.linked = true
			n.link, err = os.Readlink(name)
		default:
			n.data, err = os.ReadFile(name)
		}
		at[filepath.Dir(name)].now()[filepath.Base(name)] = n
		n.synced, n.syncedMode, n.syncedTime = n.data, n.mode, n.time
		return err
	}))
	return d
}

// find is the folder of a path, its last name, and what stands there.
func (d *disk) find(path string) (in *node, base string, n *node) {
	n = d.top
	for _, name := range strings.Split(strings.Trim(strings.TrimPrefix(path, d.root), "/"), "/") {
		if n == nil || !n.dir {
			return nil, name, nil
		}
		in, base, n = n, name, n.now()[name]
	}
	return in, base, n
}

// call is one system call that went through, with its strings and paths.
type call struct {
	name  string
	args  string   // as strace tells them
	paths []string // absolute ones, those of descriptors included
	text  [][]byte // what is quoted
}

// told finds the paths of descriptors and what is quoted, in hexadecimal.
var told = regexp.MustCompile(`(?:AT_FDCWD|\d+)<((?:\\x[0-9a-f]{2})*)>|"((?:\\x[0-9a-f]{2})*)"`)

// others are the folders that package managers write and the agent does not.
var others = []string{"/var/lib/apt/", "/var/cache/", "/var/lib/dpkg/"}

func hexed(s string) (out string) {
	for _, b := range []byte(s) {
		out += fmt.Sprintf(`\x%02x`, b)
	}
	return out
}

func unhex(s string) []byte {
	b, err := hex.DecodeString(strings.ReplaceAll(s, `\x`, ""))
	if err != nil {
		panic(err)
	}
	return b
}

// calls reads what strace has told of calls about what stands below root.
func calls(t *testing.T, text, root string) (out []call) {
	half := map[string]string{}
	below := hexed(root)
	var aside []string
	for _, p := range others {
		aside = append(aside, below+hexed(p))
	}
	for line := range strings.Lines(text) {
		pid, line, _ := strings.Cut(strings.TrimSuffix(line, "\n"), " ")
		line = strings.TrimLeft(line, " ")
		if begun, cut := strings.CutSuffix(line, " <unfinished ...>"); cut {
			half[pid] = begun
			continue
		}
		if _, rest, again := strings.Cut(line, " resumed>"); again && strings.HasPrefix(line, "<... ") {
			line = half[pid] + rest
		}
		ours := strings.Count(line, below)
		for _, p := range aside {
			ours -= strings.Count(line, p)
		}
		if ours == 0 {
			continue
		}
		name, args, is := strings.Cut(line, "(")
		end := strings.LastIndex(args, " = ")
		require.True(t, is && end > 0, "strace says what is not understood: %.200s", line)
		if strings.HasPrefix(args[end:], " = -1 ") {
			continue
		}
		c := call{name: name, args: args[:end]}
		base := ""
		for _, x := range told.FindAllStringSubmatch(c.args, -1) {
			switch {
			case strings.HasPrefix(x[0], `"`):
				c.text = append(c.text, unhex(x[2]))
				if p := string(c.text[len(c.text)-1]); base != "" || strings.HasPrefix(p, "/") {
					if !filepath.IsAbs(p) {
						p = filepath.Join(base, p)
					}
					c.paths = append(c.paths, p)
				}
				base = ""
			default:
				base = string(unhex(x[1]))
				if !strings.HasPrefix(x[0], "AT_FDCWD") && !strings.Contains(c.name, "at") {
					c.paths = append(c.paths, base) // the call is about the descriptor itself
				}
			}
		}
		out = append(out, c)
	}
	return out
}

// about reports whether a call changes what the agent keeps or edits.
func (d *disk) about(c *call) bool {
	if strings.HasPrefix(c.name, "open") && !strings.Contains(c.args, "O_CREAT") && !strings.Contains(c.args, "O_TRUNC") {
		return false
	}
	for _, p := range c.paths {
		rest, in := strings.CutPrefix(p, d.root)
		if in && !slices.ContainsFunc(others, func(o string) bool { return strings.HasPrefix(rest, o) }) {
			return true
		}
	}
	return false
}

// take does to the disk what a call did.
func (d *disk) take(t *testing.T, c *call) {
	if !d.about(c) {
		return
	}
	in, base, n := d.find(c.paths[0])
	switch c.name {
	case "openat", "openat2":
		if strings.Contains(c.args, "O_CREAT") && n == nil {
			n = &node{mode: modeOf(c.args), name: c.paths[0][len(d.root):], created: true}
			in.edit(func(e map[string]*node) { e[base] = n })
		}
		if strings.Contains(c.args, "O_TRUNC") {
			n.data, n.time = nil, time.Time{}
		}
	case "write":
		if n != nil { // one that has no name any more is of no weight
			n.data, n.time = append(slices.Clip(n.data), c.text[0]...), time.Time{}
		}
	case "fsync", "fdatasync":
		if n != nil {
			n.sync()
		}
	case "mkdir", "mkdirat":
		made := newDir(c.paths[0][len(d.root):])
		d.dirs = append(d.dirs, made)
		in.edit(func(e map[string]*node) { e[base] = made })
	case "unlink", "unlinkat", "rmdir":
		in.edit(func(e map[string]*node) { delete(e, base) })
	case "rename", "renameat", "renameat2":
		d.rename(c, in, base, n)
	case "utimensat":
		if n != nil {
			n.time = timeOf(t, c.args)
		}
	case "chmod", "fchmodat", "fchmod":
		if n != nil {
			n.mode = modeOf(c.args)
		}
	default:
		require.Fail(t, "a call that the model does not know", "%s(%s)", c.name, c.paths)
	}
}

func (d *disk) rename(c *call, in *node, base string, n *node) {
	to, toBase, other := d.find(c.paths[1])
	swap := strings.Contains(c.args, "RENAME_EXCHANGE")
	both := func(e map[string]*node) {
		delete(e, base)
		if swap {
			e[base] = other
		}
		e[toBase] = n
	}
	if in == to {
		in.edit(both)
		return
	}
	in.edit(func(e map[string]*node) {
		delete(e, base)
		if swap {
			e[base] = other
		}
	})
	to.edit(func(e map[string]*node) { e[toBase] = n })
}

var octal = regexp.MustCompile(`\b0[0-7]{3}\b`)

func modeOf(args string) fs.FileMode {
	all := octal.FindAllString(args, -1)
	if len(all) == 0 {
		return 0
	}
	m, _ := strconv.ParseUint(all[len(all)-1], 8, 32)
	return fs.FileMode(m)
}

var stamp = regexp.MustCompile(`tv_sec=(\d+)[^,]*, tv_nsec=(\d+)`)

// timeOf is the time of writing that a call gives a file: the second of two.
func timeOf(t *testing.T, args string) time.Time {
	all := stamp.FindAllStringSubmatch(args, -1)
	require.NotEmpty(t, all, args)
	sec, _ := strconv.ParseInt(all[len(all)-1][1], 10, 64)
	nsec, _ := strconv.ParseInt(all[len(all)-1][2], 10, 64)
	return time.Unix(sec, nsec)
}

// left is what a power cut leaves.
type left struct {
	how   string
	files map[string]node // by path below the root; a folder has dir
}

func (l *left) digest() (out [sha256.Size]byte) {
	h := sha256.New()
	for _, p := range slices.Sorted(maps.Keys(l.files)) {
		n := l.files[p]
		fmt.Fprintf(h, "%s %v %v %v %d %q\n", p, n.dir, n.mode, n.time.UnixNano(), len(n.data), n.link)
		h.Write(n.data)
	}
	return [sha256.Size]byte(h.Sum(nil))
}

// cut is what stands there after a cut at this moment: version says which version of each
// folder the disk has, keep whether it has the data that were not synced.
func (d *disk) cut(how string, version func(*node) int, keep bool) left {
	out := left{how: how, files: map[string]node{}}
	var walk func(path string, n *node)
	walk = func(path string, n *node) {
		for name, x := range n.versions[version(n)] {
			p := path + "/" + name
			switch {
			case x.dir:
				out.files[p] = node{dir: true}
				walk(p, x)
			case keep:
				out.files[p] = node{data: x.data, mode: x.mode, time: x.time, link: x.link, linked: x.linked}
			case x.created:
				out.files[p] = node{mode: x.mode} // empty
			default:
				out.files[p] = node{data: x.synced, mode: x.syncedMode, time: x.syncedTime, link: x.link, linked: x.linked}
			}
		}
	}
	walk("", d.top)
	return out
}

// cuts are the ways in which a cut at this moment can go.
func (d *disk) cuts() (out []left) {
	first, last := func(*node) int { return 0 }, func(n *node) int { return len(n.versions) - 1 }
	for _, keep := range []bool{true, false} {
		data := map[bool]string{true: "data kept", false: "data lost"}[keep]
		out = append(out, d.cut("all names, "+data, last, keep), d.cut("no names, "+data, first, keep))
		for _, dirty := range d.dirs {
			if len(dirty.versions) == 1 {
				continue
			}
			for i := range dirty.versions {
				one := func(other func(*node) int) func(*node) int {
					return func(n *node) int {
						if n == dirty {
							return i
						}
						return other(n)
					}
				}
				at := fmt.Sprintf("%s at %d of %d", dirty.name, i, len(dirty.versions)-1)
				out = append(out, d.cut(at+", others not, "+data, one(first), keep), d.cut(at+", others all, "+data, one(last), keep))
			}
		}
	}
	return out
}

// write makes a folder that holds what is left.
func (l *left) write(t *testing.T, root string) {
	for _, p := range slices.Sorted(maps.Keys(l.files)) {
		n := l.files[p]
		switch {
		case n.dir:
			require.NoError(t, os.MkdirAll(root+p, 0o755))
		case n.linked:
			require.NoError(t, os.Symlink(n.link, root+p))
		default:
			require.NoError(t, os.WriteFile(root+p, n.data, n.mode))
			require.NoError(t, os.Chmod(root+p, n.mode))
			if !n.time.IsZero() {
				require.NoError(t, os.Chtimes(root+p, time.Time{}, n.time))
			}
		}
	}
}
