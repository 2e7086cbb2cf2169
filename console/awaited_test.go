package console_test

import (
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"strings"
	"sync"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/internal/rig"
)

// through puts something between browser and service, which each call waits for.
func through(t *testing.T, r *rig.Rig, wait func(*http.Request)) {
	t.Helper()
	near, err := url.Parse(r.Server.URL)
	require.NoError(t, err)
	line := httputil.NewSingleHostReverseProxy(near)
	line.FlushInterval = -1
	far := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, req *http.Request) {
		wait(req)
		line.ServeHTTP(w, req)
	}))
	t.Cleanup(far.CloseClientConnections)
	s := r.Server.URL
	r.Server.URL = far.URL
	t.Cleanup(func() { r.Server.URL = s })
}

// TestWhatIsAwaitedIsSaid: on a telephone the pages are a list; one to which nothing has come yet says that it waits.
func TestWhatIsAwaitedIsSaid(t *testing.T) {
	axe, err := os.ReadFile("node_modules/axe-core/axe.min.js")
	require.NoError(t, err)
	r := rig.New(t)
	answer := make(chan struct{})
	let := sync.OnceFunc(func() { close(answer) })
	t.Cleanup(let)
	through(t, r, func(req *http.Request) {
		if strings.HasPrefix(req.URL.Path, "/api/keys") {
			<-answer
		}
	})
	s := openAt(t, r, "/settings", 390, 800)
	s.shows(".bar .list", "Settings")
	s.click(".bar .list")
	s.shows(".el-drawer", "Contracts")
	s.accessible(string(axe), "the list of pages")
	s.whole("the list of pages")
	s.click(`.el-drawer a[href="/keys"]`)
	s.shows("main [role=status]", "The service is being asked")
	s.do(chromedp.WaitVisible("main .el-skeleton"))
	s.comes("the list is closed", `String([...document.querySelectorAll(".el-drawer")].some((e) => e.checkVisibility()))`, "false")
	let()
	s.gone("main .el-skeleton")
	s.shows("main h1", "key")
	s.shows(".bar .list", "Keys")
}
