package rpm_test

import (
	"encoding/json"
	"fmt"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/family/rpm"
	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/internal/cell"
)

// Of a value that dnf takes no notice of, dnf and we warn.
func TestValuesThatDNFTakesNoNoticeOf(t *testing.T) {
	c, err := cell.Open()
	require.NoError(t, err)
	defer func() { require.NoError(t, c.Close()) }()
	base, n, most := t.TempDir(), 0, cell.Rounds(50)
	key := rapid.SampledFrom([]string{"bandwidth", "minrate", "throttle", "metadata_expire", "timeout", "retries", "cost", "priority", "max_parallel_downloads", "deltarpm_percentage",
		"ip_resolve", "proxy_auth_method", "countme", "deltarpm", "skip_if_unavailable", "sslverify", "enabled", "gpgcheck", "fastestmirror", "name", "enabled_metadata", "nonsense"})
	value := rapid.SampledFrom([]string{"1", "0", "x", "yes", "off", "1k", "1.5M", "-1", "1T", "10%", "110%", "5d", "1h5", "never", "0.5", "3x", "+5", "99999999999", "ipv4", "IPv6", "any", "BASIC", "-2", "5 m", "", "1e3", ".5", "-"})
	rapid.Check(t, func(rt *rapid.T) {
		if n == most {
			return
		}
		line := key.Draw(rt, "key") + "=" + value.Draw(rt, "value")
		n++
		root := filepath.Join(base, fmt.Sprint(n))
		require.NoError(rt, cell.Write(root, map[string]string{"etc/dnf/dnf.conf": "[main]\n", "etc/yum.repos.d/a.repo": "[a]\nbaseurl=http://h/\n" + line + "\n", "etc/dnf-releasever-of-the-test": "8"}))
		r, err := cell.Inside(root, func(root *rootfs.FS) family.Reading { return rpm.Read(root, family.Host{Arch: "x86_64", Release: "8"}) })
		require.NoError(rt, err)
		a, err := c.DNF(root)
		require.NoError(rt, err)
		var said struct{ Said []string }
		require.NoError(rt, json.Unmarshal([]byte(a.Out), &said), a.Err)
		warned := strings.Contains(strings.Join(said.Said, "\n"), "Invalid configuration value")
		if warned != (len(r.Problems) > 0) {
			rt.Fatalf("%s: dnf says %q, we say %v", line, said.Said, r.Problems)
		}
	})
}
