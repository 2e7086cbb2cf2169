package main

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"patientlantern.example/lantern/api"
)

// fiveWaves is a plan for everybody.
const fiveWaves = `format: patient-lantern/1
plans:
  five: { waves: [ { hosts: 1 }, { hosts: 99 }, { share: 10 % }, { share: 30 % }, { rest: true } ] }
assign: [ { to: everyone, plan: five } ]
`

// waves carries a change to 10,000 hosts in five waves, to its end, and measures what that takes of the service.
func waves(s *suite) error {
	const hosts = 10_000
	dir, err := os.MkdirTemp("", "lantern-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	folder, err := largePolicy()
	if err != nil {
		return err
	}
	folder["plans.yaml"] = []byte(fiveWaves)
	p, err := populate(context.Background(), filepath.Join(dir, "data"), folder, largeFleet()[:hosts], nil)
	if err != nil {
		return err
	}
	srv, err := startServer(p.dir, p.token)
	if err != nil {
		return err
	}
	defer func() { _ = srv.stop() }()
	if _, err := everybodyIn(srv, p); err != nil {
		return err
	}
	if _, _, err := srv.call("POST", "/api/revisions", api.Publication{Files: p.edited("waves"), Message: "an edit"}); err != nil {
		return err
	}
	begun, _, err := srv.call("POST", "/api/rollouts", api.RolloutOrder{})
	if err != nil {
		return err
	}
	each, count, err := carried(srv, p, 1, 5)
	if err != nil {
		return err
	}
	_, b, err := srv.call("GET", "/api/rollouts/1", nil)
	if err != nil {
		return err
	}
	var ro api.Rollout
	if err := json.Unmarshal(b, &ro); err != nil {
		return err
	}
	now, most := srv.resident()
	s.add(
		"10,000 hosts in five waves, of processor time a host",
		"1ms, 300 MB",
		each < time.Millisecond && most < 300 && count == hosts && ro.Ended != nil,
		fmt.Sprintf("%s, %d MB, at most %d MB", each.Round(time.Microsecond), now, most),
		fmt.Sprintf("begun in %s; %d hosts reported; %s", begun.Round(time.Millisecond), count, ro.Says),
	)
	return nil
}
