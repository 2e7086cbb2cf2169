package agent

import (
	"os"
	"path/filepath"
	"strings"
)

// zone is the host's time zone by its name in the tz database: what /etc/localtime leads to,
// else what /etc/timezone says. It is empty where neither tells.
func (h *Host) zone() string {
	if to, err := os.Readlink(filepath.Join(h.Root, "etc/localtime")); err == nil {
		if _, name, found := strings.Cut(to, "zoneinfo/"); found {
			return strings.TrimPrefix(strings.TrimPrefix(name, "posix/"), "right/")
		}
	}
	text, err := h.fs.ReadText("/etc/timezone")
	if err != nil {
		return ""
	}
	line, _, _ := strings.Cut(string(text), "\n")
	return strings.TrimSpace(line)
}
