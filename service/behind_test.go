package service_test

import (
	"net/http"
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/datafolder"
	"patientlantern.example/lantern/internal/rig"
)

// Who fails to sign in through what stands in front of the service locks nobody else out who comes through it, and nobody
// becomes another by a header.
func TestFailedTriesAreThoseOfTheirCaller(t *testing.T) {
	t.Parallel()
	front := func(o *datafolder.Options) { o.Behind = []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")} }
	signIn := func(r *rig.Rig, token string, asked ...string) int {
		req, err := http.NewRequestWithContext(ctx, http.MethodPost, r.Server.URL+"/api/session", strings.NewReader(`{"token":"`+token+`"}`))
		require.NoError(t, err)
		req.Header["X-Forwarded-For"] = asked
		req.Header.Set("Content-Type", "application/json")
		resp, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		defer resp.Body.Close()
		return resp.StatusCode
	}
	r, plain := rig.New(t, front), rig.New(t)
	for range 40 {
		signIn(r, "plo_wrong", "203.0.113.9")
		signIn(plain, "plo_wrong", "203.0.113.9")
	}
	for _, c := range []struct {
		name  string
		on    *rig.Rig
		asked []string
		want  int
	}{
		{"who failed", r, []string{"203.0.113.9"}, http.StatusTooManyRequests},
		{"the same, in the other form", r, []string{"::ffff:203.0.113.9"}, http.StatusTooManyRequests},
		{"who failed says to be another", r, []string{"203.0.113.10, 203.0.113.9"}, http.StatusTooManyRequests},
		{"the same in two lines", r, []string{"203.0.113.10", "203.0.113.9"}, http.StatusTooManyRequests},
		{"through two in front", r, []string{"203.0.113.9, 127.0.0.2"}, http.StatusTooManyRequests},
		{"somebody else", r, []string{"203.0.113.10"}, http.StatusOK},
		{"somebody else who says to be who failed", r, []string{"203.0.113.9, 203.0.113.11"}, http.StatusOK},
		{"what stands in front itself", r, nil, http.StatusOK},
		{"nonsense", r, []string{"203.0.113.9, lantern"}, http.StatusOK},
		{"nobody is known to stand in front", plain, []string{"203.0.113.10"}, http.StatusTooManyRequests},
	} {
		assert.Equal(t, c.want, signIn(c.on, c.on.Operator.Token, c.asked...), c.name)
	}
}
