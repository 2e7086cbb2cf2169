package service_test

import (
	"io"
	"maps"
	"net"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/diag"
	"patientlantern.example/lantern/fetch"
	"patientlantern.example/lantern/internal/rig"
)

// A site's mirror takes the place of upstream in every family's own way, is refreshed for
// real, is no drift, and goes again without a trace. With fall-back, upstream is tried where
// the mirror does not answer.
func TestASiteHasMirrorsOfItsOwn(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	roots := map[string]string{}
	for _, n := range []string{"gw-01", "arc-2", "chart-2", "desk-1", "desk-3", "model-1"} { // desk-1 has an entry of a vendor's of its own
		roots[n] = r.Up(n)
	}
	r.Accounts()
	with := func(fallBack string) map[string][]byte {
		files := r.Policy()
		text := string(files["policy.yaml"])
		from := regexp.MustCompile(`http://127\.0\.0\.1:[0-9]+/`).FindString(text)
		files["policy.yaml"] = []byte(strings.Replace(text, "    deb:\n      suites:", "    deb:\n      url: \""+from+"archive.skerry.example/skerry\"\n      suites:", 1))
		files["sites.yaml"] = []byte("format: patient-lantern/1\nsites:\n  reef:\n    mirrors: { \"" + from + "\": \"" +
			strings.Replace(from, "127.0.0.1", "localhost", 1) + "\" }\n    fall-back: " + fallBack + "\nassign: [{ to: everyone, site: reef }]\n")
		return files
	}
	own := map[string]string{ // the distribution's own entries, of which only the place changes
		"gw-01/etc/apt/sources.list": "", "desk-3/etc/apt/sources.list": "",
		"arc-2/etc/yum.repos.d/foreland.repo": "", "chart-2/etc/zypp/repos.d/halyard.repo": "", "model-1/etc/pacman.d/mirrorlist": "",
	}
	for _, c := range []struct {
		fallBack string
		want     map[string]string // file of a host: what stands in it
	}{
		{"false", map[string]string{
			"gw-01/etc/apt/sources.list.d/saltmarsh.sources":   "URIs: http://localhost:",
			"arc-2/etc/yum.repos.d/saltmarsh.repo":             "baseurl=http://localhost:",
			"chart-2/etc/zypp/repos.d/saltmarsh.repo":          "baseurl=http://localhost:",
			"desk-3/var/lib/flatpak/repo/config":               "url=http://localhost:",
			"gw-01/etc/apt/sources.list.d/gannet-open.sources": "URIs: http://localhost:",
		}},
		{"true", map[string]string{
			"gw-01/etc/apt/mirrors/saltmarsh.list":    "\tpriority:1\nhttp://127.0.0.1:",
			"arc-2/etc/dnf/mirrors/saltmarsh.list":    "http://localhost:",
			"chart-2/etc/zypp/mirrors/saltmarsh.list": "http://localhost:",
			"desk-3/var/lib/flatpak/repo/config":      "url=http://localhost:",
		}},
	} {
		checked, err := r.Operator.Check(ctx, api.Publication{Files: with(c.fallBack)})
		require.NoError(t, err)
		require.False(t, diag.HasErrors(checked.Diagnostics), "%v", checked.Diagnostics)
		publish(t, r, with(c.fallBack))
		ro := r.Carry()
		for _, h := range ro.Hosts {
			require.Equal(t, "done", string(h.State), "%s: %+v", h.Host, h.Report)
		}
		for name, want := range c.want {
			host, file, _ := strings.Cut(name, "/")
			assert.Contains(t, read(t, filepath.Join(roots[host], file)), want, name)
		}
		for name := range own {
			host, file, _ := strings.Cut(name, "/")
			is := read(t, filepath.Join(roots[host], file))
			if c.fallBack == "true" {
				behind(t, name, is, own[name])
				continue
			}
			own[name] = is
			assert.Contains(t, own[name], "://localhost:", name)
			assert.NotRegexp(t, `(?m)^[^#].*://127\.0\.0\.1:`, own[name], name)
		}
		for n := range roots {
			r.Until(n+" is steady", func() bool { return len(r.Findings(n)) == 0 })
		}
		assert.Contains(t, read(t, filepath.Join(roots["arc-2"], "etc/yum.repos.d/gannet-licensed.repo")), "https://127.0.0.1:", "a login goes to its vendor alone")
	}
	// What stands in lists on the hosts is looked at as what they hold.
	seen := map[string]string{}
	for name, p := range probe(t, r) {
		if len(p.URLs) == 2 {
			seen[name] = p.Look.State + p.Look.Why
			assert.Regexp(t, "^http://localhost:.* http://127", strings.Join(p.URLs, " "), name)
		}
		assert.NotContains(t, strings.Join(p.URLs, " ")+p.Mirrorlist, "/mirrors/", name)
	}
	for _, name := range []string{"saltmarsh deb stable", "saltmarsh rpm ", "saltmarsh zypp "} {
		assert.Equal(t, api.PlaceGood, seen[name], name)
	}
	for _, name := range []string{"base deb mussel", "base rpm "} { // the policy of the demo pins no key of theirs
		assert.Contains(t, seen[name], api.PlaceUnsigned, name)
	}
	publish(t, r, r.Policy())
	ro := r.Carry()
	for _, h := range ro.Hosts {
		require.Equal(t, "done", string(h.State), "%s: %+v", h.Host, h.Report)
	}
	for n := range roots {
		r.Until(n+" is steady again", func() bool { return len(r.Findings(n)) == 0 })
	}
	for name, sited := range own {
		host, file, _ := strings.Cut(name, "/")
		assert.Equal(t, strings.ReplaceAll(sited, "://localhost:", "://127.0.0.1:"), read(t, filepath.Join(roots[host], file)), name)
	}
	assert.NoFileExists(t, filepath.Join(roots["gw-01"], "etc/apt/mirrors/saltmarsh.list"))
	assert.NotContains(t, read(t, filepath.Join(roots["desk-3"], "var/lib/flatpak/repo/config")), "localhost")
}

// behind checks that upstream stands behind the site's mirror in a file of the distribution's own, which said mirrored when
// the mirror stood there alone.
func behind(t *testing.T, name, is, mirrored string) {
	one := regexp.MustCompile(`http://localhost:[0-9]+/\S+`)
	far := func(near string) string { return strings.Replace(near, "localhost", "127.0.0.1", 1) }
	switch {
	case strings.HasSuffix(name, "sources.list"):
		assert.Regexp(t, `(?m)^deb mirror\+file:/etc/apt/mirrors/lantern-127\.0\.0\.1-[0-9]+-[0-9a-f]{8}\.list mussel main`, is, name)
		assert.NotContains(t, is, "deb http", name)
	case strings.HasSuffix(name, "mirrorlist"):
		line := regexp.MustCompile(`(?m)^Server = http://localhost:.*\n`)
		assert.Equal(t, line.ReplaceAllStringFunc(mirrored, func(x string) string { return x + far(x) }), is, name)
	default:
		assert.Equal(t, one.ReplaceAllStringFunc(mirrored, func(x string) string { return x + " " + far(x) }), is, name)
	}
}

// throughProxy is a proxy that counts what goes through it, by who asked and for which server.
type throughProxy struct {
	sync.Mutex
	*httptest.Server
	asked map[string]int
	shut  bool // it lets nobody through
}

func newProxy(t *testing.T) *throughProxy {
	p := &throughProxy{asked: map[string]int{}}
	p.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		p.Lock()
		by := map[bool]string{true: "service ", false: "host "}[r.UserAgent() == fetch.Agent]
		p.asked[by+r.Method+" "+r.Host]++
		shut := p.shut
		p.Unlock()
		if shut {
			http.Error(w, "who are you?", http.StatusProxyAuthRequired)
			return
		}
		if r.Method == http.MethodConnect {
			tunnel(w, r)
			return
		}
		r.RequestURI = ""
		resp, err := (&http.Transport{DisableCompression: true}).RoundTrip(r)
		if err != nil {
			http.Error(w, err.Error(), http.StatusBadGateway)
			return
		}
		defer resp.Body.Close()
		maps.Copy(w.Header(), resp.Header)
		w.WriteHeader(resp.StatusCode)
		_, _ = io.Copy(w, resp.Body)
	}))
	t.Cleanup(p.Close)
	return p
}

// tunnel lets both sides speak TLS to each other.
func tunnel(w http.ResponseWriter, r *http.Request) {
	far, err := net.Dial("tcp", r.Host)
	if err != nil {
		http.Error(w, err.Error(), http.StatusBadGateway)
		return
	}
	defer far.Close()
	w.WriteHeader(http.StatusOK)
	near, _, err := w.(http.Hijacker).Hijack()
	if err != nil {
		return
	}
	defer near.Close()
	go func() { _, _ = io.Copy(far, near) }()
	_, _ = io.Copy(near, far)
}

func (p *throughProxy) refuse(shut bool) {
	p.Lock()
	defer p.Unlock()
	p.shut = shut
}

// count is how often hosts asked, or the service.
func (p *throughProxy) count(who string) (n int) {
	p.Lock()
	defer p.Unlock()
	for by, k := range p.asked {
		if strings.HasPrefix(by, who+" ") {
			n += k
		}
	}
	return n
}

// looksThrough checks that the service looks as the hosts go: through the proxy of their site where their package managers were
// told of it. While nobody answers at the proxy, what they get is not known, and what stands upstream still is.
func looksThrough(t *testing.T, r *rig.Rig, proxy *throughProxy) {
	went, of := proxy.count("service"), map[string]bool{}
	for name, p := range probe(t, r) {
		if len(p.Through) > 0 {
			assert.Equal(t, []string{proxy.URL}, p.Through, name)
			assert.Contains(t, []string{api.PlaceGood, api.PlaceUnsigned}, p.Look.State, "%s: %s", name, p.Look.Why)
			of[p.Family] = true
		}
		assert.NotContains(t, strings.Join(p.URLs, " "), "proxy", name)
		if p.Family == "arch" || p.Family == "flatpak" {
			assert.Empty(t, p.Through, name)
		}
	}
	assert.Equal(t, map[string]bool{"deb": true, "rpm": true, "zypp": true}, of)
	assert.GreaterOrEqual(t, proxy.count("service"), went+len(of), "%v", proxy.asked)
	proxy.refuse(true)
	for name, p := range probe(t, r) {
		if len(p.Through) > 0 {
			assert.Equal(t, api.PlaceUnknown, p.Look.State, name)
			assert.Contains(t, p.Look.Why, "through the proxy "+proxy.URL, name)
			assert.WithinDuration(t, *p.Look.Checked, *p.Look.Read, 0, "%s is looked at by the service's own way", name)
		}
	}
	proxy.refuse(false)
}

// A site's proxy is told to each package manager that can be told: what is refreshed goes through
// it, the distribution's own entries of apt too, and nothing of it is drift. Where one cannot be
// told, that is said. Without the proxy all of it goes again.
func TestASiteGoesThroughAProxy(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	roots := map[string]string{}
	for _, n := range []string{"gw-01", "arc-2", "chart-2", "desk-1", "desk-3", "model-1"} { // desk-1 has an entry of a vendor's of its own
		roots[n] = r.Up(n)
	}
	r.Accounts()
	proxy := newProxy(t)
	through := func(at string) map[string][]byte {
		files := r.Policy()
		files["sites.yaml"] = []byte("format: patient-lantern/1\nsites: { reef: { proxy: \"" + at + "\" } }\nassign: [{ to: everyone, site: reef }]\n")
		return files
	}
	r.Publish()
	r.Carry()
	stood := map[string]map[string]string{}
	for n, root := range roots {
		stood[n] = tree(t, root)
	}
	// One that nobody answers at is the change's own fault: every host that could be told of it is
	// put back, to the byte.
	publish(t, r, through("http://127.0.0.1:1"))
	for _, h := range r.Carry().Hosts {
		name, _, _ := strings.Cut(h.Host, ".")
		if name != "model-1" {
			assert.Equal(t, "failed", string(h.State), "%s: %+v", h.Host, h.Report)
		}
		assert.Equal(t, stood[name], tree(t, roots[name]), name)
	}
	files := through(proxy.URL)
	checked, err := r.Operator.Check(ctx, api.Publication{Files: files})
	require.NoError(t, err)
	require.False(t, diag.HasErrors(checked.Diagnostics), "%v", checked.Diagnostics)
	said := ""
	for _, d := range checked.Diagnostics {
		if d.Code == "not-proxied" {
			said += d.Message + "\n"
		}
	}
	for _, of := range []string{"pacman has no setting", "flatpak goes by its environment"} {
		assert.Contains(t, said, of)
	}
	publish(t, r, files)
	for _, h := range r.Carry().Hosts {
		require.Contains(t, []string{"done", "unchanged"}, string(h.State), "%s: %+v", h.Host, h.Report)
	}
	assert.Contains(t, read(t, filepath.Join(roots["gw-01"], "etc/apt/apt.conf.d/lantern-proxy.conf")), "Acquire::https::Proxy \""+proxy.URL+"\";\n")
	for _, name := range []string{"arc-2/etc/yum.repos.d/saltmarsh.repo", "arc-2/etc/yum.repos.d/gannet-licensed.repo", "chart-2/etc/zypp/repos.d/saltmarsh.repo",
		"arc-2/etc/yum.repos.d/foreland.repo", "chart-2/etc/zypp/repos.d/halyard.repo"} { // the distribution's own too
		host, file, _ := strings.Cut(name, "/")
		assert.Contains(t, read(t, filepath.Join(roots[host], file)), "\nproxy="+proxy.URL+"\n", name)
	}
	for n := range roots {
		r.Until(n+" is steady", func() bool { return len(r.Findings(n)) == 0 })
	}
	went := proxy.count("host")
	assert.Greater(t, went, 8, "%v", proxy.asked)
	t.Log(proxy.asked)
	looksThrough(t, r, proxy)

	publish(t, r, r.Policy())
	for _, h := range r.Carry().Hosts {
		require.Contains(t, []string{"done", "unchanged"}, string(h.State), "%s: %+v", h.Host, h.Report)
	}
	assert.NoFileExists(t, filepath.Join(roots["gw-01"], "etc/apt/apt.conf.d/lantern-proxy.conf"))
	assert.NotContains(t, read(t, filepath.Join(roots["chart-2"], "etc/zypp/repos.d/saltmarsh.repo")), "proxy=")
	for n := range roots {
		r.Until(n+" is steady again", func() bool { return len(r.Findings(n)) == 0 })
	}
	for _, name := range []string{"arc-2/etc/yum.repos.d/foreland.repo", "chart-2/etc/zypp/repos.d/halyard.repo"} {
		host, file, _ := strings.Cut(name, "/")
		assert.True(t, strings.HasSuffix(stood[host]["/"+file], " "+read(t, filepath.Join(roots[host], file))), name)
	}
	assert.Equal(t, went, proxy.count("host"), "what goes back is refreshed without it")
}
