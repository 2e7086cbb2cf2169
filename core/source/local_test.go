package source_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"patientlantern.example/lantern/core/source"
)

func TestLocalFile(t *testing.T) {
	for _, x := range []struct{ family, ref, file string }{
		{source.FamilyRpm, "file:///etc/key", "/etc/key"},
		{source.FamilyRpm, "FILE://localhost/etc/k%65y?x#y", "/etc/key"},
		{source.FamilyRpm, "/etc/k%65y", "/etc/key"},
		{source.FamilyZypp, "dir:/etc//key", "/etc/key"},
		{source.FamilyZypp, "file:///etc/100%", "/etc/100%"},
		{source.FamilyZypp, "file:///etc/%zz", "/etc/%zz"},
		{source.FamilyDeb, "/etc/k%65y", "/etc/k%65y"},
		{source.FamilyDeb, "/etc/apt/what?", "/etc/apt/what?"},
		{source.FamilyFlatpak, "/etc/k%65y#1", "/etc/k%65y#1"},
		{source.FamilyRpm, "file:///a/%2e%2e/etc/key", "/etc/key"},
		{source.FamilyRpm, "http://h.example/file:/etc/key", ""},
		{source.FamilyRpm, "file://etc", ""},
		{source.FamilyRpm, "file:etc/key", ""},
		{source.FamilyZypp, "file:etc/key", "/etc/key"},
		{source.FamilyRpm, "etc/key", ""},
		{source.FamilyRpm, "", ""},
	} {
		file, local := source.LocalFile(x.family, x.ref)
		assert.Equal(t, x.file, file, x.ref)
		assert.Equal(t, x.file != "", local, x.ref)
	}
}
