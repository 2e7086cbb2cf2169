package deb_test

import (
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/internal/keyforms"
)

// A file that apt passes over among those that are trusted for everything is for those sources alone that name it.
func TestAKeyThatOnlySourcesReachIsNotTrustedForAll(t *testing.T) {
	bin, err := signers()[0].key.Binary()
	require.NoError(t, err)
	for form, scope := range map[string]string{"keybox": source.ScopeNamed, "binary": source.ScopeAny} {
		r := deb.Read(rootfs.New(fstest.MapFS{
			"etc/apt/sources.list":              {Data: []byte("deb [signed-by=/etc/apt/trusted.gpg.d/a.gpg] http://archive.skerry.example/skerry mussel main\n"), Mode: 0o644},
			"etc/apt/trusted.gpg.d/a.gpg":       {Data: []byte(keyforms.Write(form, bin, "")), Mode: 0o644},
			"usr/bin/apt-key":                   {Data: []byte("#!/bin/sh\n"), Mode: 0o755},
			"etc/apt/apt.conf.d/01sandbox.conf": {Data: []byte("APT::Sandbox::User \"root\";\n"), Mode: 0o644},
		}), []string{"amd64"})
		require.Len(t, r.Keys, 1, form)
		assert.True(t, r.Keys[0].Used, "%s: %s", form, r.Keys[0].UnusedBecause)
		assert.Equal(t, scope, r.Keys[0].Scope, form)
	}
}
