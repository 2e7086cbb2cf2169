package service_test

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/internal/rig"
)

// receiver is the other side of a webhook.
type receiver struct {
	sync.Mutex
	status int
	calls  int
	ids    []string
	types  []string
	bad    []string
	secret []byte
}

func (r *receiver) ServeHTTP(w http.ResponseWriter, req *http.Request) {
	r.Lock()
	defer r.Unlock()
	text, _ := io.ReadAll(req.Body)
	r.calls++
	if why := r.check(req, text); why != "" {
		r.bad = append(r.bad, why)
	}
	if r.status != 0 {
		if r.status == http.StatusFound {
			w.Header().Set("Location", "/elsewhere")
		}
		w.WriteHeader(r.status)
		return
	}
	var events []struct{ ID, Type, Specversion string }
	if json.Unmarshal(text, &events) != nil {
		r.bad = append(r.bad, "the body is no batch")
	}
	for _, e := range events {
		r.ids, r.types = append(r.ids, e.ID), append(r.types, e.Type)
	}
}

// check verifies a call as RFC 9421 says.
func (r *receiver) check(req *http.Request, text []byte) string {
	sum := sha256.Sum256(text)
	digest := "sha-256=:" + base64.StdEncoding.EncodeToString(sum[:]) + ":"
	_, params, ok := strings.Cut(req.Header.Get("Signature-Input"), "=")
	if !ok || req.Header.Get("Content-Digest") != digest {
		return "digest"
	}
	base := "\"@method\": POST\n\"@target-uri\": http://" + req.Host + req.URL.Path + "\n\"content-digest\": " + digest + "\n\"@signature-params\": " + params
	mac := hmac.New(sha256.New, r.secret)
	mac.Write([]byte(base))
	if req.Header.Get("Signature") != "lantern=:"+base64.StdEncoding.EncodeToString(mac.Sum(nil))+":" {
		return "signature"
	}
	return ""
}

func TestWebhooksAreToldInOrderAndOnce(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	got := &receiver{}
	side := httptest.NewServer(got)
	defer side.Close()
	for _, bad := range []string{"ftp://x.example/", "https://u:p@x.example/", "x.example/path"} {
		_, err := r.Operator.AddWebhook(ctx, api.WebhookOrder{URL: bad})
		require.Error(t, err, bad)
	}
	hook, err := r.Operator.AddWebhook(ctx, api.WebhookOrder{URL: side.URL + "/in", About: []string{"revision", "rollout", "host"}})
	require.NoError(t, err)
	got.Lock()
	got.secret, err = base64.StdEncoding.DecodeString(hook.Secret)
	got.Unlock()
	require.NoError(t, err)
	list, err := r.Operator.Webhooks(ctx)
	require.NoError(t, err)
	assert.Empty(t, list.Webhooks[0].Secret, "it is told once")
	tried, err := r.Operator.TryWebhook(ctx, hook.ID)
	require.NoError(t, err)
	assert.Equal(t, 200, tried.Status)

	fail := func(status int) { got.Lock(); got.status = status; got.Unlock() }
	fail(http.StatusInternalServerError)
	r.Up("gw-01")
	r.Publish()
	require.Zero(t, r.Carry().Counts["failed"])
	r.Until("it has failed", func() bool {
		list, err := r.Operator.Webhooks(ctx)
		return err == nil && list.Webhooks[0].Failed > 0 && strings.Contains(list.Webhooks[0].Error, "500")
	})
	fail(http.StatusFound)
	tried, err = r.Operator.TryWebhook(ctx, hook.ID)
	require.NoError(t, err)
	assert.Contains(t, tried.Message, "302", "no redirect is followed")
	fail(0)
	r.Clock.Forward(2 * 3600 * 1e9)
	has := func(want string) bool {
		got.Lock()
		defer got.Unlock()
		return strings.Contains(strings.Join(got.types, " "), want)
	}
	r.Until("it is told of all that it missed", func() bool { return has("lantern.revision.publish-policy") && has("lantern.rollout.begin-rollout") })
	r.Until("and of the end", func() bool { return has("lantern.rollout.report") || has("lantern.host.report") })
	got.Lock()
	defer got.Unlock()
	assert.Empty(t, got.bad)
	seen := map[string]bool{}
	for _, id := range got.ids {
		assert.False(t, seen[id], "%s was told twice", id)
		seen[id] = true
	}
	assert.NotContains(t, r.Log.String(), hook.Secret)
}
