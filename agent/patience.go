package agent

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"patientlantern.example/lantern/core/cause"
)

// lockTries is how often a package manager is run while another one is at work, with pauses of 1, 2, 3 … seconds: two minutes in
// all, in which most of what runs by itself has fetched what it wants.
func (h *Host) lockTries() int {
	if h.Root != "/" {
		return 6
	}
	return 16
}

// patiently runs a package manager again while another one is at work. Where that goes on,
// the answer names who holds the lock, as far as that can be seen.
func (h *Host) patiently(ctx context.Context, run func() (string, error)) (text string, err error) {
	tries := h.lockTries()
	for try := range tries {
		if text, err = run(); err == nil {
			return text, nil
		}
		if c, known := cause.Of(text); !known || c.Kind != cause.Locked {
			return text, err
		}
		if try == tries-1 {
			break
		}
		select {
		case <-ctx.Done():
			return text, ctx.Err()
		case <-time.After(time.Duration(try+1) * h.pause()):
		}
	}
	if who := h.holder(); who != "" {
		text = strings.TrimRight(text, "\n") + " (" + who + ")\n"
	}
	return text, err
}

// pause is the unit in which it is waited.
func (h *Host) pause() time.Duration {
	if h.Root != "/" { // a simulated host; its locks are its own
		return 100 * time.Millisecond
	}
	return time.Second
}

// lockFiles are what package managers lock, below the root.
var lockFiles = []string{
	"var/lib/pacman/db.lck", "run/zypp.pid", "var/run/zypp.pid", "var/lib/apt/lists/lock",
	"var/lib/dpkg/lock-frontend", "var/cache/dnf/metadata_lock.pid",
}

// holder names the program that holds one of the locks.
func (h *Host) holder() string {
	for _, name := range lockFiles {
		text, err := os.ReadFile(filepath.Join(h.Root, name))
		if err != nil {
			continue
		}
		pid, err := strconv.Atoi(strings.TrimSpace(string(text)))
		if err != nil || pid <= 1 {
			if info, err := os.Stat(filepath.Join(h.Root, name)); err == nil && name == lockFiles[0] {
				return fmt.Sprintf(
					"/%s is there since %s; where nobody is at work any more, remove it",
					name,
					info.ModTime().UTC().Format(time.RFC3339),
				)
			}
			continue
		}
		comm, err := os.ReadFile(fmt.Sprintf("/proc/%d/comm", pid))
		if err == nil {
			return fmt.Sprintf("held by %s, process %d", strings.TrimSpace(string(comm)), pid)
		}
	}
	return ""
}
