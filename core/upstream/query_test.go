package upstream_test

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"

	"patientlantern.example/lantern/core/family/zypp"
	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/survey"
	"patientlantern.example/lantern/core/upstream"
	"patientlantern.example/lantern/fetch"
)

// asks notes what a server is asked for, and has nothing.
type asks struct {
	sync.Mutex
	*httptest.Server
	of map[string]bool
}

func newAsks(t *testing.T) *asks {
	a := &asks{of: map[string]bool{}}
	a.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		a.Lock()
		a.of[r.RequestURI] = true
		a.Unlock()
		http.NotFound(w, r)
	}))
	t.Cleanup(a.Close)
	return a
}

// during is what is asked for that holds some words, while something is done.
func (a *asks) during(words string, do func()) (out []string) {
	a.Lock()
	clear(a.of)
	a.Unlock()
	do()
	a.Lock()
	defer a.Unlock()
	for uri := range a.of {
		if strings.Contains(uri, words) {
			out = append(out, uri)
		}
	}
	slices.Sort(out)
	return out
}

// What stands behind the question mark of an address goes where each package manager has it: dnf and zypper ask for files before it,
// and zypper keeps what is for itself. The survey of such a file is what the service asks by.
func TestAnAddressWithAQueryIsAskedAsHostsAskIt(t *testing.T) {
	t.Parallel()
	a := newAsks(t)
	own := "ssl_verify=no&cookies=0&timeout=9&auth=basic&mediahandler=curl&head_requests=no&ssl_capath=/etc/ssl/certs&username=u&credentials=c"
	all := ""
	for c := range 255 {
		all += fmt.Sprintf("%%%02X", c+1)
	}
	for _, query := range []string{
		"", "?", "?edition=9", "?edition=9&ssl_verify=no", "?" + own, "?" + own + "&edition=9", "?a=1&a=2&&b", "?b=1&a=2", "?%73sl_verify=no&z=%41", "?z=%2f+x%26y", "?timeou%74=9&a", "?a=", "?A=1&a=2&_=3", "?a=b=c&d==&=x", "?" + all + "=1", "?z=%23%26%3d&y=%5b", "?proxy_edition=1&timeouts=2",
		"?edition=a/b", "/?edition=9", "//?edition=9",
	} {
		for _, family := range []string{"rpm", "zypp"} {
			name := fmt.Sprint(family, " ", query)
			section := "[r]\nname=r\nenabled=1\ngpgcheck=0\nbaseurl=" + a.URL + "/place" + query + "\n"
			real := a.during("repomd.xml", func() { _ = refreshes(t, family, section) })
			s := surveyed(family, section)
			uses := upstream.Uses(s)
			assert.Len(t, uses, 1, name)
			ours := a.during("repomd.xml", func() {
				_, _ = upstream.Look(uses[0].Source(), fetch.New().Opener(t.Context(), fetch.Way{}), time.Now())
			})
			assert.Equal(t, real, ours, name)
		}
	}
}

// surveyed is the survey of a root with one file of sections.
func surveyed(family, section string) *source.Survey {
	tree := fstest.MapFS{"etc/os-release": {Data: []byte("ID=x\nVERSION_ID=9\n")}}
	switch family {
	case "rpm":
		tree["etc/yum.repos.d/r.repo"], tree["etc/dnf/dnf.conf"] = &fstest.MapFile{Data: []byte(section)}, &fstest.MapFile{Data: []byte("[main]\n")}
	case "zypp":
		tree["etc/zypp/repos.d/r.repo"], tree["etc/zypp/zypp.conf"] = &fstest.MapFile{Data: []byte(section)}, &fstest.MapFile{Data: []byte("[main]\n")}
	}
	result := survey.Read(rootfs.New(tree), survey.Machine{Arch: "x86_64"})
	return &result.Survey
}

// A section that goes through a proxy of its own is of the same place as one that does not.
func TestAProxyIsNoPartOfAPlace(t *testing.T) {
	for raw, want := range map[string]string{
		"http://a.example/x?proxy=http://p.example&proxyport=3128":                   "http://a.example/x",
		"http://a.example/x?b=1&proxy=p.example&proxyport#part":                      "http://a.example/x?b=1",
		"http://a.example/x#part":                                                    "http://a.example/x",
		"https://a.example/x/?%70roxy=p.example&proxyuser=u&proxypass=***&edition=9": "https://a.example/x/?edition=9",
	} {
		assert.Equal(t, want, zypp.Asked(raw), raw)
	}
}
