package service_test

import (
	"bytes"
	"context"
	"encoding/json"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/internal/rig"
)

// access says who may call a route: everybody, readers and operators, operators
// only, or agents.
const (
	everybody = "everybody"
	readers   = "readers"
	operators = "operators"
	agents    = "agents"
)

var routes = map[string]string{
	"GET /healthz": everybody, "GET /metrics": everybody, "GET /openapi.json": readers,
	"POST /api/session": everybody, "POST /api/agent/join": everybody,
	"GET /api/session": readers, "DELETE /api/session": readers, "GET /api/hosts": readers, "GET /api/host-names": readers, "GET /api/hosts/{name}": readers, "GET /api/drift/groups": readers, "GET /api/hosts/{name}/history": readers, "GET /api/waivers": readers, "POST /api/waivers": operators, "DELETE /api/waivers/{id}": operators, "GET /api/cohorts": readers, "GET /api/groups": readers, "GET /api/field": readers, "GET /api/keys": readers, "GET /api/whence": readers, "GET /api/repositories": readers, "GET /api/repositories/{key}": readers, "POST /api/repositories/probe": operators, "GET /api/keys/{key}": readers, "GET /api/drift": readers,
	"GET /api/hosts/{name}/explanation": readers, "GET /api/hosts/{name}/survey": readers, "GET /api/revisions/{number}": readers,
	"GET /api/revisions": readers, "GET /api/preview": readers, "GET /api/rollouts": readers, "GET /api/rollouts/{id}": readers, "GET /api/events": readers,
	"DELETE /api/hosts/{name}": operators, "PUT /api/hosts/{name}/labels": operators, "POST /api/hosts/{name}/heal": operators, "POST /api/hosts/{name}/accept": operators, "POST /api/invites": operators,
	"POST /api/policy/preview": readers, "POST /api/policy/adoption": readers, "POST /api/policy/retirement": readers,
	"POST /api/policy/check": readers, "POST /api/revisions": operators, "POST /api/rollouts": operators, "POST /api/rollouts/{id}/stop": operators,
	"POST /api/rollouts/{id}/hold": operators, "POST /api/rollouts/{id}/proceed": operators, "POST /api/rollouts/{id}/consent": operators,
	"POST /api/rollouts/{id}/back-out": operators, "POST /api/rollouts/{id}/skip": operators,
	"POST /api/export": readers, "GET /api/webhooks": operators, "POST /api/webhooks": operators, "DELETE /api/webhooks/{id}": operators, "POST /api/webhooks/{id}/try": operators,
	"GET /api/hosts/{name}/past": readers, "GET /api/hosts/{name}/between": readers, "POST /api/heal": operators, "POST /api/labels": operators, "GET /api/audit": readers, "GET /api/audit/chain": readers,
	"GET /api/freezes": readers, "POST /api/freezes": operators, "DELETE /api/freezes/{id}": operators,
	"GET /api/contracts": readers, "GET /api/seats": readers, "GET /api/channels": readers, "GET /api/outlook": readers, "GET /api/dates": readers, "GET /api/days": readers, "GET /api/settings": readers, "GET /api/calendar": readers, "GET /api/accounts": readers,
	"POST /api/accounts": operators, "DELETE /api/accounts/{name}": operators, "POST /api/seats": operators, "DELETE /api/seats/{host}/{account}": operators,
	"GET /api/proposals": readers, "GET /api/proposals/{number}": readers, "POST /api/proposals": operators, "DELETE /api/proposals/{number}": operators,
	"POST /api/proposals/{number}/agree": operators, "POST /api/proposals/{number}/publish": operators,
	"GET /api/shelves": readers, "POST /api/shelves": operators, "DELETE /api/shelves/{name}": operators, "GET /shelf/{name}/*": everybody, "HEAD /shelf/{name}/*": everybody,
	"POST /api/secrets/rotate": operators,
	"GET /api/operators":       operators, "POST /api/operators": operators, "DELETE /api/operators/{name}": operators,
	"POST /api/agent/check-in": agents, "POST /api/agent/documents": agents, "GET /api/agent/delivery": agents, "POST /api/agent/reports": agents, "POST /api/agent/access": agents, "GET /api/documents/{digest}": agents,
}

func TestEveryRouteForEveryRole(t *testing.T) {
	r := rig.New(t)
	reader, err := r.Operator.AddOperator(context.Background(), api.OperatorOrder{Name: "mira", Role: "reader"})
	require.NoError(t, err)

	doc, err := r.Service.OpenAPI()
	require.NoError(t, err)
	var described struct {
		Paths map[string]map[string]json.RawMessage `json:"paths"`
	}
	require.NoError(t, json.Unmarshal(doc, &described))
	for path, methods := range described.Paths {
		for m := range methods {
			assert.Contains(t, routes, strings.ToUpper(m)+" "+path, "a described route is not in the table")
		}
	}

	callers := map[string]string{"nobody": "", "a stranger": "Bearer plo_wrong", "a reader": "Bearer " + reader.Token, "an operator": "Bearer " + r.Operator.Token}
	for route, access := range routes {
		method, path, _ := strings.Cut(route, " ")
		path = strings.NewReplacer("{name}", "nothing-of-that-name", "{id}", "999", "{number}", "999", "{host}", "nothing-of-that-name", "{account}", "nothing", "{digest}", strings.Repeat("0", 64)).Replace(path)
		for who, header := range callers {
			t.Run(route+" for "+who, func(t *testing.T) {
				ctx, cancel := context.WithCancel(context.Background())
				defer cancel()
				req, err := http.NewRequestWithContext(ctx, method, r.Server.URL+path, bytes.NewReader([]byte("{}")))
				require.NoError(t, err)
				req.Header.Set("Content-Type", "application/json")
				if header != "" {
					req.Header.Set("Authorization", header)
				}
				resp, err := http.DefaultClient.Do(req)
				require.NoError(t, err)
				defer resp.Body.Close()
				let := resp.StatusCode != http.StatusUnauthorized && resp.StatusCode != http.StatusForbidden
				want := access == everybody || access == readers && (who == "a reader" || who == "an operator") || access == operators && who == "an operator"
				if route == "POST /api/agent/join" { // refused for want of a good key, not of a sign-in
					assert.Equal(t, http.StatusBadRequest, resp.StatusCode)
					return
				}
				if route == "POST /api/session" {
					assert.Equal(t, http.StatusUnprocessableEntity, resp.StatusCode)
					return
				}
				assert.Equal(t, want, let, "status %d", resp.StatusCode)
				if !let {
					assert.Equal(t, "application/problem+json", resp.Header.Get("Content-Type"))
				}
			})
		}
	}
}

func TestARequestFromAnotherSiteChangesNothing(t *testing.T) {
	r := rig.New(t)
	resp, err := http.Post(r.Server.URL+"/api/session", "application/json", strings.NewReader(`{"token":"`+r.Operator.Token+`"}`))
	require.NoError(t, err)
	resp.Body.Close()
	require.Equal(t, http.StatusOK, resp.StatusCode)
	cookie := resp.Cookies()[0]
	assert.True(t, cookie.HttpOnly)
	assert.Equal(t, http.SameSiteStrictMode, cookie.SameSite)
	for site, want := range map[string]int{"same-origin": http.StatusOK, "cross-site": http.StatusForbidden} {
		req, err := http.NewRequest(http.MethodPost, r.Server.URL+"/api/invites", strings.NewReader(`{"host":"gw-09.brinewick.test"}`))
		require.NoError(t, err)
		req.Header.Set("Content-Type", "application/json")
		req.Header.Set("Sec-Fetch-Site", site)
		req.AddCookie(cookie)
		resp, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		resp.Body.Close()
		assert.Equal(t, want, resp.StatusCode, site)
	}
}

func TestSigningOutEndsTheSession(t *testing.T) {
	r := rig.New(t)
	resp, err := http.Post(r.Server.URL+"/api/session", "application/json", strings.NewReader(`{"token":"`+r.Operator.Token+`"}`))
	require.NoError(t, err)
	resp.Body.Close()
	cookie := resp.Cookies()[0]
	do := func(method string) int {
		req, err := http.NewRequest(method, r.Server.URL+"/api/session", nil)
		require.NoError(t, err)
		req.AddCookie(cookie)
		resp, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		resp.Body.Close()
		return resp.StatusCode
	}
	assert.Equal(t, http.StatusOK, do(http.MethodGet))
	assert.Equal(t, http.StatusNoContent, do(http.MethodDelete))
	assert.Equal(t, http.StatusUnauthorized, do(http.MethodGet))
}
