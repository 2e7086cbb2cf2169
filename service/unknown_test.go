package service_test

import (
	"encoding/json"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/internal/rig"
)

// By these words an agent finds what a service of before does not know, and leaves it out (agent/older.go): they stay.
func TestWhatIsNotKnownIsNamed(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	req, err := http.NewRequest(http.MethodPost, r.Server.URL+"/api/policy/check", strings.NewReader(`{"files":{},"later":{"secret":"s"},"more":[1]}`))
	require.NoError(t, err)
	req.Header.Set("Authorization", "Bearer "+r.Operator.Token)
	req.Header.Set("Content-Type", "application/json")
	resp, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer resp.Body.Close()
	var got struct {
		Errors []map[string]string `json:"errors"`
	}
	require.NoError(t, json.NewDecoder(resp.Body).Decode(&got))
	assert.Equal(t, http.StatusUnprocessableEntity, resp.StatusCode)
	assert.ElementsMatch(t, []map[string]string{
		{"message": "unexpected property", "location": "body.later"}, {"message": "unexpected property", "location": "body.more"},
	}, got.Errors)
}
