package arch_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"patientlantern.example/lantern/core/family/arch"
)

func TestNobodyElseDownloads(t *testing.T) {
	t.Parallel()
	for have, want := range map[string]string{
		"[options]\nDownloadUser = alpm\nSigLevel = Required\n": "[options]\n\nSigLevel = Required\n",
		"[options]\n  DownloadUser=alpm":                        "[options]\n\n",
		"#DownloadUser = alpm\n":                                "#DownloadUser = alpm\n",
		"[gull]\nServer = http://h.example/DownloadUser=x\n":    "[gull]\nServer = http://h.example/DownloadUser=x\n",
	} {
		assert.Equal(t, want, string(arch.AsRoot([]byte(have))))
	}
}
