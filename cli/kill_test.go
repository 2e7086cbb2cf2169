package cli_test

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/agent"
	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/client"
	"patientlantern.example/lantern/internal/rig"
	"patientlantern.example/lantern/store"
)

// served starts the real command as a process of its own.
func served(t *testing.T, data string) (cmd *exec.Cmd, address, token string) {
	t.Helper()
	self, err := os.Executable()
	require.NoError(t, err)
	link := filepath.Join(t.TempDir(), "lantern") // under this name the test binary is the command
	require.NoError(t, os.Symlink(self, link))
	cmd = exec.Command(link, "serve", "--data", data, "--listen", "127.0.0.1:0", "--log", "error")
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	cmd.Stderr = os.Stderr
	require.NoError(t, cmd.Start())
	lines := bufio.NewScanner(out)
	for lines.Scan() {
		if rest, ok := strings.CutPrefix(lines.Text(), "First operator's token, printed this once: "); ok {
			token = rest
		}
		if rest, ok := strings.CutPrefix(lines.Text(), "Listening on "); ok {
			return cmd, rest, token
		}
	}
	t.Fatal("the service did not start")
	return nil, "", ""
}

// kills is how many kills a test does, unless LANTERN_KILLS says more.
func kills(usual int) int {
	if n, err := strconv.Atoi(os.Getenv("LANTERN_KILLS")); err == nil {
		return n
	}
	return usual
}

// acknowledged is what a service said that it had done.
type acknowledged struct {
	mu                  sync.Mutex
	operators           []string
	labels              map[string]string
	revisions           map[int64]string
	rollouts, stopped   map[int64]bool
	writes, interrupted int
}

// write does writes of one kind until the service is gone.
func (a *acknowledged) write(ctx context.Context, c *client.Client, kind, round int) {
	for n := 0; ctx.Err() == nil; n++ {
		name := fmt.Sprintf("op-%d-%d-%d", round, kind, n)
		var err error
		done := func() {}
		switch kind {
		case 0:
			_, err = c.AddOperator(ctx, api.OperatorOrder{Name: name, Role: "reader"})
			done = func() { a.operators = append(a.operators, name) }
		case 1:
			_, err = c.Label(ctx, "gw-01", map[string]string{"round": name})
			done = func() { a.labels["gw-01"] = name }
		case 2:
			var r api.Revision
			text := "format: patient-lantern/1\n# " + name + "\n"
			r, err = c.Publish(ctx, api.Publication{Files: map[string][]byte{"policy.yaml": []byte(text)}, Message: name})
			done = func() { a.revisions[r.Number] = name }
		case 3:
			var ro api.Rollout
			if ro, err = c.BeginRollout(ctx, rig.AtOnce); err == nil {
				a.mu.Lock()
				a.rollouts[ro.ID] = true
				a.writes++
				a.mu.Unlock()
				_, err = c.StopRollout(ctx, ro.ID)
				done = func() { a.stopped[ro.ID] = true }
			}
		}
		var refused *client.Error
		a.mu.Lock()
		if err == nil {
			a.writes++
			done()
		} else if !errors.As(err, &refused) {
			a.interrupted++
		}
		a.mu.Unlock()
		if err != nil && !errors.As(err, &refused) {
			return // it is gone
		}
	}
}

// TestAKilledServiceLosesNothingThatItAcknowledged kills the service in the midst
// of writes of all kinds, again and again, and looks afterwards for everything that it
// said it had done.
func TestAKilledServiceLosesNothingThatItAcknowledged(t *testing.T) {
	r := rig.New(t)
	newPuppetHost(t, r)
	r.Stop()
	data := filepath.Join(r.Dir, "data")
	said := &acknowledged{labels: map[string]string{}, revisions: map[int64]string{}, rollouts: map[int64]bool{}, stopped: map[int64]bool{}}
	rounds := kills(8)
	for round := range rounds {
		cmd, address, _ := served(t, data)
		c := client.New(address, r.Operator.Token)
		var wg sync.WaitGroup
		ctx, cancel := context.WithCancel(context.Background())
		for kind := range 4 {
			wg.Go(func() { said.write(ctx, c, kind, round) })
		}
		time.Sleep(40*time.Millisecond + rand.N(80*time.Millisecond))
		require.NoError(t, cmd.Process.Kill())
		_ = cmd.Wait() // it was killed
		wg.Wait()
		cancel()
	}
	require.Positive(t, said.interrupted, "no kill landed in the middle of a write")
	st, err := store.Open(context.Background(), filepath.Join(data, "lantern.db"))
	require.NoError(t, err)
	defer st.Close()
	require.NoError(t, st.Check(context.Background()))
	said.hold(t, st)
	t.Logf("%d acknowledged writes over %d kills, %d of them in the middle of a write, none lost", said.writes, rounds, said.interrupted)
}

// hold looks for everything that was acknowledged.
func (a *acknowledged) hold(t *testing.T, st *store.Store) {
	ctx := context.Background()
	list, err := st.Operators(ctx)
	require.NoError(t, err)
	have := map[string]bool{}
	for _, o := range list {
		have[o.Name] = true
	}
	for _, name := range a.operators {
		assert.True(t, have[name], name)
	}
	revisions, err := st.Revisions(ctx)
	require.NoError(t, err)
	for i, r := range revisions {
		assert.EqualValues(t, len(revisions)-i, r.Number, "numbers have no gaps")
		if want := a.revisions[r.Number]; want != "" {
			assert.Equal(t, want, r.Message)
			_, err := st.Document(ctx, r.Policy, store.KindPolicy)
			assert.NoError(t, err)
		}
	}
	for id := range a.rollouts {
		ro, err := st.Rollout(ctx, id)
		require.NoError(t, err)
		assert.True(t, !a.stopped[id] || !ro.Stopped.IsZero(), "rollout %d was stopped", id)
	}
	hosts, err := st.Hosts(ctx)
	require.NoError(t, err)
	require.Len(t, hosts, 1)
	if want := a.labels["gw-01"]; want != "" {
		assert.True(t, strings.Compare(hosts[0].Labels["round"], "op-") > 0)
	}
}

// newPuppetHost enrols a host that has sent its survey and whose agent does not run.
func newPuppetHost(t *testing.T, r *rig.Rig) {
	t.Helper()
	_, h := r.Enrol("gw-01")
	stop := r.Start(h)
	r.Surveyed("gw-01")
	stop()
}

// configuration reads the files of a host that an agent may touch: those of package sources,
// of keys and of access. What a killed agent has left beside them is in it too.
func configuration(t *testing.T, root string) map[string]string {
	t.Helper()
	out := map[string]string{}
	for _, dir := range []string{"etc", "var/lib/flatpak"} {
		err := filepath.WalkDir(filepath.Join(root, dir), func(name string, d fs.DirEntry, err error) error {
			if err != nil {
				if os.IsNotExist(err) {
					return nil
				}
				return err
			}
			if d.IsDir() && d.Name() == "gnupg" { // pacman's own keyring is filled, and never emptied
				return fs.SkipDir
			}
			if !d.Type().IsRegular() {
				return nil
			}
			b, err := os.ReadFile(name)
			rel, _ := filepath.Rel(root, name)
			out[rel] = string(b)
			return err
		})
		require.NoError(t, err)
	}
	return out
}

// differs lists the files in which two hosts differ.
func differs(a, b map[string]string) (out []string) {
	for name, text := range a {
		if now, there := b[name]; !there {
			out = append(out, "- "+name)
		} else if now != text {
			out = append(out, "~ "+name)
		}
	}
	for name := range b {
		if _, there := a[name]; !there {
			out = append(out, "+ "+name)
		}
	}
	return out
}

// struck runs the real agent, kills it some time after it says that a step begins, and
// returns the step at which it was. It returns "" where the agent was done before.
func struck(t *testing.T, binary, root, step string, after time.Duration) string {
	t.Helper()
	cmd := exec.Command(binary, "run", "--root", root, "--log", "debug")
	said, err := cmd.StderrPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	at := ""
	var mu sync.Mutex
	reached, over := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(over)
		once := false
		lines := bufio.NewScanner(said)
		for lines.Scan() {
			var l struct{ Msg, Step string }
			if json.Unmarshal(lines.Bytes(), &l) != nil || l.Msg != "step" {
				continue
			}
			mu.Lock()
			at = l.Step
			mu.Unlock()
			if l.Step == step && !once {
				once = true
				close(reached)
			}
		}
	}()
	select {
	case <-reached:
		time.Sleep(after)
	case <-time.After(90 * time.Second):
		t.Errorf("the agent did not come to the step %s", step)
	}
	require.NoError(t, cmd.Process.Kill())
	_ = cmd.Wait() // it was killed
	<-over
	mu.Lock()
	defer mu.Unlock()
	return at
}

// TestAKilledAgentLeavesTheHostOldOrNew kills the real agent at each step of carrying a
// change out, over all families, and starts another: the host is wholly as it was or wholly
// as it shall be, and nothing of the agent's is left behind.
func TestAKilledAgentLeavesTheHostOldOrNew(t *testing.T) {
	binary := agentBinary(t)
	steps := []string{api.StepJournal, api.StepStage, api.StepTry, api.StepAccess, api.StepSwap, api.StepRefresh, api.StepProve}
	var mu sync.Mutex
	counts := map[string]int{}
	t.Run("families", func(t *testing.T) {
		for _, name := range []string{"gw-01", "arc-2", "chart-2", "model-2", "desk-3"} {
			t.Run(name, func(t *testing.T) {
				for step, n := range killedOn(t, binary, name, steps, max(1, kills(15)/5)) {
					mu.Lock()
					counts[step] += n
					mu.Unlock()
				}
			})
		}
	})
	middle := 0
	for step, n := range counts {
		if step != "" && step != api.StepVerify && step != api.StepSurvey {
			middle += n
		}
	}
	require.Positive(t, middle, "no kill landed in the middle of a change")
	t.Logf("kills by step: %v", counts)
}

// killedOn kills the agent of one host so many times and returns how often at which step.
func killedOn(t *testing.T, binary, name string, steps []string, times int) map[string]int {
	r := rig.New(t)
	r.Accounts()
	ctx := context.Background()
	root, h := r.Enrol(name)
	old := configuration(t, root)
	stop := r.Start(h)
	r.Surveyed(name)
	if name == "model-2" {
		_, err := r.Operator.Label(ctx, name, map[string]string{"duty": "model"})
		require.NoError(t, err)
	}
	r.Publish()
	require.Zero(t, r.Carry().Counts["failed"])
	stop()
	made := configuration(t, root)
	require.NotEqual(t, old, made)
	counts, first := map[string]int{}, rand.N(len(steps))
	for n := range times {
		require.Eventually(t, func() bool { return os.RemoveAll(root) == nil }, 10*time.Second, 50*time.Millisecond)
		root, h = r.Enrol(name)
		stop := r.Start(h)
		r.Until(name+" is known to be as it was", func() bool {
			d, err := r.Operator.Host(ctx, name)
			return err == nil && d.Findings > 0 && d.State != api.StateChanging
		})
		stop()
		require.NoError(t, h.Close())
		begun, err := r.Operator.BeginRollout(ctx, rig.AtOnce)
		require.NoError(t, err)
		after := time.Duration(0) // most steps take no longer than the word of them
		if step := steps[(first+n)%len(steps)]; step == api.StepTry || step == api.StepRefresh || step == api.StepProve {
			after = rand.N(60 * time.Millisecond)
		}
		at := struck(t, binary, root, steps[(first+n)%len(steps)], after)
		counts[at]++
		if _, err = r.Operator.StopRollout(ctx, begun.ID); err != nil {
			require.ErrorContains(t, err, "has ended already", "the agent may have been done before the kill")
		}
		again, err := agent.OpenHost(root)
		require.NoError(t, err)
		require.NoError(t, again.Settle())
		require.NoError(t, again.Close())
		now := configuration(t, root)
		if !assert.ObjectsAreEqual(old, now) && !assert.ObjectsAreEqual(made, now) {
			t.Errorf("a kill at %q left something between\nagainst the old: %v\nagainst the new: %v", at, differs(old, now), differs(made, now))
		}
	}
	return counts
}
