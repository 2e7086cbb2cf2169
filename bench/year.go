package main

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"golang.org/x/sync/errgroup"

	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/store"
)

// year measures what a year of 100,000 hosts takes on disk: each month a rollout to every host,
// which leaves each of the surveys another one, and somebody's own edit on every tenth host, which
// nobody else has made and which is put right.
func year(s *suite) error {
	ctx := context.Background()
	p, done, err := largePopulation(ctx)
	if err != nil {
		return err
	}
	defer done()
	path := filepath.Join(p.dir, "lantern.db")
	st, err := store.Open(ctx, path)
	if err != nil {
		return err
	}
	y := &lived{st: st, path: path, hosts: p.hosts, now: time.Now().AddDate(-1, 0, 0), next: map[string]string{}}
	before, err := y.sized(ctx)
	if err != nil {
		return err
	}
	begun := time.Now()
	for month := range 12 {
		if err := y.month(ctx, month); err != nil {
			return err
		}
		y.now = y.now.AddDate(0, 1, 0)
	}
	wrote := time.Since(begun)
	after, err := y.sized(ctx)
	if err != nil {
		return err
	}
	grown := after - before
	s.add("history of 100,000 hosts over a year", "measured", true,
		fmt.Sprintf("%d MB, %d bytes a change of a host", grown>>20, grown/int64(y.changes)),
		fmt.Sprintf("%d changes, %d documents that nobody had before, written in %s", y.changes, y.documents, wrote.Round(time.Second)))
	used := map[string]bool{}
	for _, h := range y.hosts {
		for _, d := range []string{h.Survey, h.Sheet, h.Traits, h.Carried.Survey, h.Carried.Sheet} {
			used[d] = true
		}
	}
	half := time.Now().AddDate(0, -6, 0)
	for range y.changes/50_000 + 1 { // as often as the service would in that time
		if err := y.st.ForgetPast(ctx, half); err != nil {
			return err
		}
	}
	past, err := y.st.PastDocuments(ctx)
	if err != nil {
		return err
	}
	for _, list := range past {
		for _, d := range list {
			used[d] = true
		}
	}
	if _, err := y.st.Sweep(ctx, half, func(_, digest string) bool { return used[digest] }); err != nil {
		return err
	}
	left, err := y.sized(ctx)
	if err != nil {
		return err
	}
	s.add("the same, kept for half a year", "less", left < after, fmt.Sprintf("%d MB", (left-before)>>20),
		"what is forgotten is given back to the disk")
	return y.st.Close()
}

// sized is how much the database takes on disk, once nothing is left in its log.
func (y *lived) sized(ctx context.Context) (int64, error) {
	if err := y.st.Close(); err != nil {
		return 0, err
	}
	info, err := os.Stat(y.path)
	if err != nil {
		return 0, err
	}
	y.st, err = store.Open(ctx, y.path)
	return info.Size(), err
}

// lived is a fleet that time passes over.
type lived struct {
	st                 *store.Store
	path               string
	hosts              []*store.Host
	now                time.Time
	next               map[string]string // survey: the one that the rollout of this month leaves
	changes, documents int
}

func (y *lived) month(ctx context.Context, month int) error {
	clear(y.next)
	if err := y.each(ctx, func(int) bool { return true }, func(i int, h *store.Host) error {
		next, err := y.after(ctx, h.Survey, fmt.Sprintf("month %d", month))
		h.Survey, h.Revision = next, h.Revision+1
		h.Carried = store.Carried{Sheet: h.Sheet, Survey: next, At: y.now}
		return err
	}); err != nil {
		return err
	}
	tenth := func(i int) bool { return i%10 == month%10 }
	was := map[int]string{}
	if err := y.each(ctx, tenth, func(i int, h *store.Host) error {
		was[i] = h.Survey
		own, err := y.after(ctx, h.Survey, fmt.Sprintf("by hand on %s in month %d", h.Name, month))
		h.Survey = own
		return err
	}); err != nil {
		return err
	}
	return y.each(ctx, tenth, func(i int, h *store.Host) error {
		h.Survey = was[i]
		return nil
	})
}

// after is a survey that differs from another one in what somebody did, stored.
func (y *lived) after(ctx context.Context, survey, did string) (string, error) {
	if next := y.next[survey+did]; next != "" {
		return next, nil
	}
	doc, err := y.st.Document(ctx, survey, store.KindSurvey)
	if err != nil {
		return "", err
	}
	var v source.Survey
	if err := json.Unmarshal(doc.Body, &v); err != nil {
		return "", err
	}
	text := []byte("# " + did + "\n")
	v.Files[0].Digest = source.Digest(text)
	b, err := source.Canonical(v)
	if err != nil {
		return "", err
	}
	next := source.Digest(b)
	y.next[survey+did] = next
	y.documents += 2
	return next, y.st.PutDocuments(ctx, y.now, store.Document{Kind: store.KindSurvey, Digest: next, Body: b},
		store.Document{Kind: store.KindText, Digest: source.Digest(text), Body: text})
}

// each changes hosts and stores them, many at a time.
func (y *lived) each(ctx context.Context, which func(i int) bool, do func(i int, h *store.Host) error) error {
	var writing errgroup.Group
	writing.SetLimit(1024)
	for i, h := range y.hosts {
		if !which(i) {
			continue
		}
		y.now = y.now.Add(time.Millisecond)
		next := *h
		if err := do(i, &next); err != nil {
			return err
		}
		next.LastSeen = y.now
		y.hosts[i] = &next
		y.changes++
		writing.Go(func() error { return y.st.PutHost(ctx, &next, store.Change{}) })
	}
	return writing.Wait()
}
