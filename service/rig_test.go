package service_test

import (
	"net/http/httptest"
	"testing"

	"patientlantern.example/lantern/cli"
)

func newServer(t *testing.T, r *cli.Running) string {
	srv := httptest.NewServer(r.Handler())
	t.Cleanup(srv.Close)
	return srv.URL
}
