// Package demo runs the scenario on one machine: the service, the vendors'
// stand-ins, and simulated hosts with real agents.
package demo

import (
	"bytes"
	"context"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"syscall"
	"time"

	"patientlantern.example/lantern/agent"
	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/client"
	"patientlantern.example/lantern/standin"
)

//go:embed policy
var policyFiles embed.FS

// Address is where the policy's repositories are in the demo.
const Address = "127.0.0.1:7801"

// Secure is where they are over TLS.
const Secure = "127.0.0.1:7802"

// Policy returns the demo's policy folder, with the upstreams at other addresses.
func Policy(address, secure string) (map[string][]byte, error) {
	out := map[string][]byte{}
	err := fs.WalkDir(policyFiles, "policy", func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		data, err := policyFiles.ReadFile(name)
		out[strings.TrimPrefix(name, "policy/")] = bytes.ReplaceAll(
			bytes.ReplaceAll(data, []byte(Address), []byte(address)),
			[]byte(Secure),
			[]byte(secure),
		)
		return err
	})
	return out, err
}

// Service is the service that the demo runs.
type Service interface {
	Serve(ctx context.Context, ln net.Listener) error
	Close() error
}

// Options of the demo.
type Options struct {
	Listen   string // of the service
	Upstream string // of the vendors' stand-ins
	Secure   string // of the same over TLS
	Desks    string // of the vendors' subscription desks
	Dir      string // where demo-hosts, demo-state and demo-untended are made
	Agent    string // the agent's binary
	Interval time.Duration
	Say      func(format string, args ...any)
	Bold     func(string) string
	// Open opens the service on a data folder and gives the first token.
	Open func(ctx context.Context, data string, log *slog.Logger, interval time.Duration) (Service, string, error)
}

// accessLife is how long the access is good that the demo's desks issue.
const accessLife = 72 * time.Hour

// mark is a file that says that a folder was made by the demo and may go.
const mark = ".made-by-lantern-demo"

// fresh makes a folder anew. It refuses one that it did not make.
func fresh(dir string) error {
	if _, err := os.Stat(dir); err == nil {
		if _, err := os.Stat(filepath.Join(dir, mark)); err != nil {
			return fmt.Errorf("%s is there and was not made by the demo; move it away, or choose another place with --dir", dir)
		}
		if err := os.RemoveAll(dir); err != nil {
			return err
		}
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(dir, mark), nil, 0o644)
}

func listen(address, flag string) (net.Listener, error) {
	ln, err := net.Listen("tcp", address)
	if errors.Is(err, syscall.EADDRINUSE) {
		return nil, fmt.Errorf("something listens on %s already (another demo?); end it, or give another address with --%s", address, flag)
	}
	return ln, err
}

// Run runs the demo until the context ends.
func Run(ctx context.Context, o Options) (err error) {
	ctx, cancel := context.WithCancel(ctx)
	var running sync.WaitGroup
	defer running.Wait()
	defer cancel()
	if o.Dir, err = filepath.Abs(o.Dir); err != nil {
		return err
	}
	if o.Agent == "" {
		self, err := os.Executable()
		if err != nil {
			return err
		}
		o.Agent = filepath.Join(filepath.Dir(self), "lantern-agent")
	}
	if _, err := os.Stat(o.Agent); err != nil {
		return fmt.Errorf("the agent's binary %s is not there; run make build, or name it with --agent", o.Agent)
	}
	upLn, err := listen(o.Upstream, "upstream")
	if err != nil {
		return err
	}
	defer upLn.Close()
	secureLn, err := listen(o.Secure, "upstream-tls")
	if err != nil {
		return err
	}
	defer secureLn.Close()
	desksLn, err := listen(o.Desks, "desks")
	if err != nil {
		return err
	}
	defer desksLn.Close()
	ln, err := listen(o.Listen, "listen")
	if err != nil {
		return err
	}
	defer ln.Close()
	hosts, state, untended := filepath.Join(o.Dir, "demo-hosts"), filepath.Join(o.Dir, "demo-state"), filepath.Join(o.Dir, "demo-untended")
	for _, d := range []string{hosts, state, untended} {
		if err := fresh(d); err != nil {
			return err
		}
	}
	world, err := standin.NewWorld(time.Now, accessLife, upLn, secureLn, desksLn)
	if err != nil {
		return err
	}
	defer world.Close()
	upstream, fleet := "http://"+world.Plain, standin.Fleet()
	for _, h := range fleet {
		if err := h.Write(filepath.Join(hosts, h.Name), upstream, world.Upstreams.Keys()); err != nil {
			return fmt.Errorf("making the host %s: %w", h.Name, err)
		}
	}
	if err := world.Upstreams.AttachShelf(filepath.Join(hosts, standin.ShelfHost)); err != nil {
		return fmt.Errorf("attaching the shelf's media: %w", err)
	}
	for _, h := range standin.FamilyHosts {
		if err := h.Write(filepath.Join(untended, h.Name), upstream, world.Upstreams.Keys()); err != nil {
			return fmt.Errorf("making the host %s: %w", h.Name, err)
		}
	}

	logFile, err := os.Create(filepath.Join(state, "service.log"))
	if err != nil {
		return err
	}
	defer logFile.Close()
	svc, token, err := o.Open(ctx, filepath.Join(state, "service"), slog.New(slog.NewJSONHandler(logFile, nil)), o.Interval)
	if err != nil {
		return err
	}
	defer func() {
		cancel()
		running.Wait()
		err = errors.Join(err, svc.Close())
	}()
	serveErr := make(chan error, 1)
	running.Go(func() { serveErr <- svc.Serve(ctx, ln) })
	service := "http://" + ln.Addr().String()
	settings := fmt.Sprintf(
		"# Written by lantern demo, for commands that are run in this folder.\nservice: %s\ntoken: %s\n",
		service,
		token,
	)
	settingsName := filepath.Join(o.Dir, ".lantern.yaml")
	if err := os.WriteFile(settingsName, []byte(settings), 0o600); err != nil {
		return err
	}
	defer os.Remove(settingsName)
	policyDir := filepath.Join("demo", "policy")
	if _, err := os.Stat(filepath.Join(o.Dir, policyDir)); err != nil || world.Plain != Address || world.Secure != Secure {
		policyDir = filepath.Join("demo-state", "policy")
	}
	files, err := Policy(world.Plain, world.Secure)
	if err != nil {
		return err
	}
	for name, data := range files {
		name = filepath.Join(state, "policy", name)
		if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
			return err
		}
		if err := os.WriteFile(name, data, 0o644); err != nil {
			return err
		}
	}
	c := client.New(service, token)
	for name, login := range standin.Logins() {
		if _, err := c.AddAccount(
			ctx,
			api.AccountOrder{
				Name:     name,
				Title:    "Brinewick Tidal Observatory",
				Desk:     "http://" + world.Desks + "/" + name,
				Login:    login,
				Password: standin.DeskPassword,
			},
		); err != nil {
			return fmt.Errorf("giving the service the account at %s: %w", name, err)
		}
	}
	for _, h := range fleet {
		if err := enrol(ctx, c, service, filepath.Join(hosts, h.Name), h); err != nil {
			return fmt.Errorf("enrolling %s: %w", h.Name, err)
		}
	}
	for _, h := range fleet {
		if err := startAgent(ctx, &running, o.Agent, filepath.Join(hosts, h.Name), filepath.Join(state, h.Name+".log")); err != nil {
			return fmt.Errorf("starting the agent of %s: %w", h.Name, err)
		}
	}
	if err := settled(ctx, c); err != nil {
		return err
	}
	o.Say("Patient Lantern, the demo: %d hosts of the Brinewick Tidal Observatory\n", len(fleet))
	o.Say("  console   %s", o.Bold(service))
	o.Say("  sign in   %s", o.Bold(token))
	o.Say("  hosts     %s", filepath.Join(o.Dir, "demo-hosts"))
	o.Say("  logs      %s\n", filepath.Join(o.Dir, "demo-state"))
	self := "lantern"
	if exe, err := os.Executable(); err == nil {
		if rel, err := filepath.Rel(o.Dir, exe); err == nil && !strings.HasPrefix(rel, "..") {
			self = rel
		}
	}
	o.Say("Try, in a second terminal in this folder:\n")
	o.Say("  %s host list", self)
	o.Say("  %s policy publish %s", self, policyDir)
	o.Say("  %s policy preview", self)
	o.Say("  %s rollout begin", self)
	o.Say("  %s channel list", self)
	o.Say("  %s seat list", self)
	o.Say(
		"  %s read --root demo-untended/%s    hosts as somebody left them, to be read: dnf, zypper, pacman, flatpak\n",
		self,
		standin.FamilyHosts[0].Name,
	)
	o.Say("Ctrl-C ends all of it.")
	select {
	case <-ctx.Done():
		return nil
	case err := <-serveErr:
		return err
	}
}

func enrol(ctx context.Context, c *client.Client, service, root string, h standin.Member) error {
	i, err := c.Invite(ctx, api.InviteOrder{Host: h.Name + "." + standin.Domain})
	if err != nil {
		return err
	}
	host, err := agent.OpenHost(root)
	if err != nil {
		return err
	}
	defer host.Close()
	name, err := host.Join(ctx, service, i.Token)
	if err != nil {
		return err
	}
	_, err = c.Label(ctx, name, h.Labels)
	return err
}

// startAgent starts an agent's process, which ends with the context, or with
// this process however that ends.
func startAgent(ctx context.Context, running *sync.WaitGroup, binary, root, log string) error {
	f, err := os.Create(log)
	if err != nil {
		return err
	}
	cmd := exec.CommandContext(ctx, binary, "run", "--root", root)
	cmd.Stdout, cmd.Stderr = f, f
	cmd.Cancel = func() error { return cmd.Process.Signal(syscall.SIGTERM) }
	cmd.WaitDelay = 5 * time.Second
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL, Setpgid: true}
	started := make(chan error, 1)
	running.Go(func() {
		defer f.Close()
		runtime.LockOSThread() // the signal comes when the starting thread ends
		err := cmd.Start()
		started <- err
		if err == nil {
			_ = cmd.Wait() // it ends because it is told to
		}
	})
	return <-started
}

// settled waits until every host has sent its survey.
func settled(ctx context.Context, c *client.Client) error {
	deadline := time.Now().Add(30 * time.Second)
	for {
		page, err := c.Hosts(ctx, client.List{PerPage: 1000})
		if err != nil {
			return err
		}
		waiting := ""
		for _, h := range page.Hosts {
			if h.OS == "" {
				waiting = h.Name
			}
		}
		if waiting == "" {
			return nil
		}
		if time.Now().After(deadline) {
			return fmt.Errorf("%s has sent no survey; its log is in demo-state", waiting)
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
	}
}
