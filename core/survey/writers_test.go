package survey_test

import (
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/survey"
	"patientlantern.example/lantern/internal/cell"
)

// done is something that was done to a root, in order: "chmod MODE NAME", "own USER:GROUP NAME" or "link TARGET NAME", which moves
// what stands there to the target.
type done []string

func (d done) to(t *testing.T, root string) {
	t.Helper()
	for _, step := range d {
		w := strings.Fields(step)
		at := filepath.Join(root, w[2])
		switch w[0] {
		case "chmod":
			mode := fs.FileMode(0)
			for _, digit := range w[1][1:] {
				mode = mode<<3 | fs.FileMode(digit-'0')
			}
			if w[1][0] == '1' {
				mode |= fs.ModeSticky
			}
			require.NoError(t, os.Chmod(at, mode))
		case "own":
			user, group, _ := strings.Cut(w[1], ":")
			require.NoError(t, os.Chown(at, int(number(t, user)), int(number(t, group))))
		case "link":
			to := filepath.Join(root, w[1])
			require.NoError(t, os.MkdirAll(filepath.Dir(to), 0o755))
			require.NoError(t, os.Rename(at, to))
			require.NoError(t, os.Symlink(w[1], at))
		}
	}
}

func number(t *testing.T, s string) (n int64) {
	for _, digit := range s {
		n = n*10 + int64(digit-'0')
	}
	return n
}

// Whoever may write where it stands what decides is told, once for what lies below, and where a link leads as well; what the
// distributions themselves leave to a group is not.
func TestWhatOthersMayWriteIsTold(t *testing.T) {
	for _, c := range []struct {
		done done
		says []string
	}{
		{done{"chmod 0755 etc/apt/sources.list.d"}, nil},
		{done{"chmod 0700 etc/apt/sources.list.d"}, nil},
		{done{"chmod 0775 etc/apt/sources.list.d"}, nil}, // the group is that of the root
		{done{"chmod 0777 etc/apt/sources.list.d"}, []string{"/etc/apt/sources.list.d: files can be put here by anybody (mode 0777)"}},
		{done{"chmod 1777 etc/apt/sources.list.d"}, []string{"/etc/apt/sources.list.d: files can be put here by anybody (mode 0777)"}},
		{done{"chmod 0757 etc/apt/sources.list.d"}, []string{"/etc/apt/sources.list.d: files can be put here by anybody (mode 0757)"}},
		{done{"chmod 0775 etc/apt/sources.list.d", "own 0:1000 etc/apt/sources.list.d"},
			[]string{"/etc/apt/sources.list.d: files can be put here by the group 1000 (mode 0775)"}},
		{done{"own 1000:0 etc/apt/trusted.gpg.d"}, []string{"/etc/apt/trusted.gpg.d: files can be put here by the user 1000"}},
		{done{"chmod 0777 etc"}, []string{"/etc: files can be put here by anybody (mode 0777)"}}, // another /etc/apt could be put there
		{done{"chmod 1777 usr/share"}, nil}, // what is root's stays
		{done{"own 1000:0 usr/share"}, []string{"/usr/share: files can be put here by the user 1000"}},
		{done{"chmod 0777 etc/apt", "chmod 0777 etc/apt/sources.list.d", "chmod 0777 etc/apt/trusted.gpg.d"},
			[]string{"/etc/apt: files can be put here by anybody (mode 0777), and in 2 folders below it"}},
		{done{"chmod 0777 etc/apt", "own 1000:0 etc/apt/sources.list.d"}, []string{
			"/etc/apt: files can be put here by anybody (mode 0777)", "/etc/apt/sources.list.d: files can be put here by the user 1000"}},
		{done{"link /srv/lists etc/apt/sources.list.d"}, []string{"/etc/apt/sources.list.d: a link to /srv/lists"}},
		{done{"link /srv/lists etc/apt/sources.list.d", "own 1000:0 srv"}, []string{
			"/etc/apt/sources.list.d: a link to /srv/lists", "/srv: files can be put here by the user 1000"}},
		{done{"link /home/tern/lists etc/apt/sources.list.d", "own 1000:0 home/tern/lists", "own 1000:0 home/tern"}, []string{
			"/etc/apt/sources.list.d: a link to /home/tern/lists",
			"/home/tern: files can be put here by the user 1000, and in a folder below it"}},
		{done{"link /home/tern/sources.list etc/apt/sources.list", "own 1000:0 home/tern"},
			[]string{"/home/tern: files can be put here by the user 1000"}},
		{done{"link /srv/dpkg var/lib/dpkg"}, nil}, // no folder of the configuration
		{done{"own 1000:0 var/lib/dpkg"}, []string{"/var/lib/dpkg: files can be put here by the user 1000"}},
		{done{"chmod 0666 var/lib/dpkg/status"}, []string{"/var/lib/dpkg/status: this can be written by anybody (mode 0666)"}},
		{done{"own 1000:0 etc/os-release"}, []string{"/etc/os-release: this can be written by the user 1000"}},
		{done{"own 0:102 var/spool/cron/crontabs", "chmod 1730 var/spool/cron/crontabs"}, nil}, // as cron's package makes it
		{done{"chmod 1777 var/spool/cron/crontabs"}, []string{"/var/spool/cron/crontabs: files can be put here by anybody (mode 0777)"}},
		{done{"own 0:50 usr/local/sbin", "chmod 0775 usr/local/sbin"}, []string{"/usr/local/sbin: files can be put here by the group 50 (mode 0775)"}},
		{done{"own 0:50 usr/local/sbin", "chmod 0775 usr/local/sbin", "link /etc/staff-group-for-usr-local etc/marker"}, nil},
	} {
		if os.Geteuid() != 0 && slices.ContainsFunc(c.done, func(step string) bool { return strings.HasPrefix(step, "own ") }) {
			continue // only root gives files away
		}
		root := t.TempDir()
		require.NoError(t, os.Chmod(root, 0o755))
		require.NoError(t, cell.Write(root, map[string]string{
			"etc/apt/sources.list": "deb http://packages.saltmarsh.example/deb mussel main\n", "etc/apt/sources.list.d/": "", "etc/apt/trusted.gpg.d/": "",
			"etc/os-release": "ID=skerry\n", "etc/marker": "", "usr/share/keyrings/": "", "usr/local/sbin/": "", "home/tern/": "",
			"var/lib/dpkg/status": "", "var/spool/cron/crontabs/": "",
		}))
		c.done.to(t, root)
		r := survey.Read(rootfs.New(os.DirFS(root)), survey.Machine{})
		var says []string
		for _, d := range r.Survey.Deciding {
			says = append(says, d.File+": "+strings.Join(d.Lines, "; "))
		}
		assert.ElementsMatch(t, c.says, says, "%v", c.done)
	}
}
