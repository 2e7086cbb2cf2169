package survey

import (
	"fmt"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/family/arch"
	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/source"
)

// stores are folders in which package managers and this product keep what they go by, and of which no file is kept.
var stores = []string{
	"/var/lib/dpkg", "/var/lib/dpkg/info", "/var/lib/apt/lists", "/var/lib/rpm", "/usr/lib/sysimage/rpm",
	"/var/cache/dnf", "/var/cache/libdnf5", "/var/cache/yum", "/var/cache/zypp", "/var/cache/zypp/raw", "/var/cache/zypp/solv", arch.KeyDir,
}

// writers finds who beside the owner of the root may write what decides.
type writers struct {
	*reader
	// folders are those in which others may write → who.
	folders map[string]string
	held    map[string]bool // folders that were looked at
	seen    map[string]bool // folders to which the way was looked at → a link is among them
}

// writers notes what others than root may write: the folders of what was read, those on the way to them, also along links, and files
// with keys. They decide then what this host installs. Where a link stands in the place of a folder of the configuration, that is noted
// as well.
func (r *reader) writers() {
	if r.top == nil {
		return
	}
	w := &writers{reader: r, folders: map[string]string{}, held: map[string]bool{}, seen: map[string]bool{}}
	for name := range r.Texts {
		w.stands(name)
	}
	for _, dir := range WatchDirs {
		if dir != "/etc" && dir != "/etc/sysconfig" {
			w.holds(dir)
		} else {
			w.leads(dir)
		}
	}
	for _, dir := range stores {
		w.holds(dir)
	}
	if w.pacmanDir != "" {
		w.holds(path.Join(w.pacmanDir, "local"))
		w.holds(path.Join(w.pacmanDir, "sync"))
	}
	w.files()
	for _, dir := range slices.Sorted(maps.Keys(w.folders)) {
		if who := w.folders[dir]; w.folders[path.Dir(dir)] != who || dir == "/" { // of those below it nothing is told
			w.note(dir, source.OpenFolder+who+w.below(dir, who))
		}
	}
}

// note notes who may write a place.
func (r *reader) note(place, says string) {
	r.Survey.Deciding = append(r.Survey.Deciding, source.Deciding{
		File: place, Lines: []string{says}, Touches: family.Both(family.Origin, family.Trust),
	})
}

// below counts the folders below one in which the same may write.
func (w *writers) below(dir, who string) string {
	n := 0
	for name, same := range w.folders {
		if same == who && strings.HasPrefix(name, strings.TrimSuffix(dir, "/")+"/") && name != dir {
			n++
		}
	}
	switch n {
	case 0:
		return ""
	case 1:
		return ", and in a folder below it"
	}
	return fmt.Sprintf(", and in %d folders below it", n)
}

// stands looks at the folders of a file: its own, and that of what it leads to.
func (w *writers) stands(name string) {
	w.holds(path.Dir(name))
	if w.link(name) == "" {
		return
	}
	if end, err := w.root.Way(name, w.passed); err == nil {
		w.holds(path.Dir("/" + end))
	}
}

// holds looks at a folder: whoever may put a file there is heard.
func (w *writers) holds(dir string) {
	if w.held[dir] {
		return
	}
	w.held[dir] = true
	info, err := w.root.Stat(dir)
	if err != nil || !info.IsDir() {
		return
	}
	if w.leads(dir) {
		end, err := w.root.Resolve(dir)
		if err != nil {
			return
		}
		dir = "/" + end
	}
	w.open(dir, info)
}

// leads looks at the folders on the way to one: whoever may rename what stands in them can put another in its place. It reports
// whether there is a link among them.
func (w *writers) leads(dir string) (linked bool) {
	if linked, seen := w.seen[dir]; seen {
		return linked
	}
	if up := path.Dir(dir); up != dir {
		if linked = w.leads(up); !linked {
			w.passed(up)
		}
	}
	if target := w.root.Link(dir); target != "" {
		linked = true
		if strings.HasPrefix(dir, "/etc/") {
			w.Survey.Deciding = append(w.Survey.Deciding, source.Deciding{
				File: dir, Lines: []string{source.LeadsTo + target}, Touches: family.Origin, Since: source.Writers, Stays: true,
			})
		}
	}
	if linked {
		if end, err := w.root.Way(dir, w.passed); err == nil {
			w.passed("/" + end)
		}
	}
	w.seen[dir] = linked
	return linked
}

// passed looks at a folder on the way: where it has the sticky bit, others leave what is not theirs.
func (w *writers) passed(dir string) {
	info, err := w.root.Stat(dir)
	if err == nil && info.IsDir() && info.Mode()&fs.ModeSticky == 0 {
		w.open(dir, info)
	}
}

// open remembers a folder in which others may write.
func (w *writers) open(dir string, info fs.FileInfo) {
	if who := othersWrite(info, w.top); who != "" && !w.given(dir, info) {
		w.folders[dir] = who
	}
}

// Where a distribution itself lets a group write: Debian's administrators of local programs, where that is asked for, and the group
// of crontab, which can neither take away what is root's nor have a file heeded as root's.
const (
	staff      = 50
	staffWrite = "/etc/staff-group-for-usr-local"
	spools     = "/var/spool/cron"
)

// given reports whether it is the distribution that lets a group write in a folder.
func (w *writers) given(dir string, info fs.FileInfo) bool {
	mode := info.Mode()
	uid, gid, _ := rootfs.Owner(info)
	if root, _, _ := rootfs.Owner(w.top); mode&0o002 != 0 || uid != root {
		return false
	}
	if within(dir, spools) {
		return mode&fs.ModeSticky != 0
	}
	if gid != staff || !within(dir, "/usr/local") {
		return false
	}
	_, err := w.root.Stat(staffWrite)
	return err == nil
}

// within reports whether a path is a folder or stands below it.
func within(name, dir string) bool { return name == dir || strings.HasPrefix(name, dir+"/") }

// files looks at files of which no text is kept: those with keys, since whoever may write one decides whose signature is believed, and
// those that say which system this is and what is installed on it.
func (w *writers) files() {
	files := map[string]bool{"/etc/os-release": true, "/usr/lib/os-release": true, deb.Status: true}
	for i := range w.Survey.Keys {
		where := w.Survey.Keys[i].Where
		if files[where] = true; path.Base(path.Dir(where)) == "gnupg" {
			files[path.Join(path.Dir(where), "trustdb.gpg")] = true
		}
	}
	if w.rpm != nil {
		files[w.rpm.Path] = true
	}
	for _, name := range slices.Sorted(maps.Keys(files)) {
		if _, text := w.Texts[name]; text || !strings.HasPrefix(name, "/") {
			continue // said of every text
		}
		info, err := w.root.Stat(name)
		if err != nil || !info.Mode().IsRegular() {
			continue
		}
		if w.stands(name); w.folders[path.Dir(name)] != "" {
			continue
		}
		if who := othersWrite(info, w.top); who != "" {
			w.note(name, source.OpenFile+who)
		}
	}
}

// othersWrite says who besides the owner of the root may write a file or in a folder; empty where nobody may.
func othersWrite(info, top fs.FileInfo) string {
	uid, gid, ok := rootfs.Owner(info)
	root, group, known := rootfs.Owner(top)
	mode := info.Mode()
	switch {
	case mode&0o002 != 0:
		return fmt.Sprintf("anybody (mode %04o)", mode.Perm())
	case ok && known && uid != root:
		return fmt.Sprintf("the user %d", uid)
	case ok && known && mode&0o020 != 0 && gid != group:
		return fmt.Sprintf("the group %d (mode %04o)", gid, mode.Perm())
	}
	return ""
}
