package service_test

import (
	"bufio"
	"bytes"
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"patientlantern.example/lantern/datafolder"

	"github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/jwt"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/agent"
	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/client"
	"patientlantern.example/lantern/core/rollout"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/internal/rig"
	"patientlantern.example/lantern/store"
)

// puppet is a host that the test plays itself.
type puppet struct {
	t    *testing.T
	r    *rig.Rig
	name string
	key  ed25519.PrivateKey
}

func newPuppet(t *testing.T, r *rig.Rig, name string) *puppet {
	t.Helper()
	_, key, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	p := &puppet{t, r, name, key}
	require.Equal(t, http.StatusOK, p.join(key))
	return p
}

func (p *puppet) join(key ed25519.PrivateKey) int {
	p.t.Helper()
	i, err := p.r.Operator.Invite(ctx, api.InviteOrder{Host: p.name})
	require.NoError(p.t, err)
	jwk, err := (&jose.JSONWebKey{Key: key.Public()}).MarshalJSON()
	require.NoError(p.t, err)
	return p.post("/api/agent/join", api.Join{Token: i.Token, Key: string(jwk)}, nil)
}

func (p *puppet) post(path string, in, out any) int {
	p.t.Helper()
	b, ok := in.([]byte)
	if !ok {
		var err error
		b, err = json.Marshal(in)
		require.NoError(p.t, err)
	}
	status, text := p.call(http.MethodPost, path, b)
	if out != nil {
		require.NoError(p.t, json.Unmarshal(text, out), string(text))
	}
	return status
}

func (p *puppet) get(path string) (status int, text []byte) { return p.call(http.MethodGet, path, nil) }

func (p *puppet) call(method, path string, b []byte) (status int, text []byte) {
	p.t.Helper()
	req, err := http.NewRequest(method, p.r.Server.URL+path, bytes.NewReader(b))
	require.NoError(p.t, err)
	s, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.EdDSA, Key: jose.JSONWebKey{Key: p.key, KeyID: p.name}}, (&jose.SignerOptions{}).WithType("JWT"))
	require.NoError(p.t, err)
	now := p.r.Clock.Now()
	token, err := jwt.Signed(s).Claims(jwt.Claims{Issuer: p.name, Audience: jwt.Audience{api.AgentAudience}, IssuedAt: jwt.NewNumericDate(now), Expiry: jwt.NewNumericDate(now.Add(5 * time.Minute))}).Serialize()
	require.NoError(p.t, err)
	req.Header.Set("Authorization", "Bearer "+token)
	resp, err := http.DefaultClient.Do(req)
	require.NoError(p.t, err)
	defer resp.Body.Close()
	text, err = io.ReadAll(resp.Body)
	require.NoError(p.t, err)
	return resp.StatusCode, text
}

// surveyed sends a survey of a Skerry host.
func (p *puppet) surveyed(instance string) api.CheckInAnswer {
	p.t.Helper()
	traits, err := source.Canonical(source.Traits{OS: source.OS{ID: "skerry", IDLike: []string{"debian"}, Version: "12", Codename: "mussel", Name: "Skerry 12"}, Family: "deb", Arch: "x86_64", Architectures: []string{"amd64"}, Tools: map[string]string{"apt": "2.6.1"}})
	require.NoError(p.t, err)
	survey, err := source.Canonical(source.Survey{Sources: []source.Source{}, Keys: []source.Key{}, Access: []source.Access{}, Problems: []source.Problem{}})
	require.NoError(p.t, err)
	require.Equal(p.t, http.StatusNoContent, p.post("/api/agent/documents", api.Documents{Documents: []api.Document{{Kind: "traits", Body: traits}, {Kind: "survey", Body: survey}}}, nil))
	var out api.CheckInAnswer
	require.Equal(p.t, http.StatusOK, p.post("/api/agent/check-in", api.CheckIn{Traits: source.Digest(traits), Survey: source.Digest(survey), Agent: "test", Instance: instance}, &out))
	require.Empty(p.t, out.Want)
	return out
}

func state(t *testing.T, r *rig.Rig, host string) string {
	t.Helper()
	d, err := r.Operator.Host(ctx, host)
	require.NoError(t, err)
	return d.State
}

func TestOneDeadHostBlocksNobody(t *testing.T) {
	t.Parallel()
	r := rig.New(t, func(o *datafolder.Options) { o.Patience = 12 * time.Second })
	dies := newPuppet(t, r, "gw-05.brinewick.test")
	off := newPuppet(t, r, "gw-04.brinewick.test")
	for _, p := range []*puppet{dies, off} {
		p.surveyed("a")
	}
	r.Up("gw-01")
	r.Publish()
	ro, err := r.Operator.BeginRollout(ctx, rig.AtOnce)
	require.NoError(t, err)
	working := api.Report{Rollout: ro.ID, State: "working", Step: api.StepRefresh}
	require.Equal(t, http.StatusNoContent, dies.post("/api/agent/reports", working, nil))
	assert.Equal(t, api.StateChanging, state(t, r, "gw-05"))

	ended := r.Ended(ro.ID) // by itself
	assert.Equal(t, map[rollout.State]int{"queued": 0, "waiting": 0, "working": 0, "done": 1, "unchanged": 0, "failed": 0, "behind": 2, "skipped": 0}, ended.Counts)
	assert.NotEqual(t, api.StateSteady, state(t, r, "gw-05"))

	// one of them comes back and catches up, though a new rollout has begun
	again, err := r.Operator.BeginRollout(ctx, rig.AtOnce)
	require.NoError(t, err)
	assert.Greater(t, again.ID, ro.ID)
	assert.True(t, dies.surveyed("a").Work)
	require.Equal(t, http.StatusNoContent, dies.post("/api/agent/reports", api.Report{Rollout: again.ID, State: "failed", Step: api.StepPlan, Message: "as the test wants"}, nil))
	assert.Equal(t, 1, r.Ended(again.ID).Counts["failed"])

	// who comes back and dies again is left behind again, though its rollout has ended
	assert.True(t, off.surveyed("a").Work)
	require.Equal(t, http.StatusNoContent, off.post("/api/agent/reports", api.Report{Rollout: again.ID, State: "working", Step: api.StepRefresh}, nil))
	r.Until("it blocks nobody", func() bool {
		ro, err := r.Operator.Rollout(ctx, again.ID, client.List{})
		return err == nil && ro.Counts["working"] == 0 && ro.Counts["behind"] > 0
	})

	// and a retired one ends its task
	third, err := r.Operator.BeginRollout(ctx, rig.AtOnce)
	require.NoError(t, err)
	require.NoError(t, r.Operator.Retire(ctx, "gw-04"))
	require.NoError(t, r.Operator.Retire(ctx, "gw-05"))
	assert.Equal(t, 2, r.Ended(third.ID).Counts["behind"])
	assert.Equal(t, http.StatusUnauthorized, dies.post("/api/agent/check-in", api.CheckIn{}, nil), "a retired host's proof ends at once")
}

func TestStoppingEndsAllThatCanBeEnded(t *testing.T) {
	t.Parallel()
	r := rig.New(t, func(o *datafolder.Options) { o.Patience = 5 * time.Second })
	var all []*puppet
	for _, n := range []string{"gw-01", "gw-02", "gw-03", "gw-04"} {
		p := newPuppet(t, r, n+".brinewick.test")
		p.surveyed("a")
		all = append(all, p)
	}
	r.Publish()
	ro, err := r.Operator.BeginRollout(ctx, rig.AtOnce)
	require.NoError(t, err)
	report := func(p *puppet, state, step string) int {
		return p.post("/api/agent/reports", api.Report{Rollout: ro.ID, State: state, Step: step, Message: "m"}, nil)
	}
	require.Equal(t, http.StatusNoContent, report(all[0], "working", api.StepPlan))
	require.Equal(t, http.StatusNoContent, report(all[1], "working", api.StepSwap))
	stopped, err := r.Operator.StopRollout(ctx, ro.ID)
	require.NoError(t, err)
	assert.Equal(t, []string{"gw-01.brinewick.test", "gw-02.brinewick.test"}, stopped.Left, "what is left is said")
	require.NotNil(t, stopped.Stopped)
	assert.Equal(t, 2, stopped.NotReached, "those that had not begun")
	assert.Equal(t, 4, stopped.All())
	assert.Equal(t, http.StatusConflict, report(all[0], "working", api.StepTry), "nothing was touched yet: the agent stops")
	assert.Equal(t, http.StatusNoContent, report(all[1], "working", api.StepRefresh), "files are in place: it goes on")
	assert.Equal(t, http.StatusNoContent, report(all[0], "stopped", api.StepTry))
	ended := r.Ended(ro.ID) // gw-02 dies, and keeps nobody waiting
	assert.Equal(t, 3, ended.NotReached, "one of them had begun, and has touched nothing")
	assert.Equal(t, 4, ended.All(), "whoever was meant is counted to the end")
	assert.Contains(t, ended.Says, "it was stopped before 3 hosts had begun")
	assert.False(t, all[1].surveyed("a").Work, "what was stopped is not caught up with")
	_, err = r.Operator.BeginRollout(ctx, rig.AtOnce)
	require.NoError(t, err)
}

func TestAHostWhoseVendorHangsIsNotSilent(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	root := r.Up("gw-01")
	require.NotEmpty(t, root)
	r.Publish()
	require.NoError(t, r.Upstreams.SetFault("packages.saltmarsh.example", "slow"))
	ro, err := r.Operator.BeginRollout(ctx, rig.AtOnce)
	require.NoError(t, err)
	seen := map[string]bool{}
	r.Until("the rollout ends", func() bool {
		got, err := r.Operator.Rollout(ctx, ro.ID, client.List{})
		require.NoError(t, err)
		if got.Ended == nil && got.Counts["working"] == 1 {
			seen[state(t, r, "gw-01")] = true
			seen[got.Hosts[0].Report.Step] = true
		}
		return got.Ended != nil
	})
	assert.False(t, seen[api.StateSilent])
	assert.True(t, seen[api.StateChanging])
	assert.True(t, seen[api.StepRefresh], "each step is told: %v", seen)
}

func TestWithoutSignInNothingCosts(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	post := func(body string) (int, string) {
		resp, err := http.Post(r.Server.URL+"/api/session", "application/json", strings.NewReader(body))
		require.NoError(t, err)
		defer resp.Body.Close()
		text, err := io.ReadAll(resp.Body)
		require.NoError(t, err)
		return resp.StatusCode, string(text)
	}
	for _, body := range []string{
		`{"token":` + strings.Repeat("[", 2000) + strings.Repeat("]", 2000) + `}`, `{"token":"` + strings.Repeat("Zs", 1500) + `","more":{` + strings.Repeat(`"Zs":1,`, 100) + `"Zs":1}}`,
		strings.Repeat("x", 161<<10), `{"token":"plo_ZsZsZs"}`, `[` + strings.Repeat(`{"a":1},`, 400) + `1]`,
	} {
		code, text := post(body)
		assert.GreaterOrEqual(t, code, 400)
		assert.Less(t, code, 500)
		assert.Less(t, len(text), 8<<10, "%d bytes for %d", len(text), len(body))
		assert.NotContains(t, text, "ZsZs", "what was sent is not repeated")
	}
	limited := 0
	for range 40 {
		if code, _ := post(`{"token":"plo_wrong"}`); code == http.StatusTooManyRequests {
			limited++
		}
	}
	assert.Positive(t, limited)
	code, _ := post(`{"token":"` + r.Operator.Token + `"}`)
	assert.Equal(t, http.StatusTooManyRequests, code)
}

func TestAHostCannotChangeWhatAnotherHas(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	r.Up("gw-01")
	r.Publish()
	require.Equal(t, 1, r.Carry().Counts["done"])
	evil := newPuppet(t, r, "gw-02.brinewick.test")
	rows, err := documentsOf(r, store.KindSheet)
	require.NoError(t, err)
	require.NotEmpty(t, rows)
	var docs []api.Document
	for digest := range rows {
		d, err := r.Service.Store.Document(ctx, digest, store.KindSheet)
		require.NoError(t, err)
		docs = append(docs, api.Document{Kind: "text", Body: d.Body})
	}
	require.Equal(t, http.StatusNoContent, evil.post("/api/agent/documents", api.Documents{Documents: docs}, nil))
	after, err := documentsOf(r, store.KindSheet)
	require.NoError(t, err)
	assert.Equal(t, rows, after, "a sheet stays a sheet")
	heal, err := r.Operator.Heal(ctx, "gw-01")
	require.NoError(t, err)
	assert.Equal(t, 1, r.Ended(heal.ID).Counts["unchanged"])

	began := time.Now()
	assert.Equal(t, http.StatusUnprocessableEntity, evil.post("/api/agent/documents", []byte(`{"documents":[`+strings.Repeat("{},", 10<<20)+`{}]}`), nil))
	assert.Less(t, time.Since(began), 5*time.Second, "what cannot be taken is refused at once")
	big := api.Documents{Documents: []api.Document{{Kind: "text", Body: bytes.Repeat([]byte("x"), 7<<20)}}}
	code := 0
	for n := 0; n < 30 && code != http.StatusTooManyRequests; n++ {
		big.Documents[0].Body[n] = 'y'
		code = evil.post("/api/agent/documents", big, nil)
	}
	assert.Equal(t, http.StatusTooManyRequests, code, "a host has a quota")
	info, err := os.Stat(filepath.Join(r.Dir, "data", "lantern.db"))
	require.NoError(t, err)
	r.Clock.Forward(48 * time.Hour)
	n, err := r.Service.Sweep(ctx)
	require.NoError(t, err)
	assert.Greater(t, n, 10, "what nothing names is forgotten")
	again, err := r.Operator.Host(ctx, "gw-01")
	require.NoError(t, err)
	assert.NotEmpty(t, again.Sources)
	_, err = r.Operator.Preview(ctx, 0)
	require.NoError(t, err)
	smaller, err := os.Stat(filepath.Join(r.Dir, "data", "lantern.db"))
	require.NoError(t, err)
	assert.LessOrEqual(t, smaller.Size(), info.Size())
}

// documentsOf lists the digests of a kind that are stored.
func documentsOf(r *rig.Rig, kind string) (map[string]bool, error) {
	db, err := sql.Open("sqlite", filepath.Join(r.Dir, "data", "lantern.db"))
	if err != nil {
		return nil, err
	}
	defer db.Close()
	rows, err := db.Query("SELECT digest FROM documents WHERE kind = ?", kind)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := map[string]bool{}
	for rows.Next() {
		var d string
		if err := rows.Scan(&d); err != nil {
			return nil, err
		}
		out[d] = true
	}
	return out, rows.Err()
}

func TestALookAtAFolderKeepsNothing(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	r.Up("gw-01")
	reader, err := r.Operator.AddOperator(ctx, api.OperatorOrder{Name: "mira", Role: "reader"})
	require.NoError(t, err)
	before, err := documentsOf(r, store.KindSheet)
	require.NoError(t, err)
	c := client.New(r.Server.URL, reader.Token)
	p, err := c.PreviewFolder(ctx, api.Publication{Files: r.Policy()})
	require.NoError(t, err, "a reader may look")
	assert.Equal(t, 1, p.Changing)
	_, err = c.Check(ctx, api.Publication{Files: r.Policy()})
	require.NoError(t, err)
	after, err := documentsOf(r, store.KindSheet)
	require.NoError(t, err)
	assert.Equal(t, before, after)
	policies, err := documentsOf(r, store.KindPolicy)
	require.NoError(t, err)
	assert.Empty(t, policies)
}

func TestKeysThatAreMissingAreNotMadeAnew(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	r.Up("gw-01")
	data := filepath.Join(r.Dir, "data")
	r.Stop()
	key := filepath.Join(data, "signing-key.pem")
	require.NoError(t, os.Rename(key, key+".away"))
	_, err := datafolder.Open(ctx, datafolder.Options{Data: data})
	require.ErrorContains(t, err, "signing-key.pem is missing, and 1 hosts have pinned it")
	assert.NoFileExists(t, key)
	require.NoError(t, os.Rename(key+".away", key))
	require.NoError(t, os.Chmod(key, 0o644))
	_, err = datafolder.Open(ctx, datafolder.Options{Data: data})
	require.ErrorContains(t, err, "signing-key.pem can be reached by others (mode 0644), and it holds keys; change its mode: chmod 0600 ")
	require.NoError(t, os.Chmod(key, 0o600))
	require.NoError(t, os.Chmod(data, 0o755))
	_, err = datafolder.Open(ctx, datafolder.Options{Data: data})
	require.ErrorContains(t, err, "chmod 0700")
	require.NoError(t, os.Chmod(data, 0o700))

	// a document that is damaged costs one host's state
	db, err := sql.Open("sqlite", filepath.Join(data, "lantern.db"))
	require.NoError(t, err)
	_, err = db.Exec("UPDATE documents SET body = x'00' WHERE kind = 'traits'")
	require.NoError(t, err)
	require.NoError(t, db.Close())
	s, err := datafolder.Open(ctx, datafolder.Options{Data: data, Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	defer s.Close()
	c := client.New(newServer(t, s), r.Operator.Token)
	page, err := c.Hosts(ctx, client.List{})
	require.NoError(t, err)
	require.Len(t, page.Hosts, 1)
	assert.Contains(t, page.Hosts[0].Detail, "damaged in the database")
	assert.Equal(t, 1, page.Standing.Failed)
}

func TestSessionsAndStreamsEndWithTheirOperator(t *testing.T) {
	t.Parallel()
	r := rig.New(t, func(o *datafolder.Options) { o.TLS = true })
	mira, err := r.Operator.AddOperator(ctx, api.OperatorOrder{Name: "mira", Role: "reader"})
	require.NoError(t, err)
	resp, err := http.Post(r.Server.URL+"/api/session", "application/json", strings.NewReader(`{"token":"`+mira.Token+`"}`))
	require.NoError(t, err)
	resp.Body.Close()
	cookie := resp.Cookies()[0]
	assert.True(t, cookie.Secure, "under the service's own TLS")
	assert.Contains(t, resp.Header.Get("Strict-Transport-Security"), "max-age=")
	get := func(path string) *http.Response {
		req, err := http.NewRequest(http.MethodGet, r.Server.URL+path, nil)
		require.NoError(t, err)
		req.AddCookie(cookie)
		resp, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		return resp
	}
	stream := get("/api/events")
	defer stream.Body.Close()
	require.Equal(t, http.StatusOK, stream.StatusCode)
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		_, _ = io.Copy(io.Discard, bufio.NewReader(stream.Body)) // ends with the stream
	}()
	_, err = r.Operator.AddOperator(ctx, api.OperatorOrder{Name: "mira", Role: "reader"})
	require.NoError(t, err)
	select {
	case <-ended:
	case <-time.After(10 * time.Second):
		t.Fatal("the stream goes on after the operator was given another token")
	}
	again := get("/api/session")
	again.Body.Close()
	assert.Equal(t, http.StatusUnauthorized, again.StatusCode, "so does the session")
}

func TestTwoMachinesWithOneIdentityAreTold(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	p := newPuppet(t, r, "gw-01.brinewick.test")
	for _, run := range []string{"a", "b", "c"} { // one that is started again and again
		p.surveyed(run)
	}
	assert.NotEqual(t, api.StateFailed, state(t, r, "gw-01"))
	p.surveyed("b") // a call that was late
	assert.NotEqual(t, api.StateFailed, state(t, r, "gw-01"))
	p.surveyed("c")
	d, err := r.Operator.Host(ctx, "gw-01")
	require.NoError(t, err)
	assert.Equal(t, api.StateFailed, d.State)
	assert.Contains(t, d.Detail, "two machines check in with this host's identity")

	copied := &puppet{t, r, "gw-02.brinewick.test", p.key}
	assert.Equal(t, http.StatusConflict, copied.join(p.key), "a copied image joins with the key of another")
}

// distrusting is a host on which somebody has switched the check of signatures off in a
// file of the policy, with the file and the text that the policy gives it.
func distrusting(t *testing.T) (r *rig.Rig, root, own, was string) {
	t.Helper()
	r = rig.New(t)
	root = r.Up("gw-01")
	r.Publish()
	require.Equal(t, 1, r.Carry().Counts["done"])
	own = filepath.Join(root, "etc/apt/sources.list.d/saltmarsh.sources")
	was = read(t, own)
	edited(t, own, "Components: main\n", "Components: main\nTrusted: yes\n")
	return r, root, own, was
}

func TestAVendorWhoIsDownDoesNotBlockHealing(t *testing.T) {
	t.Parallel()
	r, root, own, was := distrusting(t)
	require.NoError(t, r.Upstreams.SetFault("metrics.plover.example", "missing"))
	require.NoError(t, os.WriteFile(filepath.Join(root, "etc/apt/sources.list.d/zz-leftover.list"), []byte("deb nonsense\n"), 0o644))
	r.Until("the danger is found", func() bool {
		return slices.ContainsFunc(r.Findings("gw-01"), func(f string) bool { return strings.HasPrefix(f, "checks-weakened danger") })
	})
	heal, err := r.Operator.Heal(ctx, "gw-01")
	require.NoError(t, err)
	ro := r.Ended(heal.ID)
	require.Equal(t, 1, ro.Counts["done"], "%+v", ro.Hosts[0].Report)
	assert.Equal(t, was, read(t, own), "healed around the file that stops apt, and the vendor who is down")
	assert.Contains(t, ro.Hosts[0].Report.Message, "zz-leftover.list stops the package manager altogether")
	r.Until("it is found that the file stops everything", func() bool {
		return slices.Contains(r.Findings("gw-01"), "refused fault /etc/apt/sources.list.d/zz-leftover.list")
	})
	heal, err = r.Operator.HealAs(ctx, "gw-01", api.HealOrder{SetAside: true})
	require.NoError(t, err)
	ro = r.Ended(heal.ID)
	require.Equal(t, 1, ro.Counts["done"], "%+v", ro.Hosts[0].Report)
	assert.Equal(t, "deb nonsense\n", read(t, filepath.Join(root, "etc/apt/sources.list.d/zz-leftover.list.disabled")))
	assert.NoFileExists(t, filepath.Join(root, "etc/apt/sources.list.d/zz-leftover.list"))
}

func TestADangerDoesNotComeBackWithAChangeThatFails(t *testing.T) {
	t.Parallel()
	r, root, own, was := distrusting(t)
	r.Until("the danger is found", func() bool { return len(r.Findings("gw-01")) > 0 })
	files := r.Policy()
	files["policy.yaml"] = []byte(strings.Replace(string(files["policy.yaml"]), "/apt.gannet.example/open-storage", "/apt.gannet.example/none", 1))
	publish(t, r, files)
	ro := r.Carry()
	require.Equal(t, 1, ro.Counts["failed"], "a source of the change itself does not work: %+v", ro.Hosts[0].Report)
	assert.Equal(t, was, read(t, own), "what took the danger away stays")
	assert.Contains(t, ro.Hosts[0].Report.Kept, "/etc/apt/sources.list.d/saltmarsh.sources")
	assert.Contains(t, ro.Hosts[0].Report.Message, "since going back would bring back: ")
	storage := read(t, filepath.Join(root, "etc/apt/sources.list.d/gannet-open-storage.sources"))
	assert.Contains(t, storage, "/apt.gannet.example/open-storage", "what did not work is put back")
}

func TestARepositoryIsRenamed(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	root := r.Up("gw-01")
	r.Publish()
	require.Zero(t, r.Carry().Counts["failed"])
	files := r.Policy()
	for name, text := range files {
		if strings.HasSuffix(name, ".yaml") {
			files[name] = regexp.MustCompile(`([^a-z.])saltmarsh([],:. ])`).ReplaceAll(text, []byte("${1}marsh${2}"))
		}
	}
	publish(t, r, files)
	ro := r.Carry()
	require.Zero(t, ro.Counts["failed"], "%+v", ro.Hosts)
	assert.NoFileExists(t, filepath.Join(root, "etc/apt/sources.list.d/saltmarsh.sources"))
	assert.FileExists(t, filepath.Join(root, "etc/apt/sources.list.d/marsh.sources"))
}

func TestNeedsAreForeseenHostByHost(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	r.Up("gw-01")
	r.Up("gw-02")
	files := r.Policy()
	files["policy.yaml"] = []byte(strings.Replace(string(files["policy.yaml"]), "  saltmarsh:\n", "  saltmarsh:\n    needs: { packages: [sonar-tools-12] }\n", 1))
	p, err := r.Operator.PreviewFolder(ctx, api.Publication{Files: files})
	require.NoError(t, err)
	assert.Len(t, p.Unsure, 2, "what is not known yet is said")
	r.Until("the hosts have answered", func() bool {
		p, err = r.Operator.PreviewFolder(ctx, api.Publication{Files: files})
		return err == nil && len(p.Unsure) == 0
	})
	for _, g := range p.Groups {
		assert.Contains(t, g.Impossible, "saltmarsh needs the package sonar-tools-12, which is not installed: apt-get install sonar-tools-12")
	}
	c, err := r.Operator.Check(ctx, api.Publication{Files: files})
	require.NoError(t, err)
	found := false
	for _, d := range c.Diagnostics {
		found = found || d.Code == "needs-unmet" && strings.Contains(d.Message, "on 2 hosts: gw-01.brinewick.test, gw-02.brinewick.test")
	}
	assert.True(t, found, "%v", c.Diagnostics)
}

func TestAHostComesBackToAFreshService(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	root, h := r.Enrol("gw-01")
	stop := r.Start(h)
	r.Surveyed("gw-01")
	for range 3 { // revision 3
		files := r.Policy()
		files["more.yaml"] = []byte(fmt.Sprintf("format: patient-lantern/1\n# %d\n", time.Now().UnixNano()))
		_, err := r.Operator.Publish(ctx, api.Publication{Files: files})
		require.NoError(t, err)
	}
	require.Equal(t, 1, r.Carry().Counts["done"])
	stop()
	_, err := h.Join(ctx, r.Server.URL, "plj_x."+strings.Repeat("A", 43))
	require.Error(t, err, "a service of that key is not here")

	other := rig.New(t)
	again := other.EnrolRoot("gw-01", root)
	other.Start(again)
	other.Surveyed("gw-01")
	other.Publish()
	ro := other.Carry()
	require.Zero(t, ro.Counts["failed"], "%+v", ro.Hosts[0].Report)
	i, err := other.Operator.Invite(ctx, api.InviteOrder{Host: "gw-01.brinewick.test"})
	require.NoError(t, err)
	_, err = again.Join(ctx, other.Server.URL, i.Token)
	require.ErrorContains(t, err, "another agent is at work on ", "a second join while the agent runs")
	_, err = agent.OpenHost(filepath.Join(root, "none"))
	require.Error(t, err)
}

func TestHealthTellsWhenNothingCanBeWritten(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	health := func() int {
		resp, err := http.Get(r.Server.URL + "/healthz")
		require.NoError(t, err)
		resp.Body.Close()
		return resp.StatusCode
	}
	assert.Equal(t, http.StatusOK, health())
	require.NoError(t, r.Service.Store.Close())
	r.Until("it is told", func() bool { return health() == http.StatusServiceUnavailable })
	assert.True(t, errors.Is(r.Service.Store.Pulse(context.Background(), time.Now()), store.ErrClosed))
	r.Closed()
}
