package service_test

import (
	"net/http/httptest"
	"testing"

	"patientlantern.example/lantern/datafolder"
)

func newServer(t *testing.T, r *datafolder.Running) string {
	srv := httptest.NewServer(r.Handler())
	t.Cleanup(srv.Close)
	return srv.URL
}
