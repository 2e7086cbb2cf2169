package keyring_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/keyring"
	"patientlantern.example/lantern/standin"
)

// leadForms say what stands around the lines of a block behind a lead: in front of and behind each line of data,
// of the checksum, of the end. P is the lead, Q the lead without its blanks.
var leadForms = [][6]string{
	{}, {"", " "}, {"", "", "", " "}, {"", "", "", "", "", " "}, {"", " ", "", " "}, {"", "", "", " ", "", " "}, {"", " ", "", "", "", " "},
	{"", " ", "", " ", "", " "}, {"P", "", "P", "", "P", " "}, {"P", " ", "P", " ", "P", " "}, {"P", "", "P"}, {"P", "", "P", "", "", " "},
	{"P", "", "", "", "P"}, {"P", "", "", " ", "P"}, {"", "", "P"}, {"", "", "P", "", "P"}, {"", "", "", "", "P"}, {"", "", "", "", "P", " "},
	{" ", "", " ", "", " "}, {"P", "", "P", "", "Q"}, {"P", "", "P", " ", "P"}, {"P", " ", "P", "", "P"}, {"P", "\r", "P", "\r", "P", "\r"},
}

// A block that is indented, or quoted as in a mail, is taken as sqv takes it.
func TestArmourBehindALeadIsTakenAsSQVTakesIt(t *testing.T) {
	t.Parallel()
	at := time.Date(2026, 1, 15, 0, 0, 0, 0, time.UTC)
	file := func(name string) string { return filepath.Join(t.TempDir(), name) }
	text, signature, ring := file("text"), file("sig"), file("key")
	require.NoError(t, os.WriteFile(text, []byte("the tide comes\n"), 0o600))
	k, err := standin.NewKey("a", "Saltmarsh a <packages@saltmarsh.example>", at, 0)
	require.NoError(t, err)
	sig, err := k.BinarySign([]byte("the tide comes\n"), at.AddDate(0, 1, 0))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(signature, sig, 0o600))
	armour, err := k.Public()
	require.NoError(t, err)
	lines := strings.Split(strings.TrimSpace(armour), "\n")
	taken := 0
	for _, lead := range []string{"", " ", "  ", "\t", "> ", ">> ", "> > ", "| ", "] ", "} ", ">\t", " > ", ">", "> |", "# ", "a", "a> ", "* ", "\u00a0"} {
		for _, form := range leadForms {
			around := make([]string, len(form))
			for i, f := range form {
				around[i] = strings.NewReplacer("P", lead, "Q", strings.TrimSpace(lead)).Replace(f)
			}
			block := lead + lines[0] + "\n"
			for i, l := range lines[1:] {
				n := 0
				if strings.HasPrefix(l, "=") {
					n = 2
				} else if i == len(lines)-2 {
					n = 4
				}
				block += around[n] + l + around[n+1] + "\n"
			}
			require.NoError(t, os.WriteFile(ring, []byte(block), 0o600))
			out, err := exec.Command("sqv", "--keyring", ring, signature, text).CombinedOutput()
			rings := keyring.ReadWhole([][]byte{[]byte(block)}, keyring.At{Now: at.AddDate(0, 2, 0)})
			assert.Equal(t, err == nil, rings[0].Err == nil && len(rings[0].Keys) == 1, "%q %q: %s", lead, form, out)
			if err == nil {
				taken++
			}
		}
	}
	assert.Greater(t, taken, 50)
}
