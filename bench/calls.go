package main

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/store"
)

func replaceOnce(text []byte, old, new string) []byte {
	return bytes.Replace(text, []byte(old), []byte(new), 1)
}

// server is the real service in a process of its own.
type server struct {
	cmd   *exec.Cmd
	url   string
	token string
	ready time.Duration
}

// startServer starts the service on a data folder and waits until it answers.
func startServer(data, token string) (*server, error) {
	cmd := exec.Command("bin/lantern", "serve", "--data", data, "--listen", "127.0.0.1:0", "--check-in", "1h", "--log", "error")
	cmd.Stderr = os.Stderr
	out, err := cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	begun := time.Now()
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	s := &server{cmd: cmd, token: token}
	lines := bufio.NewScanner(out)
	for lines.Scan() {
		if _, url, ok := strings.Cut(lines.Text(), "Listening on "); ok {
			s.url, s.ready = url, time.Since(begun)
			go func() { _, _ = io.Copy(io.Discard, out) }()
			return s, nil
		}
	}
	return nil, fmt.Errorf("the service did not start: %w", cmd.Wait())
}

func (s *server) stop() error {
	if err := s.cmd.Process.Signal(syscall.SIGTERM); err != nil {
		return err
	}
	return s.cmd.Wait()
}

// resident is the memory that the process holds, and the most that it ever held, in MB.
func (s *server) resident() (now, most int64) {
	b, err := os.ReadFile(filepath.Join("/proc", strconv.Itoa(s.cmd.Process.Pid), "status"))
	if err != nil {
		return 0, 0
	}
	for line := range strings.Lines(string(b)) {
		f := strings.Fields(line)
		switch {
		case len(f) < 2:
		case f[0] == "VmRSS:":
			now, _ = strconv.ParseInt(f[1], 10, 64)
		case f[0] == "VmHWM:":
			most, _ = strconv.ParseInt(f[1], 10, 64)
		}
	}
	return now / 1024, most / 1024
}

// call sends one request and returns how long the answer took, and what it was.
func (s *server) call(method, path string, body any) (time.Duration, []byte, error) {
	return s.as(s.token, method, path, body, http.StatusOK)
}

// as is call for somebody else; expected is a status that is no failure.
func (s *server) as(token, method, path string, body any, expected int) (time.Duration, []byte, error) {
	var in io.Reader
	if body != nil {
		in = bytes.NewReader(mustJSON(body))
	}
	req, err := http.NewRequest(method, s.url+path, in)
	if err != nil {
		return 0, nil, err
	}
	req.Header.Set("Authorization", "Bearer "+token)
	req.Header.Set("Content-Type", "application/json")
	begun := time.Now()
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		return 0, nil, err
	}
	defer resp.Body.Close()
	b, err := io.ReadAll(resp.Body)
	if err == nil && resp.StatusCode >= 300 && resp.StatusCode != expected {
		err = fmt.Errorf("%s %s answered %s: %.300s", method, path, resp.Status, b)
	}
	return time.Since(begun), b, err
}

// measured is one call with its goal.
type measured struct {
	what, method, path string
	body               any
	goal               time.Duration
	runs               int
	status             int // that is expected where it is another than 200
}

func (s *suite) measure(srv *server, m measured) error {
	var worst time.Duration
	var size int
	var all []string
	for range max(m.runs, 1) {
		d, b, err := srv.as(srv.token, m.method, m.path, m.body, max(m.status, http.StatusOK))
		if err != nil {
			return err
		}
		worst, size = max(worst, d), len(b)
		all = append(all, d.Round(time.Millisecond/10).String())
	}
	s.add(
		m.what,
		m.goal.String(),
		worst <= m.goal,
		fmt.Sprintf("%s (%s), %d kB", worst.Round(time.Millisecond/10), strings.Join(all, " "), size/1000),
		"",
	)
	return nil
}

// calls measures each kind of call over HTTP, with 100,000 hosts under a revision.
func calls(s *suite) error {
	ctx := context.Background()
	p, done, err := largePopulation(ctx)
	if err != nil {
		return err
	}
	defer done()
	what := fmt.Sprintf("100,000 hosts, %d surveys of %d sources", len(p.surveys), p.sources)
	srv, err := startServer(p.dir, p.token)
	if err != nil {
		return err
	}
	defer func() { _ = srv.stop() }()
	now, most := srv.resident()
	s.add(
		"service start, revision published",
		"2s, 400 MB",
		srv.ready < 2*time.Second && now < 400,
		fmt.Sprintf("%s, %d MB, at most %d MB", srv.ready.Round(time.Millisecond), now, most),
		what,
	)
	if err := everybody(s, srv, p); err != nil {
		return err
	}
	if err := looks(s, srv, p); err != nil {
		return err
	}
	if err := changes(s, srv, p); err != nil {
		return err
	}
	now, most = srv.resident()
	s.add("memory after each kind of call", "600 MB", now < 600, fmt.Sprintf("%d MB, at most %d MB", now, most), "")
	if err := srv.stop(); err != nil {
		return err
	}
	if srv, err = startServer(p.dir, p.token); err != nil {
		return err
	}
	now, most = srv.resident()
	s.add(
		"service start after rollouts",
		"2s, 400 MB",
		srv.ready < 2*time.Second && now < 400,
		fmt.Sprintf("%s, %d MB, at most %d MB", srv.ready.Round(time.Millisecond), now, most),
		what,
	)
	return nil
}

// everybody lets all hosts check in once.
func everybody(s *suite, srv *server, p *population) error {
	rate, err := everybodyIn(srv, p)
	if err != nil {
		return err
	}
	now, most := srv.resident()
	s.add(
		"memory after everybody's check-in",
		"400 MB",
		now < 400,
		fmt.Sprintf("%d MB, at most %d MB", now, most),
		fmt.Sprintf("%.0f first check-ins a second, client on the same cores", rate),
	)
	return nil
}

// everybodyIn lets all hosts check in once, and returns how many did in a second.
func everybodyIn(srv *server, p *population) (rate float64, err error) {
	tokens, err := agentTokens(p.key, p.hosts)
	if err != nil {
		return 0, err
	}
	bodies := map[string][]byte{}
	body := func(h *store.Host) []byte {
		k := h.Traits + h.Survey + h.Sheet
		if bodies[k] == nil {
			bodies[k] = mustJSON(api.CheckIn{Traits: h.Traits, Survey: h.Survey, Sheet: h.Sheet, Revision: h.Revision})
		}
		return bodies[k]
	}
	for _, h := range p.hosts {
		body(h)
	}
	return send(
		srv.url+"/api/agent/check-in",
		int64(len(p.hosts)),
		func(k int64) (string, []byte) { return tokens[k], body(p.hosts[k]) },
	)
}

// looks measures what changes nothing.
func looks(s *suite, srv *server, p *population) error {
	host := p.hosts[len(p.hosts)/2].Name
	for _, m := range []measured{
		{what: "page of hosts", method: "GET", path: "/api/hosts?sort=-findings&page=3", goal: 60 * time.Millisecond, runs: 5},
		{what: "page of drift", method: "GET", path: "/api/drift?sort=since", goal: 60 * time.Millisecond, runs: 5},
		{what: "drift, each finding once", method: "GET", path: "/api/drift/groups", goal: 150 * time.Millisecond, runs: 5},
		{what: "places of packages", method: "GET", path: "/api/repositories", goal: 300 * time.Millisecond, runs: 5},
		{what: "whence a package", method: "GET", path: "/api/whence?package=saltmarsh-server", goal: 300 * time.Millisecond, runs: 5},
		{what: "field of all hosts by cohort", method: "GET", path: "/api/field?by=cohort", goal: 100 * time.Millisecond, runs: 5},
		{what: "keys of the fleet", method: "GET", path: "/api/keys", goal: 300 * time.Millisecond, runs: 5},
		{what: "host shown", method: "GET", path: "/api/hosts/" + host, goal: 100 * time.Millisecond, runs: 3},
		{
			what:   "host shown, wrong name",
			method: "GET",
			path:   "/api/hosts/node-0500x0.brinewick.test",
			goal:   20 * time.Millisecond,
			status: http.StatusNotFound,
			runs:   3,
		},
		{what: "explain", method: "GET", path: "/api/hosts/" + host + "/explanation", goal: 50 * time.Millisecond, runs: 3},
		{what: "revisions, 1,000 of them", method: "GET", path: "/api/revisions", goal: 50 * time.Millisecond, runs: 3},
		{what: "outlook", method: "GET", path: "/api/outlook", goal: 300 * time.Millisecond, runs: 3},
		{
			what:   "policy check of an edit",
			method: "POST",
			path:   "/api/policy/check",
			body:   api.Publication{Files: p.edited("check")},
			goal:   time.Second,
			runs:   3,
		},
		{
			what:   "preview of an edit in everyone's repository",
			method: "POST",
			path:   "/api/policy/preview",
			body:   api.Publication{Files: p.edited("preview")},
			goal:   2 * time.Second,
			runs:   2,
		},
	} {
		if err := s.measure(srv, m); err != nil {
			return err
		}
	}
	begun := time.Now()
	var all sync.WaitGroup
	var failed error
	for range 5 {
		all.Go(func() {
			if _, _, err := srv.call("POST", "/api/policy/preview", api.Publication{Files: p.edited("five")}); err != nil {
				failed = err
			}
		})
	}
	all.Wait()
	took := time.Since(begun)
	s.add("the same preview, five at once", "2s", took < 2*time.Second, took.Round(time.Millisecond).String(), "")
	return failed
}

// changes measures what changes something.
func changes(s *suite, srv *server, p *population) error {
	if err := s.measure(
		srv,
		measured{
			what:   "publish an edit",
			method: "POST",
			path:   "/api/revisions",
			body:   api.Publication{Files: p.edited("publish"), Message: "an edit"},
			goal:   2 * time.Second,
		},
	); err != nil {
		return err
	}
	for n, kind := range []struct {
		what  string
		order api.RolloutOrder
		then  func(*server, *population, int64) error
	}{
		{"begin a rollout to all at once", api.RolloutOrder{AtOnce: true, Because: "a benchmark"}, s.reports},
		{"begin a rollout in waves", api.RolloutOrder{}, s.waves},
	} {
		if err := s.measure(
			srv,
			measured{what: kind.what, method: "POST", path: "/api/rollouts", body: kind.order, goal: time.Second},
		); err != nil {
			return err
		}
		id := int64(n + 1)
		if err := kind.then(srv, p, id); err != nil {
			return err
		}
		if err := s.measure(srv, measured{
			what: "show of it", method: "GET", path: fmt.Sprintf("/api/rollouts/%d", id), goal: 100 * time.Millisecond, runs: 20,
		}); err != nil {
			return err
		}
		if _, _, err := srv.call("POST", fmt.Sprintf("/api/rollouts/%d/stop", id), nil); err != nil {
			return err
		}
	}
	return s.measure(srv, measured{what: "list of rollouts", method: "GET", path: "/api/rollouts", goal: 50 * time.Millisecond, runs: 3})
}

// waves lets the hosts of the first two waves report, one and a tenth, and measures what the
// service does for each: its wave, its gates, its rows.
func (s *suite) waves(srv *server, p *population, rollout int64) error {
	each, count, err := carried(srv, p, rollout, 2)
	if err != nil {
		return err
	}
	s.add("a host of a rollout in waves, of processor time", "1ms", each < time.Millisecond, each.Round(time.Microsecond).String(),
		fmt.Sprintf("%d hosts in two waves, of 100,000 in three", count))
	return nil
}

// carried lets the hosts of the first waves of a rollout report, and returns what the service took for each.
func carried(srv *server, p *population, rollout int64, waves int) (each time.Duration, count int, err error) {
	byName := make(map[string]*store.Host, len(p.hosts))
	for _, h := range p.hosts {
		byName[h.Name] = h
	}
	var used time.Duration
	for wave := 1; wave <= waves; wave++ {
		hosts, err := waiting(srv, byName, rollout, wave)
		if err != nil {
			return 0, 0, err
		}
		tokens, err := agentTokens(p.key, hosts)
		if err != nil {
			return 0, 0, err
		}
		before := srv.processor()
		for i, t := range tokens {
			report := api.Report{Rollout: rollout, State: "done", Step: "done", Sheet: hosts[i].Sheet, Survey: hosts[i].Survey}
			if _, _, err := srv.as(t, "POST", "/api/agent/reports", report, http.StatusNoContent); err != nil {
				return 0, 0, err
			}
		}
		used, count = used+srv.processor()-before, count+len(tokens)
	}
	return used / time.Duration(max(count, 1)), count, nil
}

// waiting returns the hosts that may begin, once a wave has begun.
func waiting(srv *server, byName map[string]*store.Host, rollout int64, wave int) ([]*store.Host, error) {
	var out []*store.Host
	end := time.Now().Add(time.Minute)
	for page := 1; ; {
		_, b, err := srv.call("GET", fmt.Sprintf("/api/rollouts/%d?state=waiting&per_page=500&page=%d", rollout, page), nil)
		if err != nil {
			return nil, err
		}
		var ro api.Rollout
		if err := json.Unmarshal(b, &ro); err != nil {
			return nil, err
		}
		all := 0 // of the wave, which is let begin in batches
		for i := range ro.Parts {
			if ro.Parts[i].Wave == wave {
				all += ro.Parts[i].Hosts
			}
		}
		if ro.Wave < wave || page == 1 && ro.Total < all {
			if time.Now().After(end) {
				return nil, fmt.Errorf("wave %d does not begin: %s", wave, ro.Says)
			}
			time.Sleep(100 * time.Millisecond)
			continue
		}
		for _, h := range ro.Hosts {
			if known := byName[h.Host]; known != nil {
				out = append(out, known)
			}
		}
		if len(ro.Hosts) == 0 {
			return out, nil
		}
		page++
	}
}

// reports lets 10,000 hosts report, in the order of their names.
func (s *suite) reports(srv *server, p *population, rollout int64) error {
	tokens, err := agentTokens(p.key, p.hosts[:10_000])
	if err != nil {
		return err
	}
	srv.rests()
	begun, used := time.Now(), srv.processor()
	for i, t := range tokens {
		h := p.hosts[i]
		report := api.Report{Rollout: rollout, State: "done", Step: "done", Sheet: h.Sheet, Survey: h.Survey}
		if _, _, err := srv.as(t, "POST", "/api/agent/reports", report, http.StatusNoContent); err != nil {
			return err
		}
	}
	each := (srv.processor() - used) / time.Duration(len(tokens))
	s.add(
		"a report in name order, of processor time",
		"1ms",
		each < time.Millisecond,
		fmt.Sprintf(
			"%s, and %s of waiting",
			each.Round(time.Microsecond),
			(time.Since(begun)/time.Duration(len(tokens))).Round(time.Microsecond),
		),
		"10,000 reports one after another",
	)
	return nil
}

// rests waits until the process has nothing to do that was begun before: what a preview leaves to be worked out behind is no
// part of what follows.
func (s *server) rests() {
	for range 120 {
		before := s.processor()
		time.Sleep(time.Second)
		if s.processor()-before < 30*time.Millisecond {
			return
		}
	}
}

// processor is how much processor time the process has used.
func (s *server) processor() time.Duration {
	b, err := os.ReadFile(filepath.Join("/proc", strconv.Itoa(s.cmd.Process.Pid), "stat"))
	if err != nil {
		return 0
	}
	_, rest, _ := strings.Cut(string(b), ") ")
	f := strings.Fields(rest)
	user, _ := strconv.ParseInt(f[11], 10, 64)
	system, _ := strconv.ParseInt(f[12], 10, 64)
	return time.Duration(user+system) * 10 * time.Millisecond // clock ticks are hundredths on Linux
}
