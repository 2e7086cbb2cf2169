package upstream_test

import (
	"crypto/sha256"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/upstream"
	"patientlantern.example/lantern/fetch"
	"patientlantern.example/lantern/internal/cell"
)

// lists serves one repository below /base/, /meta/ and /list/, a metalink that names the second, and a list of mirrors that names the
// third; some of them are away.
type lists struct {
	sync.Mutex
	*httptest.Server
	away  map[string]bool
	asked []string // for repomd.xml, each once in a row
}

func newLists(t *testing.T) *lists {
	l := &lists{}
	primary := `<?xml version="1.0" encoding="UTF-8"?><metadata xmlns="http://linux.duke.edu/metadata/common" packages="0"></metadata>`
	sum := fmt.Sprintf("%x", sha256.Sum256([]byte(primary)))
	repomd := `<?xml version="1.0" encoding="UTF-8"?><repomd xmlns="http://linux.duke.edu/metadata/repo"><revision>1</revision><data type="primary">` +
		`<checksum type="sha256">` + sum + `</checksum><open-checksum type="sha256">` + sum + `</open-checksum>` +
		`<location href="repodata/primary.xml"/><timestamp>1</timestamp></data></repomd>`
	l.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		place, file, _ := strings.Cut(strings.TrimPrefix(q.URL.Path, "/"), "/")
		l.Lock()
		away := l.away[place]
		if file == "repodata/repomd.xml" && (len(l.asked) == 0 || l.asked[len(l.asked)-1] != place) {
			l.asked = append(l.asked, place)
		}
		l.Unlock()
		switch {
		case away:
			http.Error(w, "away", http.StatusServiceUnavailable)
		case place == "metalink", place == "hidden":
			fmt.Fprintf(w, `<?xml version="1.0"?><metalink version="3.0" xmlns="http://www.metalinker.org/"><files><file name="repomd.xml">`+
				`<size>%d</size><verification><hash type="sha256">%x</hash></verification><resources>`+
				`<url protocol="http" type="http" preference="100">%s/meta/repodata/repomd.xml</url></resources></file></files></metalink>`,
				len(repomd), sha256.Sum256([]byte(repomd)), l.URL)
		case place == "mirrors":
			fmt.Fprintln(w, l.URL+"/list/")
		case file == "repodata/repomd.xml":
			_, _ = w.Write([]byte(repomd))
		case file == "repodata/primary.xml":
			_, _ = w.Write([]byte(primary))
		default:
			http.NotFound(w, q)
		}
	}))
	t.Cleanup(l.Close)
	return l
}

// during is who is asked while something is done with some of them away, up to the one that answers.
func (l *lists) during(away []string, do func()) []string {
	l.Lock()
	l.asked, l.away = nil, map[string]bool{}
	for _, x := range away {
		l.away[x] = true
	}
	l.Unlock()
	do()
	l.Lock()
	defer l.Unlock()
	for i, x := range l.asked {
		if !l.away[x] {
			return l.asked[:i+1]
		}
	}
	return l.asked
}

// What stands beside a base URL is asked in the order in which dnf and zypper ask it: of dnf's the list first, and of two lists the
// metalink; of zypper's none.
func TestListsBesideABaseURLAreAskedAsHostsAskThem(t *testing.T) {
	t.Parallel()
	l, drawn := newLists(t), cell.Share(8)
	for _, family := range []string{"rpm", "zypp"} {
		for _, keys := range [][]string{
			{"baseurl"}, {"metalink"}, {"mirrorlist"}, {"baseurl", "metalink"}, {"baseurl", "mirrorlist"}, {"metalink", "mirrorlist"},
			{"baseurl", "metalink", "mirrorlist"},
			{"mirrorlist of metalink/m"}, {"mirrorlist of hidden/m"}, {"mirrorlist of hidden/a.metalink"}, {"mirrorlist of hidden/METALINK"},
			{"mirrorlist of mirrors/metalink"}, {"mirrorlist of mirrors/m?metalink"}, {"metalink of mirrors/m"}, {"metalink of hidden/m"},
		} {
			if family == "zypp" && len(keys) > 1 && keys[0] != "baseurl" {
				continue // which of two lists it takes is told by the version
			}
			for _, away := range [][]string{{}, {"base"}, {"meta", "list"}, {"metalink", "mirrors"}} {
				if !drawn() {
					continue
				}
				name := fmt.Sprint(family, " ", keys, " without ", away)
				s := upstream.Source{Family: family, ID: "r"}
				section := "[r]\nname=r\nenabled=1\ngpgcheck=0\n"
				for _, k := range keys {
					url := l.URL + map[string]string{"baseurl": "/base/", "metalink": "/metalink/m", "mirrorlist": "/mirrors/m"}[k]
					if key, of, other := strings.Cut(k, " of "); other {
						k, url = key, l.URL+"/"+of
					}
					section += k + "=" + url + "\n"
					switch k {
					case "baseurl":
						s.URLs = []string{url}
					case "metalink":
						s.Metalink = url
					case "mirrorlist":
						s.Mirrorlist = url
					}
				}
				var realErr, err error
				real := l.during(away, func() { realErr = refreshes(t, family, section) })
				ours := l.during(away, func() { _, err = upstream.Look(&s, fetch.New().Opener(t.Context(), fetch.Way{}), time.Now()) })
				assert.Equal(t, real, ours, name)
				assert.Equal(t, realErr == nil, err == nil, "%s: %v, and %v", name, realErr, err)
			}
		}
	}
}

// refreshes has dnf or zypper fetch the metadata of a section.
func refreshes(t *testing.T, family, section string) error {
	t.Helper()
	root := t.TempDir()
	dir := filepath.Join(root, map[string]string{"rpm": "etc/yum.repos.d", "zypp": "etc/zypp/repos.d"}[family])
	require.NoError(t, os.MkdirAll(dir, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "r.repo"), []byte(section), 0o644))
	args := []string{"dnf", "--installroot", root, "--setopt=reposdir=" + dir, "--setopt=cachedir=" + root + "/cache", "--setopt=retries=1",
		"--setopt=*.skip_if_unavailable=0",
		"--releasever=9", "-y", "makecache", "--refresh"}
	if family == "zypp" {
		args = []string{"zypper", "--root", root, "-n", "--no-gpg-checks", "refresh", "-f"}
	}
	out, err := exec.Command(args[0], args[1:]...).CombinedOutput()
	if err != nil {
		return fmt.Errorf("%w: %s", err, out)
	}
	return nil
}
