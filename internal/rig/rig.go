// Package rig sets up a service with upstreams and simulated hosts for tests.
package rig

import (
	"bytes"
	"context"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"patientlantern.example/lantern/datafolder"

	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/agent"
	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/client"
	"patientlantern.example/lantern/demo"
	"patientlantern.example/lantern/standin"
	"patientlantern.example/lantern/store"
)

// Interval is how often the rig's hosts check in.
const Interval = 500 * time.Millisecond

// AtOnce asks for the newest revision on all hosts together.
var AtOnce = api.RolloutOrder{AtOnce: true, Because: "a test of something else"}

// Rig is a running service with what surrounds it.
type Rig struct {
	T         testing.TB
	Dir       string
	Service   *datafolder.Running
	Server    *httptest.Server
	World     *standin.World
	Upstreams *standin.Upstreams
	Desk      *standin.Desk
	Clock     *Clock
	Upstream  string // URL
	Operator  *client.Client
	Log       *Log // of service and agents

	options datafolder.Options

	away atomic.Bool
	hang atomic.Bool
	once sync.Once
}

// Stop ends the service: another can be started on its data folder.
func (r *Rig) Stop() {
	r.T.Helper()
	r.once.Do(func() { require.NoError(r.T, r.Service.Close()) })
}

// Restart ends the service and starts another one on its data folder.
func (r *Rig) Restart() { r.Reopen(func(string) {}) }

// Reopen is Restart, with something done to the data folder meanwhile.
func (r *Rig) Reopen(meanwhile func(data string)) {
	r.T.Helper()
	r.Away(true)
	require.NoError(r.T, r.Service.Close())
	meanwhile(r.options.Data)
	next, err := datafolder.Open(context.Background(), r.options)
	require.NoError(r.T, err)
	r.Service = next
	r.Away(false)
}

// Away takes the service off the network, or brings it back.
func (r *Rig) Away(away bool) { r.away.Store(away) }

// Closed says that the test itself has closed the service.
func (r *Rig) Closed() { r.once.Do(func() {}) }

// Hang makes the service take calls and answer none, its streams included, or ends that.
func (r *Rig) Hang(hang bool) {
	r.hang.Store(hang)
	r.Service.HoldEvents(hang)
}

// Streams counts who listens to the service's events.
func (r *Rig) Streams() int { return r.Service.Streams() }

// Tend lets the service do what is due for seats.
func (r *Rig) Tend() { r.Service.Tend(context.Background()) }

// Findings returns the classes of a host's findings, as CLASS severity FILE.
func (r *Rig) Findings(name string) (out []string) {
	r.T.Helper()
	d, err := r.Operator.Host(context.Background(), name)
	require.NoError(r.T, err)
	for _, f := range d.Drift {
		out = append(out, strings.TrimSpace(f.Class+" "+f.Severity+" "+f.File))
	}
	return out
}

// AccessLife is how long the access is good that the rig's desks issue.
const AccessLife = 72 * time.Hour

// Clock is the time that service, desks and agents go by: the machine's, moved on.
type Clock struct{ ahead atomic.Int64 }

// Now returns the time.
func (c *Clock) Now() time.Time { return time.Now().Add(time.Duration(c.ahead.Load())) }

// Forward moves the time on.
func (c *Clock) Forward(d time.Duration) { c.ahead.Add(int64(d)) }

// Log keeps what is logged.
type Log struct {
	mu   sync.Mutex
	text bytes.Buffer
}

func (l *Log) Write(b []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.text.Write(b)
}

func (l *Log) String() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.text.String()
}

// Accounts gives the service the accounts at the desks.
func (r *Rig) Accounts() {
	r.T.Helper()
	for name, login := range standin.Logins() {
		_, err := r.Operator.AddAccount(
			context.Background(),
			api.AccountOrder{Name: name, Desk: "http://" + r.World.Desks + "/" + name, Login: login, Password: standin.DeskPassword},
		)
		require.NoError(r.T, err)
	}
}

// empty is a database that is up to date and holds nothing: to make one takes longer than many
// a test.
var empty = sync.OnceValue(func() []byte {
	dir, err := os.MkdirTemp("", "lantern-rig")
	if err != nil {
		panic(err)
	}
	defer os.RemoveAll(dir)
	file := filepath.Join(dir, "lantern.db")
	st, err := store.Open(context.Background(), file)
	if err != nil {
		panic(err)
	}
	if err := st.Close(); err != nil {
		panic(err)
	}
	data, err := os.ReadFile(file)
	if err != nil {
		panic(err)
	}
	return data
})

// New starts a service on a fresh data folder. It ends with the test. Options change how
// it is opened.
func New(t testing.TB, options ...func(*datafolder.Options)) *Rig {
	t.Helper()
	r := &Rig{T: t, Dir: t.TempDir(), Clock: &Clock{}, Log: &Log{}}
	var lns []net.Listener
	for range 3 {
		ln, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		lns = append(lns, ln)
	}
	var err error
	r.World, err = standin.NewWorld(r.Clock.Now, AccessLife, lns[0], lns[1], lns[2])
	require.NoError(t, err)
	t.Cleanup(func() { _ = r.World.Close() })
	r.Upstreams, r.Desk, r.Upstream = r.World.Upstreams, r.World.Desk, "http://"+r.World.Plain
	o := datafolder.Options{
		Data: filepath.Join(
			r.Dir,
			"data",
		), Log: slog.New(slog.NewJSONHandler(r.Log, &slog.HandlerOptions{Level: slog.LevelDebug})), Interval: Interval, Now: r.Clock.Now,
	}
	for _, option := range options {
		option(&o)
	}
	r.options = o
	require.NoError(t, os.MkdirAll(o.Data, 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(o.Data, "lantern.db"), empty(), 0o600))
	r.Service, err = datafolder.Open(context.Background(), o)
	require.NoError(t, err)
	r.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, req *http.Request) {
		if r.away.Load() {
			panic(http.ErrAbortHandler)
		}
		for r.hang.Load() {
			select {
			case <-req.Context().Done():
				return
			case <-time.After(20 * time.Millisecond):
			}
		}
		r.Service.Handler().ServeHTTP(w, req)
	}))
	t.Cleanup(func() {
		r.Server.CloseClientConnections()
		r.Server.Close()
		r.Stop()
	})
	r.Operator = client.New(r.Server.URL, r.Service.FirstToken)
	return r
}

// Policy is the demo's folder, for the rig's upstreams.
func (r *Rig) Policy() map[string][]byte {
	files, err := demo.Policy(r.World.Plain, r.World.Secure)
	require.NoError(r.T, err)
	return files
}

// Publish publishes the demo's policy.
func (r *Rig) Publish() api.Revision {
	rev, err := r.Operator.Publish(context.Background(), api.Publication{Files: r.Policy()})
	require.NoError(r.T, err)
	return rev
}

// Root makes the folder of a simulated host that is not enrolled.
func (r *Rig) Root(name string) string {
	for _, h := range standin.Fleet() {
		if h.Name == name {
			root := filepath.Join(r.Dir, "hosts", name)
			require.NoError(r.T, h.Write(root, r.Upstream, r.Upstreams.Keys()))
			return root
		}
	}
	require.Fail(r.T, "no such host in the scenario", name)
	return ""
}

// Enrol makes a simulated host and lets it join.
func (r *Rig) Enrol(name string) (root string, h *agent.Host) {
	root = r.Root(name)
	return root, r.EnrolRoot(name, root)
}

// EnrolRoot lets the host in a folder join.
func (r *Rig) EnrolRoot(name, root string) *agent.Host {
	ctx := context.Background()
	i, err := r.Operator.Invite(ctx, api.InviteOrder{Host: name + "." + standin.Domain})
	require.NoError(r.T, err)
	h, err := agent.OpenHost(root)
	require.NoError(r.T, err)
	r.T.Cleanup(func() { h.Close() })
	_, err = h.Join(ctx, r.Server.URL, i.Token)
	require.NoError(r.T, err)
	return h
}

// Start runs an agent until the test ends; stop ends it earlier.
func (r *Rig) Start(h *agent.Host) (stop func()) { return r.StartAt(h, r.Clock.Now) }

// StartAt runs an agent whose clock is its own.
func (r *Rig) StartAt(h *agent.Host, now func() time.Time) (stop func()) {
	a, err := agent.New(
		agent.Options{
			Host:    h,
			Log:     slog.New(slog.NewJSONHandler(r.Log, &slog.HandlerOptions{Level: slog.LevelDebug})),
			Version: "test",
			Now:     now,
		},
	)
	require.NoError(r.T, err)
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() { done <- a.Run(ctx) }()
	var once bool
	stop = func() {
		if !once {
			once = true
			cancel()
			require.NoError(r.T, <-done)
		}
	}
	r.T.Cleanup(stop)
	return stop
}

// Up enrols a simulated host, runs its agent until the test ends, and waits for
// its survey.
func (r *Rig) Up(name string) (root string) {
	r.T.Helper()
	root, h := r.Enrol(name)
	r.Start(h)
	r.Surveyed(name)
	return root
}

// mostWaited is how long a test waits for something: package managers are slow on a busy machine.
const mostWaited = time.Minute

// Until waits for something, and fails the test when it does not come. It looks less and less
// often, so that looking does not keep a busy machine from getting there.
func (r *Rig) Until(what string, ok func() bool) {
	r.T.Helper()
	pause := 5 * time.Millisecond
	for end := time.Now().Add(mostWaited); !ok(); pause = min(pause*3/2, 150*time.Millisecond) {
		require.True(r.T, time.Now().Before(end), what)
		<-time.After(pause)
	}
}

// Surveyed waits until a host has sent its survey.
func (r *Rig) Surveyed(name string) {
	r.T.Helper()
	r.Until(name+" sends its survey", func() bool {
		d, err := r.Operator.Host(context.Background(), name)
		return err == nil && d.Traits != nil
	})
}

// Carry rolls the newest revision out and waits for the end.
func (r *Rig) Carry() api.Rollout {
	r.T.Helper()
	ro, err := r.Operator.BeginRollout(context.Background(), AtOnce)
	require.NoError(r.T, err)
	return r.Ended(ro.ID)
}

// Ended waits for the end of a rollout.
func (r *Rig) Ended(id int64) (out api.Rollout) {
	r.T.Helper()
	r.Until("the rollout ends", func() bool {
		var err error
		out, err = r.Operator.Rollout(context.Background(), id, client.List{PerPage: 1000})
		return err == nil && out.Ended != nil
	})
	return out
}
