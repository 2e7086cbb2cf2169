package survey_test

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"io"
	"log"
	"math/big"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/survey"
	"patientlantern.example/lantern/internal/cell"
)

// foreign is a server on 127.0.0.1 for which nobody vouches whom a system believes.
type foreign struct {
	*httptest.Server
	root string // its certificate, in PEM
	hits atomic.Int64
}

// newForeign starts one whose certificate is for an address, or for a name where that is nil.
func newForeign(t *testing.T, addresses ...net.IP) *foreign {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	c := &x509.Certificate{
		SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "skerry.example"}, IsCA: true, BasicConstraintsValid: true,
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(48 * time.Hour), IPAddresses: addresses,
	}
	if len(addresses) == 0 {
		c.DNSNames = []string{"skerry.example"}
	}
	der, err := x509.CreateCertificate(rand.Reader, c, c, &key.PublicKey, key)
	require.NoError(t, err)
	f := &foreign{root: string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}))}
	f.Server = httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		f.hits.Add(1)
		http.Error(w, "nothing here", http.StatusNotFound)
	}))
	f.TLS = &tls.Config{Certificates: []tls.Certificate{{Certificate: [][]byte{der}, PrivateKey: key}}}
	f.Config.ErrorLog = log.New(io.Discard, "", 0)
	f.StartTLS()
	t.Cleanup(f.Close)
	return f
}

// guarded is a package manager and what can be said to it of the checks of TLS.
type guarded struct {
	tree func(url, says string) map[string]string
	ask  []string
	says *rapid.Generator[string]
}

func guards() map[string]guarded {
	oneOf := func(words ...string) *rapid.Generator[string] { return rapid.SampledFrom(words) }
	several := func(g *rapid.Generator[string], glue string) *rapid.Generator[string] {
		return rapid.Custom(func(t *rapid.T) string { return strings.Join(rapid.SliceOfN(g, 0, 3).Draw(t, "says"), glue) })
	}
	return map[string]guarded{
		"apt": {
			func(url, says string) map[string]string {
				return map[string]string{
					"etc/apt/sources.list": "deb [trusted=yes] " + url + " ./\n", "etc/apt/apt.conf": says + "\n", "var/lib/dpkg/status": "",
					"var/lib/apt/lists/partial/": "", "var/cache/apt/archives/partial/": "",
				}
			},
			[]string{"/usr/bin/apt-get", "-o", "APT::Sandbox::User=root", "-o", "Acquire::Retries=0", "update"},
			several(rapid.Custom(func(t *rapid.T) string {
				program := oneOf("", "", "", "Binary::apt-get::", "Binary::https::", "Binary::http::", "binary::HTTPS::").Draw(t, "program")
				method := oneOf("https", "http", "HTTPS", "ftp", "mirror+https").Draw(t, "method")
				host := oneOf("", "", "::127.0.0.1", "::skerry.example").Draw(t, "host")
				option := oneOf("Verify-Peer", "Verify-Peer", "verify-host").Draw(t, "option")
				value := oneOf("false", "no", "0", "without", "Off", "true", "1", "x", "", "00", "0x0", "4294967296", "never").Draw(t, "value")
				return fmt.Sprintf("%sAcquire::%s%s::%s %q;", program, method, host, option, value)
			}), "\n"),
		},
		"zypper": {
			func(url, says string) map[string]string {
				return map[string]string{
					"etc/zypp/repos.d/a.repo": "[a]\nname=a\nenabled=1\ntype=rpm-md\nbaseurl=" + url + "?" + says + "\n", "etc/zypp/zypp.conf": "[main]\n",
					"etc/products.d/x.prod": "<product><name>x</name><version>1</version></product>", "etc/alternatives/awk": "-> /usr/bin/mawk", "var/lib/rpm/": "",
				}
			},
			[]string{"/usr/bin/zypper", "--non-interactive", "refresh", "a"},
			several(rapid.Custom(func(t *rapid.T) string {
				key := oneOf("ssl_verify", "ssl_verify", "ssl%5Fverify", "SSL_VERIFY", "a").Draw(t, "key")
				return key + "=" + oneOf("no", "n%6f", "yes", "host", "peer", "host,peer", "NO", "0", "no,host", "", "ssl_verify=no").Draw(t, "value")
			}), "&"),
		},
		"dnf": {
			func(url, says string) map[string]string {
				repo, main := "", ""
				for line := range strings.Lines(says) {
					if own, is := strings.CutPrefix(line, "main:"); is {
						main += own
						continue
					}
					repo += line
				}
				return map[string]string{
					"etc/yum.repos.d/a.repo": "[a]\nname=a\nenabled=1\nbaseurl=" + url + "\n" + repo + "\n", "etc/dnf/dnf.conf": "[main]\n" + main + "\n", "var/lib/rpm/": "",
				}
			},
			[]string{"/usr/bin/dnf", "--noplugins", "--setopt=retries=1", "--setopt=timeout=3", "--releasever=9", "makecache"},
			several(rapid.Custom(func(t *rapid.T) string {
				key := oneOf("sslverify", "main:sslverify", "proxy_sslverify").Draw(t, "key")
				return key + oneOf("=", " = ").Draw(t, "sign") + oneOf("0", "no", "False", "off", "1", "yes", "x", "", "00", "disable", "without", "never").Draw(t, "value")
			}), "\n"),
		},
	}
}

// TestAServerThatNeedNotProveWhoItIs: where a package manager fetches from a server for which nobody vouches, or which has
// the certificate of another, the survey says of the source that this is not checked; and where it does not, it does not.
func TestAServerThatNeedNotProveWhoItIs(t *testing.T) {
	c, err := cell.Open()
	require.NoError(t, err)
	defer func() { require.NoError(t, c.Close()) }()
	unknown, other := newForeign(t, net.IPv4(127, 0, 0, 1)), newForeign(t)
	base, n := t.TempDir(), 0
	for name, g := range guards() {
		let, most := map[string]int{}, cell.Rounds(4)
		check := func(t *rapid.T) {
			if let["asked"] >= most {
				return
			}
			says := g.says.Draw(t, "says")
			for _, server := range []*foreign{unknown, other} {
				n++
				root := filepath.Join(base, fmt.Sprint(n))
				tree := g.tree(server.URL+"/", says)
				if server == other { // the system believes it, under its own name
					tree["etc/ssl/certs/ca-certificates.crt"] = server.root
				}
				require.NoError(t, cell.Write(root, tree))
				server.hits.Store(0)
				a, err := c.Run(root, g.ask...)
				require.NoError(t, err)
				unchecked := uncheckedIn(t, root)
				anyServer, anyName := slices.Contains(unchecked, "the server's certificate NOT checked"), slices.Contains(unchecked, "the server's name NOT checked")
				reached := server.hits.Load() > 0
				if reached {
					let["in"]++
				}
				if anyServer && server == other { // without certificates zypper may still look at the name
					continue
				}
				if reached != (anyServer || anyName && server == other) {
					t.Fatalf("%s with %q fetches: %v; we say %q of it; %s%s", name, says, reached, unchecked, a.Out, a.Err)
				}
			}
			let["asked"]++ // what fails is asked again, with less
		}
		rapid.Check(t, check)
		t.Logf("%s: %v", name, let)
	}
	assert.Positive(t, n)
}

// uncheckedIn is what a survey of a root says is not checked of its only source.
func uncheckedIn(t *rapid.T, root string) []string {
	dir, err := os.OpenRoot(root)
	require.NoError(t, err)
	defer dir.Close()
	s := survey.Read(rootfs.New(dir.FS()), survey.Machine{Arch: "x86_64", Now: time.Now()}).Survey
	if len(s.Sources) == 0 {
		return nil
	}
	return s.Sources[0].Weakened(s.Settings)
}
