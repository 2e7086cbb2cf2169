package cli_test

import (
	"bufio"
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
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

// TestAKilledServiceLosesNothingThatItAcknowledged kills the service in the midst
// of writes, again and again, and looks afterwards for everything that it said
// it had done.
func TestAKilledServiceLosesNothingThatItAcknowledged(t *testing.T) {
	data := filepath.Join(t.TempDir(), "data")
	token := ""
	var acknowledged []string
	for round := range 6 {
		cmd, address, first := served(t, data)
		if first != "" {
			token = first
		}
		c := client.New(address, token)
		var mu sync.Mutex
		var wg sync.WaitGroup
		ctx, cancel := context.WithCancel(context.Background())
		for w := range 4 {
			wg.Go(func() {
				for n := 0; ctx.Err() == nil; n++ {
					name := fmt.Sprintf("op-%d-%d-%d", round, w, n)
					if _, err := c.AddOperator(ctx, api.OperatorOrder{Name: name, Role: "reader"}); err != nil {
						return
					}
					mu.Lock()
					acknowledged = append(acknowledged, name)
					mu.Unlock()
				}
			})
		}
		time.Sleep(40*time.Millisecond + rand.N(80*time.Millisecond))
		require.NoError(t, cmd.Process.Kill())
		_ = cmd.Wait() // it was killed
		cancel()
		wg.Wait()
	}
	require.NotEmpty(t, acknowledged)
	st, err := store.Open(context.Background(), filepath.Join(data, "lantern.db"))
	require.NoError(t, err)
	defer st.Close()
	require.NoError(t, st.Check(context.Background()))
	list, err := st.Operators(context.Background())
	require.NoError(t, err)
	have := map[string]bool{}
	for _, o := range list {
		have[o.Name] = true
	}
	for _, name := range acknowledged {
		assert.True(t, have[name], name)
	}
	t.Logf("%d acknowledged writes in 6 rounds, none lost", len(acknowledged))
}

// sources reads the files that the agent may touch, temporary ones aside.
func sources(t *testing.T, root string) map[string]string {
	t.Helper()
	out := map[string]string{}
	for _, dir := range []string{"etc/apt", "etc/apt/sources.list.d", "etc/apt/keyrings"} {
		entries, err := os.ReadDir(filepath.Join(root, dir))
		if os.IsNotExist(err) {
			continue
		}
		require.NoError(t, err)
		for _, e := range entries {
			if e.Type().IsRegular() && !strings.HasPrefix(e.Name(), ".") {
				b, err := os.ReadFile(filepath.Join(root, dir, e.Name()))
				require.NoError(t, err)
				out[filepath.Join(dir, e.Name())] = string(b)
			}
		}
	}
	return out
}

// TestAKilledAgentLeavesTheHostOldOrNew kills the real agent at moments of all
// kinds while it carries a change out.
func TestAKilledAgentLeavesTheHostOldOrNew(t *testing.T) {
	binary := agentBinary(t)
	r := rig.New(t)
	ctx := context.Background()
	var old, made map[string]string
	var seen []map[string]string
	for round := range 10 {
		root, h := r.Enrol("gw-01")
		before := sources(t, root)
		if old == nil {
			old = before
			stop := r.Start(h)
			r.Surveyed("gw-01")
			r.Publish()
			assert.Equal(t, 1, r.Carry().Counts["done"])
			stop()
			made = sources(t, root)
			require.NotEqual(t, old, made)
			require.NoError(t, os.RemoveAll(root))
			continue
		}
		require.Equal(t, old, before)
		if d, err := r.Operator.Host(ctx, "gw-01"); err == nil && d.State != api.StateChanging {
			_, err := r.Operator.BeginRollout(ctx, 0)
			require.NoError(t, err)
		}
		cmd := exec.Command(binary, "run", "--root", root)
		require.NoError(t, cmd.Start())
		time.Sleep(time.Duration(round)*60*time.Millisecond + rand.N(60*time.Millisecond))
		require.NoError(t, cmd.Process.Kill())
		_ = cmd.Wait() // it was killed
		again, err := agent.OpenHost(root)
		require.NoError(t, err)
		_, err = again.Recover() // what an agent does first
		require.NoError(t, err)
		require.NoError(t, again.Close())
		now := sources(t, root)
		seen = append(seen, now)
		// An apt-get that was at work ends a moment after its agent.
		require.Eventually(t, func() bool { return os.RemoveAll(root) == nil }, 10*time.Second, 50*time.Millisecond)
	}
	for i, now := range seen {
		if !assert.ObjectsAreEqual(old, now) {
			assert.Equal(t, made, now, "kill %d left something between", i)
		}
	}
}
