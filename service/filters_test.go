package service_test

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/internal/rig"
)

// freely are filters that take whatever people type: a part of a text, or the name of what may be gone.
var freely = map[string]bool{"q": true, "name": true, "package": true}

// TestAWrongWordIsNoEmptyList: what names something, in a filter of any list, is refused where there is no such thing.
// An empty list would be taken for a fleet that is well. What is no filter at all is refused as well: it would let
// everything through.
func TestAWrongWordIsNoEmptyList(t *testing.T) {
	r := rig.New(t)
	r.Up("gw-01")
	r.Accounts()
	r.Publish()
	r.Carry()
	ask := func(path string) (int, string) {
		ctx, cancel := context.WithCancel(t.Context())
		defer cancel()
		req, err := http.NewRequestWithContext(ctx, http.MethodGet, r.Server.URL+path, nil)
		require.NoError(t, err)
		req.Header.Set("Authorization", "Bearer "+r.Operator.Token)
		res, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		defer func() { _ = res.Body.Close() }()
		if strings.HasSuffix(path, "/api/events") {
			return res.StatusCode, ""
		}
		body, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		return res.StatusCode, string(body)
	}
	first := func(list, field string) string {
		_, body := ask("/api/" + list)
		var got struct {
			Items []map[string]any `json:"items"`
		}
		require.NoError(t, json.Unmarshal([]byte(body), &got), body)
		require.NotEmpty(t, got.Items)
		return fmt.Sprint(got.Items[0][field])
	}
	there := strings.NewReplacer("/hosts/{name}", "/hosts/gw-01", "{id}", "1", "/revisions/{number}", "/revisions/1",
		"/keys/{key}", "/keys/"+first("keys", "fingerprint"), "/repositories/{key}", "/repositories/"+first("repositories", "key"))
	tried := 0
	for _, op := range described(t, r) {
		if op.method != "get" || strings.HasPrefix(op.path, "/api/agent/") || op.path == "/api/events" {
			continue
		}
		path := there.Replace(op.path)
		if strings.Contains(path, "{") { // nothing of the kind is there
			continue
		}
		needed, between := url.Values{}, "?"
		for _, p := range op.Parameters {
			if p.In == "query" && p.Required {
				needed.Set(p.Name, map[string]string{"package": "saltmarsh-server"}[p.Name])
				if strings.HasSuffix(p.Name, "at") || p.Name == "from" {
					needed.Set(p.Name, "2026-11-01T00:00:00Z")
				}
			}
		}
		if len(needed) > 0 {
			path, between = path+"?"+needed.Encode(), "&"
		}
		status, body := ask(path + between + "nosuch=filter")
		assert.Equal(t, http.StatusUnprocessableEntity, status, "%s: %s", path, body)
		assert.Contains(t, body, "nosuch", path)
		for _, p := range op.Parameters {
			if p.In != "query" || freely[p.Name] || p.Required {
				continue
			}
			tried++
			status, body := ask(fmt.Sprintf("%s%s%s=nosuch", path, between, p.Name))
			assert.GreaterOrEqual(t, status, 400, "%s by %s: %s", path, p.Name, body)
			assert.Less(t, status, 500, "%s by %s: %s", path, p.Name, body)
		}
	}
	assert.Greater(t, tried, 60)
}

// operation is a call as the service describes it.
type operation struct {
	method, path string
	Parameters   []struct {
		Name, In string
		Required bool
	} `json:"parameters"`
}

func described(t *testing.T, r *rig.Rig) (out []operation) {
	raw, err := r.Service.OpenAPI()
	require.NoError(t, err)
	var all struct {
		Paths map[string]map[string]operation `json:"paths"`
	}
	require.NoError(t, json.Unmarshal(raw, &all))
	for path, methods := range all.Paths {
		for m, op := range methods {
			op.method, op.path = m, path
			out = append(out, op)
		}
	}
	return out
}
