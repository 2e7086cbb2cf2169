package version_test

import (
	"context"
	"fmt"
	"os/exec"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/version"
)

var versions = []string{
	"1", "1.0", "1.0-1", "1.0-2", "1.0-10", "1.0~rc1", "1.0~rc1-1", "1.0~~", "1.0+git1", "1.0a", "1.0b", "1.0.1", "1.00", "01.0", "2", "10", "1:0.1", "0:1.0", "2:1",
	"1.0^20260101", "1.0^", "1.0^~1", "1.0^a-1", "8.2.1-1", "8.2-3", "8.10", "8.2.1-1+skerry12", "1.a", "1.0.a", "1..0", "1-0-1", "a", "b1", "1_0", "1.0alpha", "1.0beta2",
}

func sign(n int) int {
	switch {
	case n < 0:
		return -1
	case n > 0:
		return 1
	}
	return 0
}

func run(t *testing.T, stdin, name string, args ...string) (string, error) {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	cmd := exec.CommandContext(ctx, name, args...)
	cmd.Stdin = strings.NewReader(stdin)
	out, err := cmd.Output()
	return strings.TrimSpace(string(out)), err
}

func TestComparesAsDpkgDoes(t *testing.T) {
	list := []string{"1", "1.0-1", "1.0~rc1", "1.0~rc1-1", "1.0+git1", "1.0a", "1:0.1", "0:1.0", "8.2.1-1", "8.10", "1.00", "1.0-2", "1-0-1", "1.0~~"}
	for i, a := range list {
		for _, b := range list[i:] {
			want := 0
			if _, err := run(t, "", "dpkg", "--compare-versions", a, "lt", b); err == nil {
				want = -1
			} else if _, err := run(t, "", "dpkg", "--compare-versions", a, "gt", b); err == nil {
				want = 1
			}
			assert.Equal(t, want, sign(version.Compare("deb", a, b)), "%s %s", a, b)
			assert.Equal(t, -want, sign(version.Compare("deb", b, a)), "%s %s", b, a)
		}
	}
}

// pairs are all pairs of versions of which both have a release or neither.
func pairs() (out [][2]string) {
	for _, a := range versions {
		for _, b := range versions {
			if strings.Contains(a, "-") == strings.Contains(b, "-") {
				out = append(out, [2]string{a, b})
			}
		}
	}
	return out
}

func agree(t *testing.T, family, script, ask string, list [][2]string) {
	t.Helper()
	var in strings.Builder
	in.WriteString(script)
	for _, p := range list {
		fmt.Fprintf(&in, ask+"\n", p[0], p[1])
	}
	out, err := run(t, in.String(), "/usr/bin/python3", "-")
	require.NoError(t, err)
	answers := strings.Fields(out)
	require.Len(t, answers, len(list))
	for n, p := range list {
		want, err := strconv.Atoi(answers[n])
		require.NoError(t, err)
		if got := sign(version.Compare(family, p[0], p[1])); got != sign(want) {
			t.Errorf("%q %q: %d, and the program says %d", p[0], p[1], got, want)
		}
	}
}

func TestComparesAsRpmDoes(t *testing.T) {
	agree(t, "rpm", "import rpm\ndef p(s):\n e,r=('0',s)\n if ':' in s: e,r=s.split(':',1)\n v,l=(r,None)\n if '-' in r: v,l=r.rsplit('-',1)\n return (e,v,l)\n", "print(rpm.labelCompare(p(%q),p(%q)))", pairs())
}

func TestComparesAsPacmanDoes(t *testing.T) {
	agree(t, "arch", "import ctypes\nimport glob\nv=ctypes.CDLL(glob.glob('/usr/lib/*/libalpm.so.*')[0]).alpm_pkg_vercmp\n", "print(v(%q.encode(),%q.encode()))", pairs())
}

func TestAReleaseCountsWhereBothHaveOne(t *testing.T) {
	for _, family := range []string{"rpm", "zypp", "arch"} {
		assert.Zero(t, version.Compare(family, "8.2", "8.2-5"), family)
	}
	assert.Negative(t, version.Compare("deb", "8.2", "8.2-5"))
}
