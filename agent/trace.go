package agent

import (
	"errors"
	"io/fs"
	"os"
	"path"
	"syscall"
	"time"

	"patientlantern.example/lantern/core/trace"
)

// mostTraced bounds how many files are looked up at once.
const mostTraced = 100

// traced tells of files when they were written, and what the host's logs say of that time.
func (h *Host) traced(family string, files []string, logins bool, now time.Time) map[string]trace.Touched {
	zone, err := time.LoadLocation(h.zone())
	if err != nil || h.zone() == "" {
		zone = time.Local
	}
	marks := make(map[string]trace.Mark, len(files))
	for _, name := range files {
		if !path.IsAbs(name) || path.Clean(name) != name {
			continue
		}
		marks[name] = h.mark(name)
	}
	return trace.Look(h.fs.AsOf(now), family, zone, marks, logins)
}

// mark asks the file system when a file was changed last: by the time of its inode, which a
// package cannot set as it can that of the content.
func (h *Host) mark(name string) (m trace.Mark) {
	for at := name; ; at = path.Dir(at) {
		p, err := h.path(at)
		if err != nil {
			return m
		}
		info, err := os.Lstat(p)
		if errors.Is(err, fs.ErrNotExist) && at != "/" {
			m.Gone = true
			continue
		}
		if err != nil {
			return m
		}
		if st, ok := info.Sys().(*syscall.Stat_t); ok {
			m.At = time.Unix(st.Ctim.Unix())
		}
		return m
	}
}
