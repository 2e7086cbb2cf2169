package trace_test

import (
	"fmt"
	"io/fs"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/trace"
)

var (
	sydney = time.FixedZone("AEDT", 11*3600)
	wrote  = time.Date(2026, 11, 26, 3, 12, 44, 0, time.UTC)
)

func tree(files map[string]string) fstest.MapFS {
	m := fstest.MapFS{}
	for name, text := range files {
		m[name[1:]] = &fstest.MapFile{Data: []byte(text), Mode: 0o644}
	}
	return m
}

func root(files map[string]string) *rootfs.FS {
	return rootfs.New(tree(files)).AsOf(wrote.Add(time.Hour))
}

func TestWhatStoodNear(t *testing.T) {
	const list = "/etc/apt/sources.list.d/plover.list"
	for _, c := range []struct {
		name, family string
		files        map[string]string
		logins       bool
		want         string
	}{
		{"nothing may be read of people", "deb", nil, false, "written 2026-11-26 03:12:44 UTC; by whom is not known: the policy does not say read-logins"},
		{"no log", "deb", nil, true, "written 2026-11-26 03:12:44 UTC; by whom is not known: no log of logins can be read"},
		{"nobody in the log", "deb", map[string]string{"/var/log/auth.log": "Nov 26 14:10:01 gw-01 CRON[1]: pam_unix(cron:session): session opened\n"}, true, "written 2026-11-26 03:12:44 UTC; by whom is not known"},
		{"a package that owns it", "deb", map[string]string{
			"/var/log/dpkg.log":                      "2026-11-26 14:12:40 startup archives unpack\n2026-11-26 14:12:42 upgrade plover-release:amd64 1.2 1.3\n2026-11-26 14:12:43 status unpacked plover-release:amd64 1.3\n2026-11-26 14:12:44 install sonar:amd64 <none> 4\n",
			"/var/lib/dpkg/info/plover-release.list": "/.\n/etc\n" + list + "\n",
		}, false, "written 2026-11-26 03:12:44 UTC, when plover-release:amd64 1.2 became 1.3, whose file it is"},
		{"a package beside it, and somebody", "deb", map[string]string{
			"/var/log/dpkg.log":   "2026-11-26 14:12:00 install sonar:amd64 <none> 4\n",
			"/var/log/auth.log":   "2026-11-26T14:11:00.123456+11:00 gw-01 sudo[812]:     mira : TTY=pts/0 ; PWD=/home/mira ; USER=root ; COMMAND=/usr/bin/apt install --token=abc sonar\n",
			"/var/log/auth.log.1": "Nov 25 14:11:00 gw-01 sudo:     odo : TTY=pts/0 ; PWD=/ ; USER=root ; COMMAND=/bin/sh\n",
		}, true, "written 2026-11-26 03:12:44 UTC, when sonar:amd64 4 was installed, whose file it is not, 1 min after mira used sudo (/usr/bin/apt)"},
		{"somebody, by an older log", "deb", map[string]string{"/var/log/auth.log": "Nov 26 14:12:14 gw-01 sudo:     mira : TTY=pts/0 ; PWD=/ ; USER=root ; COMMAND=/usr/bin/vi " + list + "\n"}, true, "written 2026-11-26 03:12:44 UTC, 30 s after mira used sudo (/usr/bin/vi)"},
		{"somebody who gave a wrong password", "deb", map[string]string{"/var/log/auth.log": "Nov 26 14:12:14 gw-01 sudo:     mira : 3 incorrect password attempts ; TTY=pts/0 ; PWD=/ ; USER=root ; COMMAND=/usr/bin/vi\n"}, true, "written 2026-11-26 03:12:44 UTC; by whom is not known"},
		{"a program whose name begins alike", "deb", map[string]string{"/var/log/auth.log": "Nov 26 14:12:14 gw-01 sudo-helper[9]:     mira : TTY=pts/0 ; PWD=/ ; USER=root ; COMMAND=/usr/bin/vi\nNov 26 14:12:14 gw-01 sudoku:     mira : TTY=pts/0 ; PWD=/ ; USER=root ; COMMAND=/usr/bin/vi\n"}, true, "written 2026-11-26 03:12:44 UTC; by whom is not known"},
		{"a message in a message", "deb", map[string]string{"/var/log/auth.log": "Nov 26 14:12:14 gw-01 sshd[1]: Invalid user sudo: mira : TTY=pts/0 ; PWD=/ ; USER=root ; COMMAND=/usr/bin/vi\n"}, true, "written 2026-11-26 03:12:44 UTC; by whom is not known"},
		{"a log of the future", "deb", map[string]string{"/var/log/auth.log": "2027-11-26T14:11:00+11:00 gw-01 sudo[812]:     mira : TTY=pts/0 ; PWD=/ ; USER=root ; COMMAND=/usr/bin/vi\n"}, true, "written 2026-11-26 03:12:44 UTC; by whom is not known"},
		{"somebody who came later", "deb", map[string]string{"/var/log/auth.log": "Nov 26 14:13:14 gw-01 sudo:     mira : TTY=pts/0 ; PWD=/ ; USER=root ; COMMAND=/usr/bin/vi\n"}, true, "written 2026-11-26 03:12:44 UTC; by whom is not known"},
		{"a log that lies in its form", "deb", map[string]string{"/var/log/auth.log": "Nov 26 14:12:14 gw-01 sshd[1]: user sudo : COMMAND=/bin/x\nNov 26 99:12:14 gw-01 sudo: a : COMMAND=/x\nsudo: : COMMAND=\n\x00\xff\n"}, true, "written 2026-11-26 03:12:44 UTC; by whom is not known"},
		{"pacman", "arch", map[string]string{
			"/var/log/pacman.log":                            "[2026-11-26T03:12:40+0000] [ALPM] transaction started\n[2026-11-26T14:12:41+1100] [ALPM] upgraded fulmar-keyring (1-1 -> 2-1)\n",
			"/var/lib/pacman/local/fulmar-keyring-2-1/files": "%FILES%\netc/\n" + list[1:] + "\n",
		}, false, "written 2026-11-26 03:12:44 UTC, when fulmar-keyring 1-1 became 2-1, whose file it is"},
		{"pacman, long before", "arch", map[string]string{"/var/log/pacman.log": "[2026-11-25T03:12:41+0000] [ALPM] installed fulmar-keyring (1-1)\n"}, false, "written 2026-11-26 03:12:44 UTC; by whom is not known: the policy does not say read-logins"},
	} {
		t.Run(c.name, func(t *testing.T) {
			got := trace.Look(root(c.files), c.family, sydney, map[string]trace.Mark{list: {At: wrote}}, c.logins)
			require.Contains(t, got, list)
			touched := got[list]
			assert.Equal(t, c.want, touched.Says(time.UTC))
		})
	}
}

func TestAFileThatIsGone(t *testing.T) {
	got := trace.Look(root(nil), "deb", time.UTC, map[string]trace.Mark{"/etc/a": {At: wrote, Gone: true}, "/etc/b": {}}, false)
	gone, unknown := got["/etc/a"], got["/etc/b"]
	assert.Equal(t, "gone; its folder was changed last 2026-11-26 14:12:44 AEDT; by whom is not known: the policy does not say read-logins", gone.Says(sydney))
	assert.Equal(t, "when it was written is not known: the file system does not say when", unknown.Says(sydney))
}

// A great upgrade is looked through once, however many files are asked for.
func TestEachListOfFilesIsReadOnce(t *testing.T) {
	var log strings.Builder
	files, marks := map[string]string{}, map[string]trace.Mark{}
	for n := range 300 {
		fmt.Fprintf(&log, "2026-11-26 14:12:%02d upgrade p%d:amd64 1 2\n", n%60, n)
		files[fmt.Sprintf("/var/lib/dpkg/info/p%d.list", n)] = fmt.Sprintf("/.\n/etc/f%d\n", n)
		marks[fmt.Sprintf("/etc/f%d", n)] = trace.Mark{At: wrote}
	}
	files["/var/log/dpkg.log"] = log.String()
	reads := &counting{FS: tree(files)}
	got := trace.Look(rootfs.New(reads).AsOf(wrote.Add(time.Hour)), "deb", sydney, marks, false)
	for n := range 300 {
		step := got[fmt.Sprintf("/etc/f%d", n)].Step
		require.NotNil(t, step)
		require.True(t, step.Owns && step.Package == fmt.Sprintf("p%d:amd64", n), "%+v", step)
	}
	assert.Less(t, reads.opened, 300*10, "not once for each file and each package")
}

// counting counts what is opened.
type counting struct {
	fs.FS
	opened int
}

func (c *counting) Open(name string) (fs.File, error) {
	c.opened++
	return c.FS.Open(name)
}

// A log of any size is read from its end.
func TestAHugeLogIsReadFromItsEnd(t *testing.T) {
	filler := make([]byte, 6<<20)
	for i := range filler {
		filler[i] = 'x'
	}
	text := "Nov 26 14:12:00 gw-01 sudo: odo : TTY=x ; COMMAND=/bin/first\n" + string(filler) + "\nNov 26 14:11:14 gw-01 sudo: mira : TTY=x ; COMMAND=/bin/last\n"
	got := trace.Look(root(map[string]string{"/var/log/secure": text}), "rpm", sydney, map[string]trace.Mark{"/etc/a": {At: wrote}}, true)["/etc/a"]
	require.NotNil(t, got.Login)
	assert.Equal(t, "mira", got.Login.Who)
}

func FuzzLogs(f *testing.F) {
	f.Add("Nov 26 14:12:14 gw-01 sudo: mira : TTY=pts/0 ; COMMAND=/usr/bin/vi", "2026-11-26 14:12:42 upgrade a:amd64 1 2", "[2026-11-26T03:12:41+0000] [ALPM] upgraded a (1 -> 2)")
	f.Fuzz(func(t *testing.T, auth, dpkg, pacman string) {
		r := root(map[string]string{"/var/log/auth.log": auth, "/var/log/dpkg.log": dpkg, "/var/log/pacman.log": pacman})
		for _, family := range []string{"deb", "arch", "rpm"} {
			for _, x := range trace.Look(r, family, sydney, map[string]trace.Mark{"/etc/a": {At: wrote}}, true) {
				_ = x.Says(sydney)
			}
		}
	})
}
