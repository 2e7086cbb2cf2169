package main

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// agent is one that runs.
type agent struct {
	process   int
	root      string
	args, env []string
}

// agents lists those that look after the hosts of this demo.
func (s *soak) agents() (out []agent) {
	all, _ := filepath.Glob("/proc/[0-9]*/cmdline") // the pattern is right
	for _, file := range all {
		line, err := os.ReadFile(file)
		if err != nil {
			continue
		}
		args := strings.Split(strings.TrimSuffix(string(line), "\x00"), "\x00")
		at := slices.Index(args, "--root")
		if at < 0 || at+1 >= len(args) || filepath.Base(args[0]) != "lantern-agent" || !slices.Contains(args, "run") ||
			filepath.Dir(args[at+1]) != filepath.Join(s.dir, "demo-hosts") {
			continue
		}
		env, err := os.ReadFile(filepath.Join(filepath.Dir(file), "environ"))
		if err != nil {
			continue
		}
		process, err := strconv.Atoi(filepath.Base(filepath.Dir(file)))
		if err != nil {
			continue
		}
		a := agent{process: process, root: args[at+1], args: args}
		for _, v := range bytes.Split(env, []byte{0}) {
			if len(v) > 0 {
				a.env = append(a.env, string(v))
			}
		}
		out = append(out, a)
	}
	return out
}

// start starts an agent anew.
func (a *agent) start() error {
	cmd := exec.Command(a.args[0], a.args[1:]...)
	cmd.Env = a.env
	if err := cmd.Start(); err != nil {
		return err
	}
	go func() { _ = cmd.Wait() }()
	return nil
}

// kill kills an agent wherever it is, and starts it anew.
func (s *soak) kill() (string, error) {
	all := s.agents()
	if len(all) == 0 {
		return "no agent runs", nil
	}
	a := all[s.IntN(len(all))]
	what := "kill the agent of " + filepath.Base(a.root)
	if err := syscall.Kill(a.process, syscall.SIGKILL); err != nil {
		return what, err
	}
	time.Sleep(s.upTo(time.Second))
	return what, a.start()
}

// missingAgents reports a host whose agent does not run.
func (s *soak) missingAgents() error {
	all := s.agents()
	for _, root := range s.roots() {
		if !slices.ContainsFunc(all, func(a agent) bool { return a.root == root }) {
			return fmt.Errorf("no agent runs for %s", filepath.Base(root))
		}
	}
	return nil
}

// endAgents ends those that were started anew; the demo ends its own.
func (s *soak) endAgents() {
	for _, a := range s.agents() {
		_ = syscall.Kill(a.process, syscall.SIGTERM) // it may have ended
	}
}
