// Package cell asks the real package managers what they make of a root folder:
// each question is put by a process that has changed its root into the folder,
// in a mount namespace of its own with the machine's /usr bound in, so that
// nothing of the machine's configuration leaks and nothing of it is written.
package cell

import (
	"bufio"
	"context"
	_ "embed"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"time"
)

//go:embed server.py
var server string

// Cell puts questions. It is not safe for use by several goroutines.
type Cell struct {
	cmd   *exec.Cmd
	in    io.WriteCloser
	out   *bufio.Reader
	close context.CancelFunc
}

// Answer is what a program said.
type Answer struct {
	Out  string `json:"out"`
	Err  string `json:"err"`
	Code int    `json:"code"` // exit status; negative when a signal ended it
}

type question struct {
	Root string   `json:"root"`
	Argv []string `json:"argv"`
	Ask  string   `json:"ask"`
}

// Open starts a cell, which lives at most as long as a slow test.
func Open() (*Cell, error) {
	ctx, cancel := context.WithTimeout(context.Background(), 9*time.Minute)
	cmd := exec.CommandContext(ctx, "unshare", "--mount", "--propagation", "private",
		"--pid", "--fork", "--kill-child", "/usr/bin/python3", "-c", server)
	cmd.Env = []string{"PATH=/usr/bin:/usr/sbin", "LC_ALL=C.UTF-8", "HOME=/root"}
	cmd.Stderr = os.Stderr
	in, err := cmd.StdinPipe()
	if err != nil {
		cancel()
		return nil, err
	}
	out, err := cmd.StdoutPipe()
	if err != nil {
		cancel()
		return nil, err
	}
	if err := cmd.Start(); err != nil {
		cancel()
		return nil, err
	}
	return &Cell{cmd, in, bufio.NewReaderSize(out, 1<<20), cancel}, nil
}

// Close ends the cell's process.
func (c *Cell) Close() error {
	defer c.close()
	if err := c.in.Close(); err != nil {
		return err
	}
	return c.cmd.Wait()
}

// Run runs a program inside root.
func (c *Cell) Run(root string, argv ...string) (Answer, error) {
	return c.put(question{Root: root, Argv: argv})
}

// DNF lists the repositories that python3-dnf reads inside root, as JSON.
func (c *Cell) DNF(root string) (Answer, error) { return c.put(question{Root: root, Ask: "dnf"}) }

// DNFKeys asks what dnf would import of the files in /keys of root: file name → fingerprints,
// as JSON.
func (c *Cell) DNFKeys(root string) (Answer, error) {
	return c.put(question{Root: root, Ask: "dnf-keys"})
}

func (c *Cell) put(q question) (Answer, error) {
	var a Answer
	if err := json.NewEncoder(c.in).Encode(q); err != nil {
		return a, err
	}
	line, err := c.out.ReadBytes('\n')
	if err != nil {
		return a, fmt.Errorf("the cell ended: %w", err)
	}
	return a, json.Unmarshal(line, &a)
}

// Write lays the files of a tree, path → text, under root. A text that begins
// with "-> " makes a symbolic link, a path that ends in a slash a folder.
func Write(root string, tree map[string]string) error {
	for name, text := range tree {
		full := filepath.Join(root, name)
		if name[len(name)-1] == '/' {
			if err := os.MkdirAll(full, 0o755); err != nil {
				return err
			}
			continue
		}
		if err := os.MkdirAll(filepath.Dir(full), 0o755); err != nil {
			return err
		}
		if len(text) > 3 && text[:3] == "-> " {
			if err := os.Symlink(text[3:], full); err != nil {
				return err
			}
			continue
		}
		if err := os.WriteFile(full, []byte(text), 0o644); err != nil {
			return err
		}
	}
	return nil
}
