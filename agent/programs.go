package agent

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strconv"
	"syscall"
	"time"
)

// mark is the variable by which programs that were started on the way are known again:
// what they start in turn (gpg-agent, dirmngr) inherits it and outlives them.
const mark = "LANTERN_AGENT_RUN"

// endTime is how long a program that is left over may take to end by itself.
const endTime = 3 * time.Second

// tooSlow is the error of a program that did not end in time.
type tooSlow struct {
	name  string
	limit time.Duration
}

func (e tooSlow) Error() string { return fmt.Sprintf("%s did not end within %s", e.name, e.limit) }

// run runs a program with a clean environment and returns all that it says, secrets
// taken out. Whatever it leaves running is ended.
func (h *Host) run(ctx context.Context, limit time.Duration, env []string, name string, args ...string) (string, error) {
	bounded, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	cmd := exec.CommandContext(bounded, name, args...)
	cmd.Env = append([]string{"PATH=/usr/sbin:/usr/bin:/sbin:/bin", "LC_ALL=C", "HOME=/root", mark + "=" + h.State}, env...)
	var out bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &out
	cmd.WaitDelay = 5 * time.Second
	// An agent that dies takes the program along; the kernel sends the signal when
	// the starting thread ends.
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGTERM}
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	err := cmd.Run()
	h.endLeftovers()
	switch {
	case ctx.Err() != nil:
		err = fmt.Errorf("%s was ended: %w", name, context.Cause(ctx))
	case errors.Is(bounded.Err(), context.DeadlineExceeded):
		err = tooSlow{name, limit}
	}
	return h.clean(out.String()), err
}

// endLeftovers ends the programs that were started for this root and are still there:
// those that a package manager or gpg has put into the background.
func (h *Host) endLeftovers() {
	list := h.leftovers()
	for _, pid := range list {
		_ = syscall.Kill(pid, syscall.SIGTERM) // it may have ended meanwhile
	}
	for end := time.Now().Add(endTime); len(list) > 0 && time.Now().Before(end); list = h.leftovers() {
		time.Sleep(5 * time.Millisecond)
	}
	for _, pid := range list {
		_ = syscall.Kill(pid, syscall.SIGKILL)
	}
}

// leftovers lists the processes that carry this root's mark.
func (h *Host) leftovers() (out []int) {
	want := []byte(mark + "=" + h.State)
	entries, err := os.ReadDir("/proc")
	if err != nil {
		return nil
	}
	for _, e := range entries {
		pid, err := strconv.Atoi(e.Name())
		if err != nil || pid == os.Getpid() {
			continue
		}
		env, err := os.ReadFile(filepath.Join("/proc", e.Name(), "environ"))
		if err != nil || !bytes.Contains(env, want) {
			continue
		}
		for v := range bytes.SplitSeq(env, []byte{0}) {
			if bytes.Equal(v, want) {
				out = append(out, pid)
				break
			}
		}
	}
	return out
}
