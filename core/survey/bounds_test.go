package survey_test

import (
	"bytes"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/survey"
	"patientlantern.example/lantern/internal/cell"
	"patientlantern.example/lantern/standin"
)

// counting is a root that counts what is read of it.
type counting struct {
	fs.FS
	files int
	bytes int64
}

func (c *counting) Open(name string) (fs.File, error) {
	f, err := c.FS.Open(name)
	if err != nil {
		return nil, err
	}
	if info, err := f.Stat(); err == nil && info.Mode().IsRegular() {
		c.files++
	}
	return &countedFile{f, c}, nil
}

func (c *counting) ReadLink(name string) (string, error) { return fs.ReadLink(c.FS, name) }

func (c *counting) Lstat(name string) (fs.FileInfo, error) { return fs.Lstat(c.FS, name) }

type countedFile struct {
	fs.File
	c *counting
}

func (f *countedFile) Read(b []byte) (int, error) {
	n, err := f.File.Read(b)
	f.c.bytes += int64(n)
	return n, err
}

func (f *countedFile) ReadDir(n int) ([]fs.DirEntry, error) {
	return f.File.(fs.ReadDirFile).ReadDir(n)
}

// heavy are roots with more on them than anybody works on, by what is too much.
var heavy = map[string]func(t *testing.T, put func(name, text string)){
	"files": func(t *testing.T, put func(name, text string)) {
		for i := range 30_000 {
			put(fmt.Sprintf("etc/apt/sources.list.d/%05d.list", i), "deb http://saltmarsh.example/d mussel main\n")
		}
	},
	"one stanza of many URLs and suites": func(t *testing.T, put func(name, text string)) {
		var urls, suites strings.Builder
		for i := range 20_000 {
			fmt.Fprintf(&urls, " http://h%d.saltmarsh.example/d", i)
		}
		for i := range 2_000 {
			fmt.Fprintf(&suites, " s%d", i)
		}
		put("etc/apt/sources.list.d/a.sources", "Types: deb\nURIs:"+urls.String()+"\nSuites:"+suites.String()+"\nComponents: main\n")
	},
	"configuration that includes itself": func(t *testing.T, put func(name, text string)) {
		for i := range 20 {
			put(fmt.Sprintf("etc/apt/apt.conf.d/%d", i), "#include \"/etc/apt/apt.conf.d/\";\nAPT::X \"y\";\n")
		}
	},
	"deep configuration": func(t *testing.T, put func(name, text string)) {
		put("etc/apt/apt.conf", strings.Repeat("A{", 90_000)+strings.Repeat("};", 90_000))
	},
	"wide configuration": func(t *testing.T, put func(name, text string)) {
		var text strings.Builder
		for i := range 90_000 {
			fmt.Fprintf(&text, "Acquire::x%d::Proxy \"http://p\";\n", i)
		}
		put("etc/apt/apt.conf", text.String())
	},
	"keys": func(t *testing.T, put func(name, text string)) {
		k, err := standin.NewKey("many", "Saltmarsh <packages@saltmarsh.example>", time.Date(2024, 1, 15, 0, 0, 0, 0, time.UTC), 0)
		require.NoError(t, err)
		bin, err := k.Binary()
		require.NoError(t, err)
		for i := range 4 {
			put(fmt.Sprintf("etc/apt/trusted.gpg.d/%d.gpg", i), strings.Repeat(string(bin), (3<<20)/len(bin)))
		}
	},
	"one line without end": func(t *testing.T, put func(name, text string)) {
		put("etc/apt/sources.list", "deb http://saltmarsh.example/d mussel "+strings.Repeat("a ", 1_900_000)+"\n")
	},
	"many lines": func(t *testing.T, put func(name, text string)) {
		put("etc/apt/sources.list", strings.Repeat("deb http://h x y\n", 99_000))
		put("etc/apt/sources.list.d/b.sources", strings.Repeat("Types: deb\nURIs: http://h\nSuites: s\nComponents: c\n\n", 19_000))
	},
	"sections": func(t *testing.T, put func(name, text string)) {
		var text strings.Builder
		for i := range 40_000 {
			fmt.Fprintf(&text, "[r%d]\nbaseurl=http://u:p%d@h/%d\n", i, i, i)
		}
		put("etc/yum.repos.d/a.repo", text.String())
		put("etc/zypp/repos.d/a.repo", text.String())
		put("etc/pacman.conf", strings.ReplaceAll(text.String(), "baseurl", "Server"))
	},
	"variables in variables": func(t *testing.T, put func(name, text string)) {
		text := strings.Repeat("${a:-", 300_000) + strings.Repeat("}", 300_000)
		put("etc/zypp/repos.d/a.repo", "[a]\nname="+text+"\nbaseurl=http://h/"+text[:1_000_000]+"\n")
		put("etc/yum/vars/x", strings.Repeat("v", 100_000))
		put("etc/yum.repos.d/a.repo", "[a]\nname="+strings.Repeat("$x", 1_000_000)+"\nbaseurl=http://h/"+strings.Repeat("${releasever}", 50_000)+"\n")
	},
	"orphans of a service": func(t *testing.T, put func(name, text string)) {
		var text strings.Builder
		for i := range 30_000 {
			fmt.Fprintf(&text, "[r%d]\nbaseurl=http://h/%d\n", i, i)
		}
		put("etc/zypp/repos.d/a.repo", text.String())
		put("etc/zypp/repos.d/b.repo", strings.ReplaceAll(text.String(), "baseurl=", "service=gone\nbaseurl="))
	},
	"files that include each other": func(t *testing.T, put func(name, text string)) {
		put("etc/pacman.conf", "[options]\nInclude = /etc/pacman.d/*\n")
		for i := range 30 {
			put(fmt.Sprintf("etc/pacman.d/%d", i), "Include = /etc/pacman.d/*\n")
		}
	},
	"what decides beside": func(t *testing.T, put func(name, text string)) {
		put("etc/dnf/dnf.conf", "[main]\n")
		for i := range 3_000 {
			put(fmt.Sprintf("etc/dnf/modules.d/%d.module", i), strings.Repeat("stream=1\n", 400)+strings.Repeat("x", 3_000)+"\n")
		}
		put("etc/rpm/macros.zz", strings.Repeat("%_dbpath /x\n", 10_000)+"%_pkgverify_level none\n")
	},
	"preferences": func(t *testing.T, put func(name, text string)) {
		put("etc/apt/preferences", strings.Repeat("Package: *\nPin: release o=x\nPin-Priority: 5\n\n", 24_000))
		put("etc/zypp/locks", strings.Repeat("type: package\nsolvable_name: x\n\n", 30_000))
	},
	"a database of packages": func(t *testing.T, put func(name, text string)) {
		put("var/lib/dpkg/status", strings.Repeat("Package: tern\nStatus: hold ok installed\nVersion: 1\nArchitecture: amd64\n\n", 1_400_000))
		for i := range 6_000 {
			put(fmt.Sprintf("var/lib/dpkg/info/p%d.list", i), strings.Repeat(fmt.Sprintf("/etc/apt/sources.list.d/%d\n", i), 200))
		}
		put("etc/apt/sources.list", strings.Repeat("deb http://h x y\n", 5_000))
	},
}

// whole are those of which everything is told nevertheless.
var whole = map[string]bool{"one line without end": true, "keys": true}

// Whatever stands on a root, it is read with a bounded amount of work, and what was not
// looked at is said.
func TestReadingIsBounded(t *testing.T) {
	asked := cell.Share(2)
	for name, lay := range heavy {
		if !asked() {
			continue
		}
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			lay(t, func(name, text string) {
				full := filepath.Join(dir, name)
				require.NoError(t, os.MkdirAll(filepath.Dir(full), 0o755))
				require.NoError(t, os.WriteFile(full, []byte(text), 0o644))
			})
			c := &counting{FS: os.DirFS(dir)}
			var before, after runtime.MemStats
			runtime.GC()
			runtime.ReadMemStats(&before)
			start := time.Now()
			r := survey.Read(rootfs.New(c), survey.Machine{Arch: "x86_64", Now: time.Now()})
			took := time.Since(start)
			runtime.ReadMemStats(&after)
			t.Logf("%d files, %d MiB read, %d MiB allocated in all, %v, %d sources, %d keys, %d problems", c.files, c.bytes>>20, (after.TotalAlloc-before.TotalAlloc)>>20, took, len(r.Survey.Sources), len(r.Survey.Keys), len(r.Survey.Problems))
			assert.LessOrEqual(t, c.files, rootfs.MostFiles+8_000, "files that were opened")
			assert.LessOrEqual(t, c.bytes, int64(480<<20), "bytes that were read")
			assert.LessOrEqual(t, (after.TotalAlloc-before.TotalAlloc)>>20, uint64(1200), "MiB that were allocated")
			if !whole[name] {
				assert.NotEmpty(t, r.Survey.Problems, "what was not looked at is said")
			}
			assert.LessOrEqual(t, len(r.Survey.Problems), 4*500+50)
		})
	}
}

func TestWhatWasNotLookedAtIsSaid(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "etc/apt/sources.list.d"), 0o755))
	for i := range rootfs.MostEntries + 7 {
		require.NoError(t, os.WriteFile(filepath.Join(dir, fmt.Sprintf("etc/apt/sources.list.d/%05d.list", i)), nil, 0o644))
	}
	r := survey.Read(rootfs.New(os.DirFS(dir)), survey.Machine{})
	assert.Contains(t, r.Survey.Problems, source.Problem{File: "/etc/apt/sources.list.d", Unread: true, Message: fmt.Sprintf("7 entries of the folder were not looked at: the first %d were, by name", rootfs.MostEntries)})
	require.NoError(t, os.WriteFile(filepath.Join(dir, "etc/apt/sources.list"), bytes.Repeat([]byte("#\n"), rootfs.MostLines+1), 0o644))
	r = survey.Read(rootfs.New(os.DirFS(dir)), survey.Machine{})
	assert.Contains(t, fmt.Sprint(r.Survey.Problems), "100001 lines, the limit is 100000")
}
