package cell

import (
	"errors"
	"flag"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/rootfs"
)

// Reading is what a program, or we, make of a tree: facts in order, or a refusal.
type Reading struct {
	Facts   []string
	Refused bool
	Why     any // for the message
}

// marks are files of this machine by which a reading knows of what kind its package managers are.
var marks = sync.OnceValue(func() (out []string) {
	for _, pattern := range []string{
		"/usr/bin/apt-key", "/usr/lib/apt/methods/sqv", "/usr/lib/apt/methods/gpgv",
		"/usr/lib*/libalpm.so.*", "/usr/lib/*/libalpm.so.*", "/usr/lib*/libzypp.so.*", "/usr/lib/*/libzypp.so.*",
		"/usr/lib*/libglib-2.0.so.0*", "/usr/lib/*/libglib-2.0.so.0*",
	} {
		names, err := filepath.Glob(pattern)
		if err != nil {
			panic(err)
		}
		out = append(out, names...)
	}
	return out
})

// Inside reads a root folder and closes it. The programs that are asked about it are this
// machine's, so what tells their kind is put there.
func Inside(root string, read func(*rootfs.FS) family.Reading) (family.Reading, error) {
	for _, mark := range marks() {
		var text []byte
		if mark == "/usr/bin/apt-key" { // a script, and looked into
			var err error
			if text, err = os.ReadFile(mark); err != nil {
				return family.Reading{}, err
			}
		}
		name := filepath.Join(root, mark)
		if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
			return family.Reading{}, err
		}
		if to, err := os.Readlink(mark); err == nil && !filepath.IsAbs(to) {
			if err := os.Symlink(to, name); err != nil && !errors.Is(err, fs.ErrExist) {
				return family.Reading{}, err
			}
			continue
		}
		if err := os.WriteFile(name, text, 0o644); err != nil {
			return family.Reading{}, err
		}
	}
	dir, err := os.OpenRoot(root)
	if err != nil {
		return family.Reading{}, err
	}
	defer dir.Close()
	return read(rootfs.New(dir.FS())), nil
}

// Agree draws 30 trees, or -rapid.checks, and compares what the real
// program says of each with our own reading, which comes first: some programs
// change files while they list.
func Agree(
	t *testing.T,
	trees *rapid.Generator[map[string]string],
	ours func(root string) (Reading, error),
	theirs func(c *Cell, root string) (Reading, error),
) {
	c, err := Open()
	require.NoError(t, err)
	defer func() { require.NoError(t, c.Close()) }()
	base, n := t.TempDir(), 0
	most, differs := Rounds(30), false
	check := func(t *rapid.T) {
		if n++; n > most && !differs { // what differs is made smaller
			return
		}
		defer func() { differs = differs || t.Failed() }()
		tree := trees.Draw(t, "tree")
		root := filepath.Join(base, fmt.Sprint(n))
		require.NoError(t, Write(root, tree))
		got, err := ours(root)
		require.NoError(t, err)
		want, err := theirs(c, root)
		require.NoError(t, err)
		if want.Refused != got.Refused {
			t.Fatalf("the program refuses: %v %v\nwe say: %v %v\ntree: %q", want.Refused, want.Why, got.Refused, got.Why, tree)
		}
		if got.Refused {
			return
		}
		for i := range max(len(want.Facts), len(got.Facts)) {
			if a, b := at(want.Facts, i), at(got.Facts, i); a != b {
				t.Fatalf("theirs: %q\nours:   %q\ntree: %q", a, b, tree)
			}
		}
	}
	rapid.Check(t, check)
}

func at(list []string, i int) string {
	if i < len(list) {
		return list[i]
	}
	return "nothing"
}

// Rounds is how often a slow property is drawn: few times, unless -rapid.checks is given.
func Rounds(few int) int {
	given := 0
	flag.Visit(func(f *flag.Flag) {
		if f.Name == "rapid.checks" {
			given, _ = strconv.Atoi(f.Value.String()) // rapid has taken it
		}
	})
	return max(given, few)
}
