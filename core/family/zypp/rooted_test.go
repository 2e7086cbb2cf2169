package zypp_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/family/zypp"
)

// What goes on over several lines stays several, and each leads below the root.
func TestFilesLeadBelowTheRootOnEveryLine(t *testing.T) {
	for was, want := range map[string]string{
		"[own]\nbaseurl = https://one.example/x\n  file:///srv/shelf\n\tfile:///srv/other\nenabled=1\n": "[own]\nbaseurl = https://one.example/x\n  file:///root/srv/shelf\n\tfile:///root/srv/other\nenabled=1\n",
		"[own]\ngpgkey=/etc/a file:///etc/b, https://one.example/c\n":                                   "[own]\ngpgkey=/root/etc/a file:///root/etc/b, https://one.example/c\n",
		"[own]\nmirrorlist=file:///etc/zypp/mirrors/own.list\n[more]\nmetalink=file:///m\n":             "[own]\nmirrorlist=file:///root/etc/zypp/mirrors/own.list\n[more]\nmetalink=file:///root/m\n",
		"[own]\nbaseurl=dir:///srv\nname=/etc\n":                                                        "[own]\nbaseurl=dir:///srv\nname=/etc\n",
	} {
		is, err := zypp.Rooted([]byte(was), "/root")
		require.NoError(t, err)
		assert.Equal(t, want, string(is))
	}
}
