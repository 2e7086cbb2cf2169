package trace_test

import (
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/trace"
	"patientlantern.example/lantern/internal/cell"
)

// Somebody is named beside an edit whom the real sudo made root for a program, and nobody whom it refused, or who asked what she may do.
func TestWhomSudoRefusedIsNotNamed(t *testing.T) {
	c, err := cell.Open()
	require.NoError(t, err)
	defer func() { require.NoError(t, c.Close()) }()
	right, wrong := "auth required pam_permit.so\n", "auth required pam_deny.so\n" // what becomes of her password
	touch := "/usr/bin/touch /ran"
	for name, x := range map[string]struct {
		rule, pam, args string
		named           bool
	}{
		"a program":                       {"mira ALL=(root) NOPASSWD: ALL", right, touch, true},
		"a program, with a password":      {"mira ALL=(root) ALL", right, "-S " + touch, true},
		"a program, in another folder":    {"mira ALL=(root) CWD=* NOPASSWD: ALL", right, "-D /tmp " + touch, true},
		"a program, with a variable":      {"mira ALL=(root) NOPASSWD:SETENV: ALL", right, "A=b " + touch, true},
		"a program, of a group":           {"mira ALL=(root:adm) NOPASSWD: ALL", right, "-u root -g adm " + touch, true},
		"a shell":                         {"mira ALL=(root) NOPASSWD: ALL", right, "-s " + touch, true},
		"a file that she edits":           {"mira ALL=(root) NOPASSWD: sudoedit /etc/motd", right, "-e /etc/motd", true},
		"as another than root":            {"mira ALL=(adm) NOPASSWD: ALL", right, "-u adm " + touch, false},
		"as herself, of another group":    {"mira ALL=(root:adm) NOPASSWD: ALL", right, "-g adm " + touch, false},
		"in no rule":                      {"", right, "-S " + touch, false},
		"in no rule, and lists":           {"", right, "-S -l", false},
		"lists":                           {"mira ALL=(root) NOPASSWD: ALL", right, "-l", false},
		"lists what she may not":          {"mira ALL=(root) NOPASSWD: /usr/bin/id", right, "-S -l /usr/bin/touch", false},
		"says that she is there":          {"mira ALL=(root) NOPASSWD: ALL", right, "-v", false},
		"another program":                 {"mira ALL=(root) /usr/bin/id", right, "-S " + touch, false},
		"another user":                    {"mira ALL=(adm) ALL", right, "-S " + touch, false},
		"another host":                    {"mira elsewhere=(root) ALL", right, "-S " + touch, false},
		"a wrong password":                {"mira ALL=(root) ALL", wrong, "-S " + touch, false},
		"a wrong password, and lists":     {"mira ALL=(root) ALL", wrong, "-S -l", false},
		"no password":                     {"mira ALL=(root) ALL", wrong, "-n " + touch, false},
		"no password, and is there":       {"mira ALL=(root) ALL", wrong, "-n -v", false},
		"a variable that she may not":     {"mira ALL=(root) NOPASSWD: /usr/bin/touch", right, "A=b " + touch, false},
		"a folder into which she may not": {"mira ALL=(root) NOPASSWD: ALL", right, "-D /tmp " + touch, false},
		"a file that she may not edit":    {"mira ALL=(root) NOPASSWD: sudoedit /etc/motd", right, "-e /etc/hosts", false},
		"a program that is not there":     {"mira ALL=(root) NOPASSWD: ALL", right, "/nowhere/touch /ran", false},
	} {
		at := filepath.Join(t.TempDir(), "root")
		require.NoError(t, cell.Write(at, map[string]string{
			"etc/passwd": "root:x:0:0::/root:/bin/sh\nmira:x:1500:1500::/:/bin/sh\nadm:x:3:4::/:/bin/sh\n", "etc/group": "root:x:0:\nmira:x:1500:\nadm:x:4:\n",
			"etc/shadow": "root:*:1::::::\nmira:*:1::::::\n", "etc/hosts": "127.0.0.1 localhost\n", "etc/motd": "", "etc/nsswitch.conf": "passwd: files\ngroup: files\n",
			"etc/sudoers":    "Defaults logfile=/var/log/sudo, loglinelen=0, !syslog, !lecture, passwd_tries=1, editor=/usr/bin/tee, !fqdn\n" + x.rule + "\n",
			"etc/pam.d/sudo": x.pam + "account required pam_permit.so\nsession required pam_permit.so\n", "var/log/": "", "tmp/": "",
		}))
		for file, mode := range map[string]os.FileMode{"etc/sudoers": 0o440, "etc/shadow": 0o600, "tmp": 0o777 | os.ModeSticky} {
			require.NoError(t, os.Chmod(filepath.Join(at, file), mode))
		}
		a, err := c.Run(at, "/usr/bin/setpriv", "--reuid=1500", "--regid=1500", "--clear-groups", "/bin/sh", "-c", "cd / && sudo "+x.args)
		require.NoError(t, err)
		if strings.HasSuffix(x.args, touch) {
			_, err := os.Stat(filepath.Join(at, "ran"))
			require.Equal(t, x.named, err == nil, "%s: %s", name, a.Err)
		}
		lines, err := os.ReadFile(filepath.Join(at, "var/log/sudo"))
		if err != nil { // sudo kept it to itself
			require.ErrorIs(t, err, fs.ErrNotExist)
			require.False(t, x.named, "%s: %s", name, a.Err)
			continue
		}
		_, said, is := strings.Cut(string(lines), " : ") // behind the time
		require.True(t, is)
		const list = "/etc/apt/sources.list"
		got := trace.Look(root(map[string]string{"/var/log/auth.log": "Nov 26 14:12:14 gw-01 sudo:     " + said}), "deb", sydney, map[string]trace.Mark{list: {At: wrote}}, true)
		assert.Equal(t, x.named, got[list].Login != nil, "%s: %s", name, said)
	}
}
