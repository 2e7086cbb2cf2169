package trace

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/internal/cell"
)

// noted is an entry of a journal.
type noted struct {
	at     time.Time
	fields map[string]string
}

// export is the form in which journald takes and gives entries.
func export(list []noted) string {
	var b strings.Builder
	for i, n := range list {
		fmt.Fprintf(&b, "__REALTIME_TIMESTAMP=%d\n__MONOTONIC_TIMESTAMP=%d\n_BOOT_ID=0123456789abcdef0123456789abcdef\n", n.at.UnixMicro(), 1000+i)
		for k, v := range n.fields {
			fmt.Fprintf(&b, "%s=%s\n", k, v)
		}
		b.WriteString("\n")
	}
	return b.String()
}

// keep has the real program keep entries in a file, in a form of its own.
func keep(t require.TestingT, file string, list []noted, compact, keyed bool) {
	cmd := exec.Command("/lib/systemd/systemd-journal-remote", "-o", file, "-")
	cmd.Env = append(os.Environ(), fmt.Sprint("SYSTEMD_JOURNAL_COMPACT=", compact), fmt.Sprint("SYSTEMD_JOURNAL_KEYED_HASH=", keyed))
	cmd.Stdin = strings.NewReader(export(list))
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, string(out))
}

// told is who used sudo as journalctl finds it: entries of sudo itself.
func told(t require.TestingT, file string) (out []Login) {
	cmd := exec.Command("journalctl", "--file", file, "-o", "json", "--all", "_COMM=sudo", "_UID=0", "+", "_COMM=sudo", "_EXE=/usr/bin/sudo")
	text, err := cmd.Output()
	require.NoError(t, err)
	for line := range strings.Lines(string(text)) {
		var e struct {
			At      string `json:"__REALTIME_TIMESTAMP"`
			Message string `json:"MESSAGE"`
		}
		require.NoError(t, json.Unmarshal([]byte(line), &e))
		if l, ok := usedSudo(e.Message); ok {
			us, err := strconv.ParseInt(e.At, 10, 64)
			require.NoError(t, err)
			l.At = time.UnixMicro(us)
			out = append(out, l)
		}
	}
	return out
}

func aRoot(t require.TestingT, file string) *rootfs.FS {
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	return rootfs.New(fstest.MapFS{"var/log/journal/0123456789abcdef/system.journal": &fstest.MapFile{Data: text, Mode: 0o640}}).AsOf(time.Now())
}

// What we find in a journal is what journalctl finds in it.
func TestJournalsAreReadAsJournalctlReadsThem(t *testing.T) {
	dir, n, rounds := t.TempDir(), 0, 0
	most := cell.Rounds(25)
	rapid.Check(t, func(rt *rapid.T) {
		if rounds++; rounds > most && !t.Failed() {
			return
		}
		n++
		file := filepath.Join(dir, fmt.Sprint(n, ".journal"))
		at := time.Date(2026, 11, 26, 3, 0, 0, 0, time.UTC)
		var list []noted
		for range rapid.IntRange(1, 60).Draw(rt, "entries") {
			at = at.Add(time.Duration(rapid.IntRange(1, 90_000).Draw(rt, "after")) * time.Millisecond)
			comm := rapid.SampledFrom([]string{"sudo", "sudo", "logger", "cron", "sudo-helper"}).Draw(rt, "comm")
			who := rapid.SampledFrom([]string{"mira", "odo", "tern"}).Draw(rt, "who")
			message := rapid.SampledFrom([]string{
				"    " + who + " : TTY=pts/0 ; PWD=/ ; USER=root ; COMMAND=/usr/bin/vi /etc/apt/sources.list",
				who + " : 3 incorrect password attempts ; TTY=pts/0 ; PWD=/ ; USER=root ; COMMAND=/usr/bin/vi",
				"pam_unix(sudo:session): session opened for user root(uid=0) by " + who + "(uid=1000)",
				who + " : PWD=/ ; USER=root ; COMMAND=/bin/sh -c " + strings.Repeat("x", rapid.IntRange(1, 900).Draw(rt, "long")),
			}).Draw(rt, "message")
			list = append(list, noted{at, map[string]string{
				"_COMM": comm, "_UID": rapid.SampledFrom([]string{"0", "0", "1000"}).Draw(rt, "uid"), "SYSLOG_IDENTIFIER": "sudo", "MESSAGE": message,
			}})
			switch exe := rapid.SampledFrom([]string{"", "/usr/bin/sudo", "/home/mira/sudo"}).Draw(rt, "exe"); {
			case exe == "/home/mira/sudo" && list[len(list)-1].fields["_UID"] == "0":
				list[len(list)-1].fields["_UID"] = "1000"
				fallthrough
			case exe != "":
				list[len(list)-1].fields["_EXE"] = exe
			}
		}
		keep(rt, file, list, rapid.Bool().Draw(rt, "compact"), rapid.Bool().Draw(rt, "keyed"))
		ours, read := journaled(aRoot(rt, file), time.Time{})
		require.True(rt, read)
		short := func(l []Login) (out []Login) {
			for _, x := range l {
				if len(x.Program) < 400 {
					out = append(out, Login{At: x.At.UTC(), Who: x.Who, Program: x.Program})
				}
			}
			return out
		}
		theirs := short(told(rt, file))
		got := short(ours)
		for _, x := range got { // what stands packed in the file is not read
			require.Contains(rt, theirs, x)
		}
		for _, x := range theirs {
			if x.Program != "/bin/sh" {
				require.Contains(rt, got, x)
			}
		}
	})
	require.Positive(t, n)
}

// One that is damaged, or of another making, is not believed and costs nothing.
func TestADamagedJournalIsNoJournal(t *testing.T) {
	file := filepath.Join(t.TempDir(), "system.journal")
	var list []noted
	at := time.Date(2026, 11, 26, 3, 0, 0, 0, time.UTC)
	for i := range 50 {
		list = append(list, noted{at.Add(time.Duration(i) * time.Minute), map[string]string{
			"_COMM": "sudo", "_UID": "0", "MESSAGE": "mira : TTY=pts/0 ; PWD=/ ; USER=root ; COMMAND=/usr/bin/vi " + strconv.Itoa(i),
		}})
	}
	keep(t, file, list, false, true)
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	whole := func(b []byte) ([]Login, bool) {
		return journaled(rootfs.New(fstest.MapFS{"var/log/journal/m/system.journal": &fstest.MapFile{Data: b, Mode: 0o640}}).AsOf(at), time.Time{})
	}
	all, read := whole(text)
	require.True(t, read)
	require.Len(t, all, 50)
	assert.Equal(t, "mira", all[0].Who)
	used := len(text) // most of a file is empty
	for used > 0 && text[used-1] == 0 {
		used--
	}
	rapid.Check(t, func(rt *rapid.T) {
		b := slices.Clone(text[:min(len(text), used+4096)])
		for range rapid.IntRange(1, 40).Draw(rt, "damages") {
			i := rapid.IntRange(0, used-1).Draw(rt, "at")
			b[i] = rapid.Byte().Draw(rt, "byte")
		}
		b = b[:rapid.IntRange(0, len(b)).Draw(rt, "cut")]
		some, _ := whole(b) // it ends, and does not panic
		require.LessOrEqual(rt, len(some), mostLogins)
	})
	for _, no := range [][]byte{nil, []byte("LPKSHHRH"), append([]byte("LPKSHHRH\x00\x00\x00\x00\xff\xff\xff\xff"), make([]byte, 400)...)} {
		_, read := whole(no)
		assert.False(t, read)
	}
}

// What a program says of itself is not believed; what journald says of it is.
func TestWhoSaysThatItIsSudoIsNotBelieved(t *testing.T) {
	file := filepath.Join(t.TempDir(), "system.journal")
	at := time.Date(2026, 11, 26, 3, 12, 0, 0, time.UTC)
	lie := "mira : TTY=pts/0 ; PWD=/ ; USER=root ; COMMAND=/usr/bin/vi"
	keep(t, file, []noted{
		{at, map[string]string{"_COMM": "logger", "_UID": "0", "SYSLOG_IDENTIFIER": "sudo", "MESSAGE": lie}},
		{at, map[string]string{"_COMM": "sudo", "_UID": "1000", "SYSLOG_IDENTIFIER": "sudo", "MESSAGE": lie}},
		{at, map[string]string{"_COMM": "sudo", "_UID": "0", "_EXE": "/home/mira/sudo", "SYSLOG_IDENTIFIER": "sudo", "MESSAGE": lie}},
		{at, map[string]string{"_COMM": "sudo-helper", "_UID": "0", "SYSLOG_IDENTIFIER": "sudo", "MESSAGE": lie}},
	}, true, true)
	for exe, is := range map[string]bool{
		"/usr/bin/sudo": true, "/bin/sudo": true, "/usr/lib/cargo/bin/sudo": true, "/usr/local/bin/sudo": false, "/opt/sudo": false, "/usr/bin/sudoku": false,
	} {
		assert.Equal(t, is, isSudo(exe, "0"), exe)
	}
	root := aRoot(t, file)
	some, read := journaled(root, time.Time{})
	assert.Empty(t, some)
	assert.True(t, read)
	out := Look(root, "deb", time.UTC, map[string]Mark{"/etc/apt/sources.list": {At: at.Add(time.Minute)}}, true)
	assert.Equal(t, LoginsRead, out["/etc/apt/sources.list"].Logins)
	assert.Nil(t, out["/etc/apt/sources.list"].Login)
}

// Of a journal that holds more than is looked at, the last ones are found: those near the file.
func TestTheLastLoginsOfALongJournalAreFound(t *testing.T) {
	file := filepath.Join(t.TempDir(), "system.journal")
	var list []noted
	at := time.Date(2026, 11, 26, 3, 0, 0, 0, time.UTC)
	for i := range mostLogins + 200 {
		fields := map[string]string{"_COMM": "sudo", "_UID": "0", "MESSAGE": fmt.Sprintf("mira : USER=root ; COMMAND=/usr/bin/tool-%d", i)}
		for n := range 20 {
			fields[fmt.Sprint("FIELD_", n)] = "tern"
		}
		at = at.Add(time.Minute)
		list = append(list, noted{at, fields})
	}
	keep(t, file, list, false, true)
	out := Look(aRoot(t, file), "deb", time.UTC, map[string]Mark{"/etc/apt/sources.list": {At: at.Add(time.Second)}}, true)["/etc/apt/sources.list"]
	assert.Equal(t, LoginsRead, out.Logins)
	require.NotNil(t, out.Login)
	assert.Equal(t, fmt.Sprint("/usr/bin/tool-", len(list)-1), out.Login.Program)
}

// Whatever a file holds, it is read to an end.
func FuzzJournal(f *testing.F) {
	file := filepath.Join(f.TempDir(), "system.journal")
	keep(f, file, []noted{{time.Unix(1_790_000_000, 0), map[string]string{"_COMM": "sudo", "_UID": "0", "MESSAGE": "mira : USER=root ; COMMAND=/bin/vi"}}}, false, false)
	text, err := os.ReadFile(file)
	require.NoError(f, err)
	f.Add(text[:16<<10])
	f.Fuzz(func(t *testing.T, b []byte) {
		if j, err := openJournal(bytes.NewReader(b), int64(len(b))); err == nil {
			some, _ := j.logins(time.Time{})
			require.LessOrEqual(t, len(some), mostLogins)
		}
	})
}
