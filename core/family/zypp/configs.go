package zypp

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/family"
)

// ConfigDirs are where newer libzypps look for zypp.conf and for files in zypp.conf.d, as UAPI.6 has it: what stands
// earlier hides what bears its name later. The last two are the vendor's, as a distribution built it.
var ConfigDirs = []string{"/etc/zypp", "/run/zypp", "/usr/etc/zypp", "/usr/share/zypp"}

// What bears settings in each of the folders: a file, and a folder of further ones.
const (
	MainConfig = "zypp.conf"
	DropIns    = "zypp.conf.d"
)

// envSection is where newer libzypps are told what to put into their environment.
const envSection = "env"

var anything = slices.Concat(family.Origin, family.Trust, family.Transport, family.Program)

// The first version of libzypp's library that reads more than one file, and the first that puts the processor's
// level into $arch.
const (
	dropsMajor = 1735
	dropsMinor = 2
	levelMajor = 1735
)

// The versions of libzypp's library that are looked for.
const (
	oldestLib = 1700
	newestLib = 1780
)

// library is the version of the root's libzypp by its library's name; 0 where none is seen.
func (r *reader) library() (major, minor int) {
	names := make([]string, 0, newestLib-oldestLib+1)
	for n := newestLib; n >= oldestLib; n-- {
		names = append(names, fmt.Sprintf("libzypp.so.%d", n))
	}
	switch numbers := family.Libraries(r.root, "libzypp.so.", names...); len(numbers) {
	case 0:
		return 0, 0
	case 1:
		return numbers[0], 0
	default:
		return numbers[0], numbers[1]
	}
}

// configs are the files of libzypp's configuration, in the order in which they are read.
func (r *reader) configs() (out []string) {
	major, minor := r.library()
	r.levelled = major >= levelMajor
	r.newer = major > dropsMajor || major == dropsMajor && minor >= dropsMinor
	r.drops = r.newer || major == 0 // where nobody knows, what somebody wrote counts
	if !r.drops {
		return []string{Config}
	}
	for _, dir := range ConfigDirs {
		if _, err := r.root.Stat(path.Join(dir, MainConfig)); err == nil {
			out = append(out, path.Join(dir, MainConfig))
			break
		}
	}
	first := map[string]string{}
	for _, dir := range ConfigDirs {
		entries, err := r.root.ReadDir(path.Join(dir, DropIns))
		if err != nil {
			continue
		}
		for _, e := range entries {
			if _, hidden := first[e.Name()]; !hidden && strings.HasSuffix(e.Name(), ".conf") {
				first[e.Name()] = path.Join(dir, DropIns, e.Name())
			}
		}
	}
	names := make([]string, 0, len(first))
	for name := range first {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		out = append(out, first[name])
	}
	return out
}
