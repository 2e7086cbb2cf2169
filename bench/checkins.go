package main

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"database/sql"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"time"

	"patientlantern.example/lantern/datafolder"

	"github.com/go-chi/chi/v5"
	"github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/jwt"
	_ "modernc.org/sqlite" // the driver "sqlite"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/store"
)

const (
	connections = 64
	agentCount  = 2000
)

// drive sends requests over a fixed number of connections for a while and
// returns how many were answered in a second.
func drive(url string, length time.Duration, request func(k int64) (token string, body []byte)) (float64, error) {
	end := time.Now().Add(length)
	return sendWhile(url, func(int64) bool { return time.Now().Before(end) }, request)
}

// send sends so many requests, and returns how many were answered in a second.
func send(url string, count int64, request func(k int64) (token string, body []byte)) (float64, error) {
	return sendWhile(url, func(k int64) bool { return k < count }, request)
}

func sendWhile(url string, more func(k int64) bool, request func(k int64) (token string, body []byte)) (float64, error) {
	client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: connections, MaxConnsPerHost: connections}}
	defer client.CloseIdleConnections()
	var count, turn atomic.Int64
	var failed atomic.Value
	var wg sync.WaitGroup
	start := time.Now()
	for range connections {
		wg.Go(func() {
			for {
				k := turn.Add(1) - 1
				if !more(k) {
					return
				}
				token, body := request(k)
				if err := post(client, url, token, body); err != nil {
					failed.Store(err)
					return
				}
				count.Add(1)
			}
		})
	}
	wg.Wait()
	if err, ok := failed.Load().(error); ok {
		return 0, err
	}
	return float64(count.Load()) / time.Since(start).Seconds(), nil
}

func post(client *http.Client, url, token string, body []byte) error {
	req, err := http.NewRequest(http.MethodPost, url, bytes.NewReader(body))
	if err != nil {
		return err
	}
	req.Header.Set("Authorization", "Bearer "+token)
	resp, err := client.Do(req)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	_, _ = io.Copy(io.Discard, resp.Body)
	if resp.StatusCode != http.StatusOK {
		return fmt.Errorf("%s answered %s", url, resp.Status)
	}
	return nil
}

// agentTokens are the proofs of hosts that share a key.
func agentTokens(key ed25519.PrivateKey, hosts []*store.Host) ([]string, error) {
	out := make([]string, len(hosts))
	for i, h := range hosts {
		signer, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.EdDSA, Key: jose.JSONWebKey{Key: key, KeyID: h.Name}}, nil)
		if err != nil {
			return nil, err
		}
		claims := jwt.Claims{
			Issuer:   h.Name,
			Audience: jwt.Audience{api.AgentAudience},
			Expiry:   jwt.NewNumericDate(time.Now().Add(10 * time.Minute)),
		}
		if out[i], err = jwt.Signed(signer).Claims(claims).Serialize(); err != nil {
			return nil, err
		}
	}
	return out, nil
}

func checkIns(s *suite) error {
	dir, err := os.MkdirTemp("", "lantern-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	ctx := context.Background()
	pub, key, err := ed25519.GenerateKey(nil)
	if err != nil {
		return err
	}
	traits, err := source.Canonical(source.Traits{OS: source.OS{ID: "skerry"}, Family: "deb"})
	if err != nil {
		return err
	}
	surveys := make([][]byte, 2)
	for i := range surveys {
		if surveys[i], err = source.Canonical(source.Survey{
			Files:    []source.File{},
			Problems: []source.Problem{{Message: fmt.Sprint(i)}},
		}); err != nil {
			return err
		}
	}
	data := filepath.Join(dir, "data")
	if _, err := newFolder(ctx, data); err != nil {
		return err
	}
	st, err := store.Open(ctx, filepath.Join(data, "lantern.db"))
	if err != nil {
		return err
	}
	hosts := make([]*store.Host, agentCount)
	for i := range hosts {
		hosts[i] = &store.Host{
			Name:   fmt.Sprintf("node-%05d", i),
			Key:    pub,
			Joined: time.Now(),
			Traits: source.Digest(traits),
			Survey: source.Digest(surveys[0]),
		}
	}
	tokens, err := agentTokens(key, hosts)
	if err != nil {
		return err
	}
	docs := []store.Document{{Digest: source.Digest(traits), Kind: store.KindTraits, Body: traits}}
	for _, b := range surveys {
		docs = append(docs, store.Document{Digest: source.Digest(b), Kind: store.KindSurvey, Body: b})
	}
	if err := st.PutDocuments(ctx, time.Now(), docs...); err != nil {
		return err
	}
	if err := st.AddHosts(ctx, hosts); err != nil {
		return err
	}
	if err := st.Close(); err != nil {
		return err
	}
	svc, err := datafolder.Open(ctx, datafolder.Options{Data: data, Log: slog.New(slog.DiscardHandler), Interval: time.Minute})
	if err != nil {
		return err
	}
	defer svc.Close()
	srv := httptest.NewServer(svc.Handler())
	defer srv.Close()

	bare := chi.NewRouter()
	bare.Post("/api/agent/check-in", func(w http.ResponseWriter, r *http.Request) {
		var in api.CheckIn
		if err := json.NewDecoder(r.Body).Decode(&in); err != nil {
			w.WriteHeader(http.StatusBadRequest)
			return
		}
		w.Header().Set("Content-Type", "application/json")
		_ = json.NewEncoder(w).Encode(api.CheckInAnswer{Interval: 60000})
	})
	bareSrv := httptest.NewServer(bare)
	defer bareSrv.Close()

	body := func(i int) []byte {
		b, _ := json.Marshal(
			api.CheckIn{Traits: source.Digest(traits), Survey: source.Digest(surveys[i]), Sheet: source.Digest(nil), Revision: 1},
		)
		return b
	}
	bodies := [][]byte{body(0), body(1)}
	same := func(k int64) (string, []byte) { return tokens[k%agentCount], bodies[0] }
	if _, err := drive(srv.URL+"/api/agent/check-in", 2*time.Second, same); err != nil { // tokens are verified once
		return err
	}
	var ours, theirs float64
	for range 3 { // in turns, so that a change of the machine's speed hits both
		a, err := drive(srv.URL+"/api/agent/check-in", 2*time.Second, same)
		if err != nil {
			return err
		}
		b, err := drive(bareSrv.URL+"/api/agent/check-in", 2*time.Second, same)
		if err != nil {
			return err
		}
		ours, theirs = ours+a/3, theirs+b/3
	}
	s.add(
		"check-in with nothing new",
		"85 % of a bare chi handler",
		ours >= 0.85*theirs,
		fmt.Sprintf("%.0f/s, %.0f %%", ours, 100*ours/theirs),
		fmt.Sprintf("bare chi handler %.0f/s", theirs),
	)

	raw, err := upserts(filepath.Join(dir, "raw.db"))
	if err != nil {
		return err
	}
	changing := func(k int64) (string, []byte) {
		return tokens[k%agentCount], bodies[1-(k/agentCount)%2]
	}
	over, err := drive(srv.URL+"/api/agent/check-in", 3*time.Second, changing)
	if err != nil {
		return err
	}
	rate, err := direct(svc.Handler(), 5*time.Second, changing)
	if err != nil {
		return err
	}
	s.add(
		"check-in that changes a host's row, durable",
		"70 % of raw batched upserts",
		rate >= 0.7*raw,
		fmt.Sprintf(
			"%.0f/s, %.0f %% (over HTTP %.0f/s, client on the same cores)",
			rate,
			100*rate/raw,
			over,
		),
		fmt.Sprintf("database/sql, 256 a transaction: %.0f/s", raw),
	)
	return nil
}

// direct calls a handler without a network between.
func direct(h http.Handler, length time.Duration, request func(k int64) (token string, body []byte)) (float64, error) {
	var count, turn, failed atomic.Int64
	end := time.Now().Add(length)
	start := time.Now()
	var wg sync.WaitGroup
	for range 4 * connections {
		wg.Go(func() {
			for time.Now().Before(end) {
				token, body := request(turn.Add(1))
				req, err := http.NewRequest(http.MethodPost, "/api/agent/check-in", bytes.NewReader(body)) // httptest's costs as much as the call
				if err != nil {
					failed.Add(1)
					return
				}
				req.Header.Set("Authorization", "Bearer "+token)
				rec := httptest.NewRecorder()
				h.ServeHTTP(rec, req)
				if rec.Code != http.StatusOK {
					failed.Add(1)
					return
				}
				count.Add(1)
			}
		})
	}
	wg.Wait()
	if n := failed.Load(); n > 0 {
		return 0, fmt.Errorf("%d check-ins were refused", n)
	}
	return float64(count.Load()) / time.Since(start).Seconds(), nil
}

// upserts writes rows of the same shape in a loop, 256 in a transaction.
func upserts(path string) (float64, error) {
	db, err := sql.Open("sqlite", "file:"+path+"?_pragma=journal_mode(WAL)&_pragma=synchronous(FULL)")
	if err != nil {
		return 0, err
	}
	defer db.Close()
	db.SetMaxOpenConns(1)
	if _, err := db.Exec("CREATE TABLE hosts (id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE, last_seen INTEGER, labels TEXT, " +
		"traits TEXT, survey TEXT, revision INTEGER, sheet TEXT, carried TEXT, since TEXT, free TEXT, agent TEXT, " +
		"task INTEGER) STRICT"); err != nil {
		return 0, err
	}
	n := 0
	start := time.Now()
	for time.Since(start) < 3*time.Second {
		tx, err := db.Begin()
		if err != nil {
			return 0, err
		}
		for range 256 {
			if _, err := tx.Exec("INSERT INTO hosts VALUES (?, ?, ?, '{}', ?, ?, 1, '', '{}', '{}', '{}', 'x', 0) ON CONFLICT (id) DO UPDATE "+
				"SET last_seen = excluded.last_seen, survey = excluded.survey",
				n%agentCount, fmt.Sprintf("node-%05d", n%agentCount), n, source.Digest([]byte("traits")), source.Digest([]byte("survey"))); err != nil {
				return 0, err
			}
			n++
		}
		if err := tx.Commit(); err != nil {
			return 0, err
		}
	}
	return float64(n) / time.Since(start).Seconds(), nil
}
