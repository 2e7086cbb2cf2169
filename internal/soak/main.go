// Command soak lets many hands work on the demo at once and looks whether all settles in the end: files are edited, cut off, replaced
// by links and folders and taken away, revisions published, rollouts begun, held, stopped and taken back, hosts healed, agents killed,
// vendors' signatures spoilt. Then the hands rest, what stops package managers is taken out, and one rollout and healing must make
// every host steady again, with the files of the policy as they were, byte for byte, and nothing of ours left behind.
//
//	make soak SEED=7 FOR=5m
//
// One seed draws the same numbers each time; what comes of them depends on what is under way when a lever is pulled.
package main

import (
	"bytes"
	"context"
	"errors"
	"flag"
	"fmt"
	"log"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/client"
	"patientlantern.example/lantern/core/policy"
	"patientlantern.example/lantern/standin"
)

const (
	service   = "http://127.0.0.1:7800"
	upstreams = "http://127.0.0.1:7801"
)

// soak is one run.
type soak struct {
	*rand.Rand
	dir    string // where the demo runs
	demo   int    // its process
	api    *client.Client
	base   map[string][]byte   // the policy as it was first
	other  []map[string][]byte // what is published instead
	stood  map[string]stood    // file of the policy → what it was
	files  []string            // those, and the others that decide
	hidden []string            // files whose name begins with a dot, which stood before the hands came
	strays []string            // what the hands have put beside
	said   map[string]bool     // files in which comments may be other ones
}

func main() {
	log.SetFlags(log.Ltime)
	seed := flag.Uint64("seed", uint64(time.Now().UnixNano()), "which hands")
	long := flag.Duration("for", 2*time.Minute, "how long they work")
	flag.Parse()
	log.Printf("seed %d, for %s", *seed, *long)
	if err := run(*seed, *long); err != nil {
		log.Fatalf("soak: seed %d: %v", *seed, err)
	}
	log.Print("all has settled")
}

func run(seed uint64, long time.Duration) error {
	ctx, cancel := context.WithTimeout(context.Background(), long+10*time.Minute)
	defer cancel()
	dir, err := os.MkdirTemp("", "lantern-soak-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	bin, err := filepath.Abs("bin/lantern")
	if err != nil {
		return err
	}
	demo := exec.CommandContext(ctx, bin, "demo", "--dir", dir)
	demo.Cancel = func() error { return demo.Process.Signal(syscall.SIGINT) }
	if err := demo.Start(); err != nil {
		return err
	}
	s := &soak{Rand: rand.New(rand.NewPCG(seed, seed)), dir: dir, demo: demo.Process.Pid}
	defer func() {
		s.endAgents()
		_ = demo.Process.Signal(syscall.SIGINT)
		_ = demo.Wait()
	}()
	if err := s.begin(ctx); err != nil {
		return err
	}
	for end := time.Now().Add(long); time.Now().Before(end); {
		s.act(ctx)
		time.Sleep(s.upTo(800 * time.Millisecond))
	}
	return s.settle(ctx)
}

// upTo is some time, up to so much.
func (s *soak) upTo(most time.Duration) time.Duration { return time.Duration(s.Int64N(int64(most))) }

// until waits for something, and says what it was where it does not come.
func until(what string, most time.Duration, is func() bool) error {
	for end := time.Now().Add(most); !is(); time.Sleep(300 * time.Millisecond) {
		if time.Now().After(end) {
			return fmt.Errorf("it is not so after %s: %s", most, what)
		}
	}
	return nil
}

// begin waits for the demo, carries the policy to every host, and notes what its files are then.
func (s *soak) begin(ctx context.Context) error {
	err := until("the demo has started", time.Minute, func() bool {
		settings, err := os.ReadFile(filepath.Join(s.dir, ".lantern.yaml"))
		if err != nil {
			return false
		}
		_, token, _ := strings.Cut(string(settings), "token: ")
		s.api = client.New(service, strings.TrimSpace(token))
		hosts, err := s.hosts(ctx)
		return err == nil && len(hosts) > 20 && !slices.ContainsFunc(hosts, func(h api.Host) bool { return h.LastSeen == nil })
	})
	if err != nil {
		return err
	}
	s.base, _ = policy.Collect(os.DirFS(filepath.Join(s.dir, "demo-state", "policy"))) // what is wrong with it the service says
	for _, edit := range [][2]string{
		{"repositories: [curlew, brinewick-shelf]", "repositories: [curlew]"},
		{`settings: { saltmarsh.series: "9" }`, `settings: { saltmarsh.series: "8" }`},
	} {
		other := map[string][]byte{}
		for name, text := range s.base {
			other[name] = bytes.Replace(text, []byte(edit[0]), []byte(edit[1]), 1)
		}
		s.other = append(s.other, other)
	}
	s.other = append(s.other, s.base)
	if _, err := s.api.Publish(ctx, api.Publication{Files: s.base, Message: "the first"}); err != nil {
		return err
	}
	var ro api.Rollout
	err = until("a rollout begins", time.Minute, func() bool {
		ro, err = s.api.BeginRollout(ctx, api.RolloutOrder{AtOnce: true, Because: "the first"})
		return err == nil
	})
	if err != nil {
		return err
	}
	if err := until("the first rollout ends", 5*time.Minute, func() bool {
		ro, err = s.api.Rollout(ctx, ro.ID, client.List{PerPage: 1000})
		return err == nil && ro.Ended != nil
	}); err != nil {
		return err
	}
	return s.note(&ro)
}

// hosts lists all hosts.
func (s *soak) hosts(ctx context.Context) ([]api.Host, error) {
	page, err := s.api.Hosts(ctx, client.List{PerPage: 1000})
	return page.Hosts, err
}

// settle ends what the hands began, and looks whether one rollout and healing put everything right.
func (s *soak) settle(ctx context.Context) error {
	log.Print("the hands rest")
	for _, vendor := range vendors {
		if err := standin.Spoil(ctx, upstreams, vendor, ""); err != nil {
			return err
		}
	}
	s.takeOut()
	if err := s.missingAgents(); err != nil {
		return err
	}
	if _, err := s.api.Publish(ctx, api.Publication{Files: s.base, Message: "as it was"}); err != nil {
		return err
	}
	var left []string
	for range 8 {
		if err := s.stopAll(ctx); err != nil {
			return err
		}
		_, _ = s.api.BeginRollout(ctx, api.RolloutOrder{AtOnce: true, Because: "to settle"}) // nothing may be left to begin
		s.rests(ctx)
		time.Sleep(3 * time.Second) // each host looks at itself
		hosts, err := s.hosts(ctx)
		if err != nil {
			return err
		}
		left = nil
		for i := range hosts {
			if hosts[i].State == api.StateSteady {
				continue
			}
			left = append(left, fmt.Sprintf("%s is %s: %s", hosts[i].Name, hosts[i].State, hosts[i].Detail))
			_, _ = s.api.HealAs(ctx, hosts[i].Name, api.HealOrder{SetAside: true}) // it may be being changed
		}
		if len(left) == 0 {
			return s.compare()
		}
		log.Printf("%d hosts are not steady yet", len(left))
		s.rests(ctx)
	}
	return errors.New("it does not settle:\n" + strings.Join(left, "\n"))
}

// rests waits until nothing is under way, for a while.
func (s *soak) rests(ctx context.Context) {
	_ = until("nothing is under way", time.Minute, func() bool { // what does not end is stopped
		open, err := s.open(ctx)
		return err == nil && len(open) == 0
	})
}

// stopAll stops every rollout that is under way.
func (s *soak) stopAll(ctx context.Context) error {
	open, err := s.open(ctx)
	for _, ro := range open {
		_, _ = s.api.StopRollout(ctx, ro.ID) // it may have ended
	}
	return err
}

// open lists the rollouts that are under way.
func (s *soak) open(ctx context.Context) ([]api.Rollout, error) {
	page, err := s.api.Rollouts(ctx, client.List{PerPage: 1000})
	return slices.DeleteFunc(page.Rollouts, func(ro api.Rollout) bool { return ro.Ended != nil }), err
}
