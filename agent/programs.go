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

// becomeTime is how long a process may take to become another program. One that has no
// environment for good is not waited for longer.
const becomeTime = 50 * time.Millisecond

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
	told := map[int]bool{}
	end, sure := time.Now().Add(endTime), time.Now().Add(becomeTime)
	for {
		list, unsure := h.marked()
		if len(list) == 0 && (!unsure || time.Now().After(sure)) {
			return
		}
		if time.Now().After(end) {
			for _, pid := range list {
				_ = syscall.Kill(pid, syscall.SIGKILL)
			}
			return
		}
		for _, pid := range list {
			if !told[pid] {
				told[pid] = true
				_ = syscall.Kill(pid, syscall.SIGTERM) // it may have ended meanwhile
			}
		}
		time.Sleep(5 * time.Millisecond)
	}
}

// leftovers lists the processes that carry this root's mark.
func (h *Host) leftovers() []int {
	out, _ := h.marked()
	return out
}

// marked lists them. unsure says that some process is just becoming another program, and
// tells nothing of its environment meanwhile.
func (h *Host) marked() (out []int, unsure bool) {
	want := []byte(mark + "=" + h.State)
	entries, err := os.ReadDir("/proc")
	if err != nil {
		return nil, false
	}
	for _, e := range entries {
		pid, err := strconv.Atoi(e.Name())
		if err != nil || pid == os.Getpid() {
			continue
		}
		env, err := os.ReadFile(filepath.Join("/proc", e.Name(), "environ"))
		if err == nil && len(env) == 0 && isProgram(e.Name()) {
			unsure = true
		}
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
	return out, unsure
}

// isProgram reports whether a process is one that runs a program, of this process's user:
// threads of the kernel and processes that have ended have none.
func isProgram(pid string) bool {
	_, err := os.Readlink(filepath.Join("/proc", pid, "exe"))
	return err == nil
}
