package main

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"syscall"
	"time"

	"patientlantern.example/lantern/demo"
	"patientlantern.example/lantern/standin"
)

// launched is what a process beside this one, which does nothing else, says of a command that it ran twice: once by the clock,
// and once to its end under its eyes.
type launched struct {
	Wall     time.Duration
	Resident int64 // bytes
}

// launch runs a command and prints what it took.
func launch(name string, args []string) error {
	cmd := exec.Command(name, args...)
	var took launched
	start := time.Now()
	if err := cmd.Run(); err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	took.Wall = time.Since(start)
	var err error
	if took.Resident, err = resident(name, args); err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	return json.NewEncoder(os.Stdout).Encode(took)
}

// resident is the most that a command has resident, in bytes, as it stands when it ends. What wait4(2) tells of a child holds
// what its parent had when it was made, and this program is larger than most that it measures.
func resident(name string, args []string) (int64, error) {
	const traceExit, exits = 0x40, 6 // PTRACE_O_TRACEEXIT, PTRACE_EVENT_EXIT
	runtime.LockOSThread()           // who traces is a thread
	cmd := exec.Command(name, args...)
	cmd.SysProcAttr = &syscall.SysProcAttr{Ptrace: true}
	if err := cmd.Start(); err != nil {
		return 0, err
	}
	pid, began := cmd.Process.Pid, false
	for {
		var is syscall.WaitStatus
		if _, err := syscall.Wait4(pid, &is, 0, nil); err != nil {
			return 0, err
		}
		switch {
		case is.Exited() || is.Signaled():
			return 0, fmt.Errorf("ended unseen: %v", is)
		case is.TrapCause() == exits:
			status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
			if err != nil {
				return 0, err
			}
			_, rest, _ := strings.Cut(string(status), "VmHWM:")
			var kilobytes int64
			if _, err := fmt.Sscan(rest, &kilobytes); err != nil {
				return 0, fmt.Errorf("its resident size is not told: %w", err)
			}
			return kilobytes * 1024, errors.Join(syscall.PtraceDetach(pid), cmd.Wait())
		}
		signal := is.StopSignal()
		if signal == syscall.SIGTRAP { // ours
			signal = 0
		}
		if !began {
			began = true
			if err := syscall.PtraceSetOptions(pid, traceExit); err != nil {
				return 0, err
			}
		}
		if err := syscall.PtraceCont(pid, int(signal)); err != nil {
			return 0, err
		}
	}
}

// timed runs a command several times and gives the median wall time and the
// largest resident size in bytes.
func timed(runs int, env []string, name string, args ...string) (time.Duration, int64, error) {
	self, err := os.Executable()
	if err != nil {
		return 0, 0, err
	}
	var largest int64
	var walls []time.Duration
	for range runs {
		cmd := exec.Command(self, append([]string{"launch", name}, args...)...)
		cmd.Env, cmd.Stderr = env, os.Stderr
		said, err := cmd.Output()
		var took launched
		if err == nil {
			err = json.Unmarshal(said, &took)
		}
		if err != nil {
			return 0, 0, fmt.Errorf("%s: %w", name, err)
		}
		walls, largest = append(walls, took.Wall), max(largest, took.Resident)
	}
	slices.Sort(walls)
	return walls[runs/2], largest, nil
}

// paired runs two commands in turn, so that both meet the same speed of the
// machine: the median time of each, the median of the ratios, and the largest
// resident size of the first in bytes.
func paired(runs int, ours []string, env, theirs []string) (a, b time.Duration, ratio float64, resident int64, err error) {
	var as, bs []time.Duration
	var ratios []float64
	for range runs {
		x, size, err := timed(1, os.Environ(), ours[0], ours[1:]...)
		if err != nil {
			return 0, 0, 0, 0, err
		}
		y, _, err := timed(1, env, theirs[0], theirs[1:]...)
		if err != nil {
			return 0, 0, 0, 0, err
		}
		as, bs, ratios, resident = append(as, x), append(bs, y), append(ratios, float64(x)/float64(y)), max(resident, size)
	}
	slices.Sort(as)
	slices.Sort(bs)
	slices.Sort(ratios)
	return as[runs/2], bs[runs/2], ratios[runs/2], resident, nil
}

// processes measures whole processes.
func processes(s *suite) error {
	dir, err := os.MkdirTemp("", "lantern-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	keys, err := standin.Keys()
	if err != nil {
		return err
	}
	root := filepath.Join(dir, "root")
	if err := standin.DebHosts[0].Write(root, "http://"+demo.Address, keys); err != nil {
		return err
	}
	pubs, err := benchKeys(30)
	if err != nil {
		return err
	}
	if err := beside(s, root, 60, pubs, 31, 0.2, 25e6); err != nil {
		return err
	}
	if err := otherFamilies(s, dir, pubs); err != nil {
		return err
	}

	folder, err := largePolicy()
	if err != nil {
		return err
	}
	for name, data := range folder {
		name = filepath.Join(dir, "policy", name)
		if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
			return err
		}
		if err := os.WriteFile(name, data, 0o644); err != nil {
			return err
		}
	}
	check, _, err := timed(7, os.Environ(), "bin/lantern", "policy", "check", filepath.Join(dir, "policy"))
	if err != nil {
		return err
	}
	start, _, err := timed(7, os.Environ(), "bin/lantern", "--version")
	if err != nil {
		return err
	}
	s.add(
		"lantern policy check on 400 repositories, process start included",
		"200 ms",
		check < 200*time.Millisecond,
		check.Round(time.Millisecond).String(),
		"lantern --version "+start.Round(time.Millisecond).String(),
	)

	if pubs, err = benchKeys(500); err != nil {
		return err
	}
	if err := beside(s, root, 2_000, pubs, 3, 0.02, 64e6); err != nil {
		return err
	}
	info, err := os.Stat("bin/lantern-agent")
	if err != nil {
		return err
	}
	s.add("the agent on disk", "12 MB", info.Size() < 12e6, fmt.Sprintf("%.1f MB", float64(info.Size())/1e6), "")
	return nil
}

// beside measures a survey of files of sources with keys beside apt's own listing: at most
// a part of apt's time, and so many bytes resident.
func beside(s *suite, root string, files int, pubs []string, runs int, most, resident float64) error {
	if err := aptSources(root, files, pubs); err != nil {
		return err
	}
	ours, theirs, ratio, held, err := paired(runs, []string{"bin/lantern-agent", "read", "--root", root, "--format", "json"},
		[]string{"PATH=/usr/bin:/bin", "LC_ALL=C"}, []string{"apt-get", "-o", "Dir=" + root, "indextargets", "--no-release-info"})
	if err != nil {
		return err
	}
	s.add(
		fmt.Sprintf("survey of %d source files and %d keys, whole process", files, len(pubs)),
		fmt.Sprintf("%.0f %% of apt, %.0f MB resident", 100*most, resident/1e6),
		ratio <= most && float64(held) < resident,
		fmt.Sprintf("%s, %.1f %% of apt, %.0f MB", ours.Round(100*time.Microsecond), 100*ratio, float64(held)/1e6),
		"apt-get indextargets "+theirs.Round(100*time.Microsecond).String(),
	)
	return nil
}

// benchKeys makes public keys, every one another, as on a real host.
func benchKeys(n int) (pubs []string, err error) {
	for i := range n {
		key, err := standin.NewKey(
			fmt.Sprintf("bench-%d", i),
			fmt.Sprintf("Saltmarsh %d <packages@saltmarsh.example>", i),
			time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC),
			5,
		)
		if err != nil {
			return nil, err
		}
		pub, err := key.Public()
		if err != nil {
			return nil, err
		}
		pubs = append(pubs, pub)
	}
	return pubs, nil
}

// aptSources writes files of sources, and the keys that they name in turn.
func aptSources(root string, files int, pubs []string) error {
	if err := os.MkdirAll(filepath.Join(root, "etc/apt/keyrings"), 0o755); err != nil {
		return err
	}
	for i := range files {
		key := fmt.Sprintf("etc/apt/keyrings/k%03d.asc", i%len(pubs))
		text := fmt.Sprintf(
			"Types: deb\nURIs: https://packages.saltmarsh.example/%d\nSuites: stable\nComponents: main\nSigned-By: /%s\n", i, key)
		if err := os.WriteFile(filepath.Join(root, fmt.Sprintf("etc/apt/sources.list.d/s%04d.sources", i)), []byte(text), 0o644); err != nil {
			return err
		}
		if err := os.WriteFile(filepath.Join(root, key), []byte(pubs[i%len(pubs)]), 0o644); err != nil {
			return err
		}
	}
	return nil
}

// otherFamilies measures a survey of the same 60 definitions beside zypper and
// pacman-conf. pacman's Include paths are the machine's, so it has files of its own.
func otherFamilies(s *suite, dir string, pubs []string) error {
	zypp, arch, machine := filepath.Join(dir, "zypp"), filepath.Join(dir, "arch"), filepath.Join(dir, "machine")
	files := map[string]string{}
	conf, own := "[options]\nArchitecture = x86_64\nSigLevel = Required\n", "[options]\nArchitecture = x86_64\nSigLevel = Required\n"
	for i := range 60 {
		n := fmt.Sprintf("s%02d", i)
		files[filepath.Join(zypp, "etc/zypp/repos.d", n+".repo")] = fmt.Sprintf(
			"[%s]\nname=Saltmarsh %d for "+
				"$releasever\nenabled=1\nautorefresh=1\nbaseurl=https://packages.saltmarsh.example/%d/$basearch/\n"+
				"gpgkey=file:///etc/keys/k%02d.asc\npriority=%d\n",
			n,
			i,
			i,
			i%30,
			50+i,
		)
		files[filepath.Join(zypp, fmt.Sprintf("etc/keys/k%02d.asc", i%30))] = pubs[i%30]
		section := fmt.Sprintf("[%s]\nServer = https://packages.saltmarsh.example/%d/$repo/$arch\n", n, i)
		files[filepath.Join(arch, "etc/pacman.d", n)], files[filepath.Join(machine, n)] = section, section
		conf += "Include = /etc/pacman.d/" + n + "\n"
		own += "Include = " + filepath.Join(machine, n) + "\n"
	}
	files[filepath.Join(arch, "etc/pacman.conf")], files[filepath.Join(machine, "pacman.conf")] = conf, own
	for name, text := range files {
		if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
			return err
		}
		if err := os.WriteFile(name, []byte(text), 0o644); err != nil {
			return err
		}
	}
	env := []string{"PATH=/usr/bin:/bin", "LC_ALL=C", "HOME=" + dir}
	for _, c := range []struct {
		what, goal, root string
		most             float64 // of the yardstick
		yardstick        []string
	}{
		{"survey of 60 .repo files and 30 keys, whole process", "a tenth of zypper", zypp, 0.1, []string{"zypper", "--root", zypp, "lr", "-d"}},
		{
			"survey of 60 files that pacman.conf includes, whole process",
			"no slower than pacman-conf",
			arch,
			1,
			[]string{"pacman-conf", "--config", filepath.Join(machine, "pacman.conf")},
		},
	} {
		ours, theirs, ratio, resident, err := paired(
			31,
			[]string{"bin/lantern-agent", "read", "--root", c.root, "--format", "json"},
			env,
			c.yardstick,
		)
		if err != nil {
			return err
		}
		s.add(
			c.what,
			c.goal,
			ratio <= c.most,
			fmt.Sprintf("%s, %.0f %%, %.0f MB", ours.Round(100*time.Microsecond), 100*ratio, float64(resident)/1e6),
			c.yardstick[0]+" "+theirs.Round(100*time.Microsecond).String(),
		)
	}
	return nil
}
