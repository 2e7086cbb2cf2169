package view_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"patientlantern.example/lantern/cli/view"
)

func TestKeysInADiffAreFolded(t *testing.T) {
	t.Parallel()
	const begin, end = "+-----BEGIN PGP PUBLIC KEY BLOCK-----\n", "+-----END PGP PUBLIC KEY BLOCK-----\n"
	for have, want := range map[string]string{
		"":                                     "",
		"+a\n-b\n":                             "+a\n-b\n",
		begin + "+xA\n+xB\n" + end + "+more\n": begin + "+ … 2 lines of the key …\n" + end + "+more\n",
		begin + "+xA\n@@ -1 +1 @@\n+more\n":    begin + "+ … 1 line of the key …\n@@ -1 +1 @@\n+more\n",
		begin + "+xA\n+xB\n":                   begin + "+ … 2 lines of the key …\n",
		begin + end + begin + "+xA\n" + end:    begin + end + begin + "+ … 1 line of the key …\n" + end,
		"------BEGIN CERTIFICATE-----\n-a\n------END CERTIFICATE-----\n": "------BEGIN CERTIFICATE-----\n- … 1 line of the certificate …\n------END CERTIFICATE-----\n",
	} {
		assert.Equal(t, want, view.FoldKeys(have))
	}
}
