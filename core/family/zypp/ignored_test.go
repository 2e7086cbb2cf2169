package zypp_test

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/internal/cell"
)

var passedOver = regexp.MustCompile(`Unknown attribute in \[x\]: ([a-z_]+)=`)

// What libzypp says in its log that it takes no notice of decides nothing, and what it reads may.
func TestOptionsThatLibzyppIgnores(t *testing.T) {
	c, err := cell.Open()
	require.NoError(t, err)
	defer func() { require.NoError(t, c.Close()) }()
	asked := strings.Fields("bandwidth cost countme deltarpm enablegroups exclude failovermethod fastestmirror includepkgs keepcache mediaid " +
		"module_hotfixes packagespath retries skip_if_unavailable sslcacert sslclientcert sslverify throttle timeout ui_repoid_vars user_agent " +
		"path proxy autorefresh keeppackages gpgcheck")
	root := t.TempDir()
	require.NoError(t, cell.Write(root, map[string]string{
		"etc/zypp/zypp.conf": "[main]\n", "var/log/": "",
		"etc/zypp/repos.d/x.repo": "[x]\nbaseurl=http://halyard.example/x\n" + strings.Join(asked, "=1\n") + "=1\n",
	}))
	a, err := c.Run(root, "/usr/bin/zypper", "--no-refresh", "lr")
	require.NoError(t, err)
	require.Zero(t, a.Code, a.Err)
	log, err := os.ReadFile(filepath.Join(root, "var/log/zypper.log"))
	require.NoError(t, err)
	ignored := map[string]bool{}
	for _, m := range passedOver.FindAllStringSubmatch(string(log), -1) {
		ignored[m[1]] = true
	}
	require.Greater(t, len(ignored), 15, "%s", log)
	for _, name := range asked {
		if ignored[name] {
			assert.Empty(t, source.OptionTouches(source.FamilyZypp, name), name)
		} else if name != "keeppackages" {
			assert.NotEmpty(t, source.OptionTouches(source.FamilyZypp, name), name)
		}
	}
}
