package answer

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/danielgtaylor/huma/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/service/refusal"
	"patientlantern.example/lantern/store"
)

// said is a log that is a buffer.
func said() (*slog.Logger, *bytes.Buffer) {
	Huma()
	log := new(bytes.Buffer)
	return slog.New(slog.NewTextHandler(log, nil)), log
}

// Each kind of refusal is a status, the same for operators and agents, and says what it says.
func TestEachKindOfRefusalIsAStatus(t *testing.T) {
	w, log := said()
	for kind := refusal.Broken; kind <= refusal.Left; kind++ {
		status := statuses[kind]
		require.NotZero(t, status, "kind %d", kind)
		err := fmt.Errorf("on the way: %w", refusal.Of(kind, "there is no host tern-77"))
		var to huma.StatusError
		require.ErrorAs(t, Told(w, err), &to)
		assert.Equal(t, status, to.GetStatus())
		assert.Equal(t, "there is no host tern-77", to.Error())
		rec := httptest.NewRecorder()
		Fail(w, rec, httptest.NewRequest(http.MethodGet, "/api/agent/delivery", nil), err)
		assert.Equal(t, status, rec.Code)
		assert.Contains(t, rec.Body.String(), "there is no host tern-77")
	}
	assert.Empty(t, log.String(), "whoever asks for something wrong is no trouble of the service")
}

// What breaks inside is told to the log, and to nobody else.
func TestWhatBreaksInsideIsToldToTheLogAlone(t *testing.T) {
	w, log := said()
	inside := errors.New("disk image is malformed at /srv/lantern")
	assert.EqualError(t, Told(w, inside), refusal.Inside)
	rec := httptest.NewRecorder()
	Fail(w, rec, httptest.NewRequest(http.MethodPost, "/api/agent/check-in", nil), inside)
	assert.Equal(t, http.StatusInternalServerError, rec.Code)
	assert.NotContains(t, rec.Body.String(), "malformed")
	assert.Equal(t, 2, strings.Count(log.String(), "disk image is malformed"))
	require.NoError(t, Told(w, nil))

	var to huma.StatusError
	require.ErrorAs(t, Told(w, fmt.Errorf("host %w", store.ErrNotFound)), &to)
	assert.Equal(t, http.StatusNotFound, to.GetStatus())
	require.ErrorAs(t, Told(w, context.Canceled), &to)
	assert.Equal(t, 499, to.GetStatus(), "nobody hears it, and it is no fault")
}

// An answer does not grow with what was sent; what is said of a policy is whole.
func TestAnAnswerIsBounded(t *testing.T) {
	w, _ := said()
	long := strings.Repeat("x", 10_000)
	answer := func(err error) *huma.ErrorModel {
		var m *huma.ErrorModel
		require.ErrorAs(t, Told(w, err), &m)
		return m
	}
	var many, own []error
	for range 50 {
		many = append(many, &refusal.Detail{Message: long, Location: long, Value: "secret"})
		own = append(own, &refusal.Detail{Message: long, Location: "groups.yaml:3:1", Value: "unknown-group", Own: true})
	}
	m := answer(refusal.Wrong(long, many...))
	b, err := json.Marshal(m)
	require.NoError(t, err)
	assert.Less(t, len(b), 16<<10)
	assert.Len(t, m.Errors, mostErrors)
	assert.Contains(t, m.Detail, "(and 40 more)")
	assert.NotContains(t, string(b), "secret")

	m = answer(refusal.Conflict("the policy has errors", own...))
	require.Len(t, m.Errors, 50)
	assert.Equal(t, long, m.Errors[49].Message)
	assert.Equal(t, "unknown-group", m.Errors[49].Value)
}

// A body that is too long, cut off or of another form is refused with its reason.
func TestABodyThatIsNotWantedIsRefused(t *testing.T) {
	for _, c := range []struct {
		body   io.Reader
		status int
		says   string
	}{
		{strings.NewReader(`{"state":"done"}`), http.StatusOK, ""},
		{strings.NewReader(`{"state":"` + strings.Repeat("y", 5000) + `"}`), http.StatusRequestEntityTooLarge, "larger than 4096 bytes"},
		{strings.NewReader(`{"state":`), http.StatusBadRequest, "the body is not the JSON that is wanted"},
		{strings.NewReader(`[]`), http.StatusBadRequest, "the body is not the JSON that is wanted"},
		{io.MultiReader(strings.NewReader(`{`), broke{}), http.StatusBadRequest, "the body could not be read"},
	} {
		rec := httptest.NewRecorder()
		var v struct {
			State string `json:"state"`
		}
		if Decode(rec, httptest.NewRequest(http.MethodPost, "/", c.body), 4096, &v) {
			assert.Equal(t, "done", v.State)
		}
		assert.Equal(t, c.status, rec.Code)
		assert.Contains(t, rec.Body.String(), c.says)
	}
}

type broke struct{}

func (broke) Read([]byte) (int, error) { return 0, errors.New("the line broke") }
