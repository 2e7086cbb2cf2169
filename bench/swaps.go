package main

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/index"
	"patientlantern.example/lantern/core/policy"
	"patientlantern.example/lantern/core/resolve"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/upstream"
	"patientlantern.example/lantern/store"
)

const (
	installed = 1500 // packages on each host
	cohorts   = 20 * variants
)

// toolPolicy gives everyone three repositories; they offer the same packages, in versions of their own.
func toolPolicy() (policy.Folder, error) {
	folder, err := largePolicy()
	if err != nil {
		return nil, err
	}
	delete(folder, "rest.yaml")
	rest := "format: patient-lantern/1\nassign:\n  - { to: everyone, repositories: [repo-000, repo-001, repo-002] }\n"
	folder["rest.yaml"] = []byte(rest)
	return folder, nil
}

// toolFleet is a fleet in which each release has each variant.
func toolFleet() []resolve.Host {
	out := largeFleet()
	sets := out[:traitCount]
	traits := make([]*source.Traits, traitCount)
	for i := range sets {
		traits[i] = sets[i].Traits
	}
	for i := range out {
		n := i / variants % traitCount
		out[i].Traits, out[i].Class = traits[n], fmt.Sprint("traits-", n)
	}
	return out
}

// tool is the name of a package.
func tool(i int) string { return fmt.Sprintf("tool-%04d", i) }

// answersOf are what the hosts of each survey have installed: a third of it in versions of their own.
func answersOf() func(survey string) (*store.Answer, error) {
	known := map[string]*store.Answer{}
	return func(survey string) (*store.Answer, error) {
		if a := known[survey]; a != nil {
			return a, nil
		}
		names, versions := make([]string, installed), map[string]string{}
		for i := range names {
			names[i] = tool(i)
			if versions[names[i]] = fmt.Sprintf("1.%d-1", i%3); i%3 == 0 {
				versions[names[i]] = fmt.Sprintf("1.0-1+%d", len(known)%7)
			}
		}
		b, err := json.Marshal(map[string]any{"asked": "a benchmark", "names": names, "installed": versions})
		if err != nil {
			return nil, err
		}
		known[survey] = store.NewAnswer(b)
		return known[survey], nil
	}
}

// offered stores what the places of surveys offer, as a look at them does: of each repository 150 packages that stand nowhere else, and
// 150 that all have, in versions of their own.
func offered(ctx context.Context, p *population) error {
	st, err := store.Open(ctx, filepath.Join(p.dir, "lantern.db"))
	if err != nil {
		return err
	}
	defer st.Close()
	places := map[string]*upstream.Use{}
	for digest := range p.surveys {
		d, err := st.Document(ctx, digest, store.KindSurvey)
		if err != nil {
			return err
		}
		var survey source.Survey
		if err := json.Unmarshal(d.Body, &survey); err != nil {
			return err
		}
		uses := upstream.Uses(&survey)
		for i := range uses {
			places[uses[i].Key] = &uses[i]
		}
	}
	var group errgroup.Group
	group.SetLimit(64)
	for key, use := range places {
		group.Go(func() error { return lookedAt(ctx, st, key, use) })
	}
	return group.Wait()
}

// lookedAt stores a look at a place.
func lookedAt(ctx context.Context, st *store.Store, key string, use *upstream.Use) error {
	var list []index.Package
	which := 4
	_, _ = fmt.Sscanf(use.Address(), "https://packages.saltmarsh.example/%d/", &which)
	for i := range installed {
		if i%10 == which || i%10 == 3 {
			list = append(list, index.Package{Name: tool(i), Version: fmt.Sprintf("1.%d-1", (i+which)%4), Arch: "amd64"})
		}
	}
	packed, err := index.NewList(list).Pack()
	if err != nil {
		return err
	}
	now := time.Now()
	look, err := json.Marshal(api.RepositoryLook{
		State: api.PlaceGood, Checked: &now, Since: &now, Read: &now, Packages: len(list),
		Found: &upstream.Found{URL: use.Address(), Date: now, Release: &upstream.ReleaseFile{Origin: "Saltmarsh", Codename: use.Suite}},
	})
	if err != nil {
		return err
	}
	return st.PutUpstream(ctx, store.Upstream{Place: key, Look: look, List: packed}, store.Change{})
}

// swaps measures what is told of packages: where hosts get one from, and which of those that are installed a change of the policy
// would swap.
func swaps(s *suite) error {
	ctx := context.Background()
	folder, err := toolPolicy()
	if err != nil {
		return err
	}
	dir, err := os.MkdirTemp("", "lantern-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	p, err := populate(ctx, filepath.Join(dir, "data"), folder, toolFleet(), answersOf())
	if err == nil {
		err = offered(ctx, p)
	}
	if err != nil {
		return err
	}
	if len(p.surveys) != cohorts {
		return fmt.Errorf("there are %d surveys, and %d are meant", len(p.surveys), cohorts)
	}
	srv, err := startServer(p.dir, p.token)
	if err != nil {
		return err
	}
	defer func() { _ = srv.stop() }()
	srv.rests()
	if err := s.measure(srv, measured{
		what: "whence one of 1,500 packages", method: "GET", path: "/api/whence?package=" + tool(13), goal: 300 * time.Millisecond, runs: 5,
	}); err != nil {
		return err
	}
	edit := maps.Clone(p.folder)
	edit["rest.yaml"] = replaceOnce(edit["rest.yaml"], "[repo-000, repo-001, repo-002]", "[repo-000, repo-001]")
	took, body, err := srv.as(p.token, http.MethodPost, "/api/policy/preview", api.Publication{Files: edit}, http.StatusOK)
	if err != nil {
		return err
	}
	var told api.Preview
	if err := json.Unmarshal(body, &told); err != nil {
		return err
	}
	swapped, why := 0, []string{}
	for _, x := range told.Swaps {
		swapped += x.Hosts
	}
	for _, x := range told.Unforeseen {
		why = append(why, fmt.Sprintf("not known of %d hosts: %s", x.Hosts, x.Why))
	}
	s.add("what an edit of the policy would swap", "2s", took < 2*time.Second && swapped > 0 && len(why) == 0,
		fmt.Sprintf("%s, %d swaps on hosts %s", took.Round(time.Millisecond), swapped, strings.Join(why, "; ")),
		fmt.Sprintf("100,000 hosts in %d cohorts, with %d packages each", cohorts, installed))
	now, most := srv.resident()
	s.add("memory afterwards", "600 MB", now < 600, fmt.Sprintf("%d MB, at most %d MB", now, most), "")
	return nil
}
