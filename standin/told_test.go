package standin_test

import (
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/standin"
)

// The upstreams are told over HTTP what befalls them, and what there is not is refused.
func TestUpstreamsAreTold(t *testing.T) {
	ups, err := standin.NewUpstreams(time.Now)
	require.NoError(t, err)
	const release = "/packages.saltmarsh.example/apt/8.x/dists/stable/InRelease"
	ask := func(method, path string) *httptest.ResponseRecorder {
		got := httptest.NewRecorder()
		ups.ServeHTTP(got, httptest.NewRequest(method, path, nil))
		return got
	}
	before := ask(http.MethodGet, release).Body.String()
	for path, want := range map[string]int{
		"/-/sign?vendor=packages.saltmarsh.example&key=saltmarsh-2029": http.StatusNoContent,
		"/-/sign?vendor=packages.saltmarsh.example&key=nobodys":        http.StatusUnprocessableEntity,
		"/-/fault?vendor=apps.curlew.example&fault=401":                http.StatusNoContent,
		"/-/fault?vendor=apps.curlew.example&fault=none":               http.StatusUnprocessableEntity,
		"/-/nothing": http.StatusNotFound,
	} {
		assert.Equal(t, want, ask(http.MethodPost, path).Code, path)
	}
	assert.NotEqual(t, before, ask(http.MethodGet, release).Body.String(), "another key signs")
	assert.Equal(t, http.StatusUnauthorized, ask(http.MethodGet, "/apps.curlew.example/repo/summary").Code)
}

// Who spoils a vendor from elsewhere hears where there is no such vendor or fault.
func TestAVendorIsSpoiltFromElsewhere(t *testing.T) {
	ups, err := standin.NewUpstreams(time.Now)
	require.NoError(t, err)
	served := httptest.NewServer(ups)
	t.Cleanup(served.Close)
	const vendor = "apps.curlew.example"
	status := func() int {
		got := httptest.NewRecorder()
		ups.ServeHTTP(got, httptest.NewRequest(http.MethodGet, "/"+vendor+"/repo/summary", nil))
		return got.Code
	}
	require.NoError(t, standin.Spoil(t.Context(), served.URL, vendor, "401"))
	assert.Equal(t, http.StatusUnauthorized, status())
	require.ErrorContains(t, standin.Spoil(t.Context(), served.URL, vendor, "none"), "the vendor apps.curlew.example: 422")
	require.NoError(t, standin.Spoil(t.Context(), served.URL, vendor, ""))
	assert.Equal(t, http.StatusOK, status())
}
