package rpm

import (
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/internal/cell"
)

// idle are the macros that rpm itself asks for, and that decide neither what is believed, where its keys and plugins are, nor
// what runs.
var idle = strings.Fields(`
	_color_output __ __file_lineno __file_name _file_signing_cert _file_signing_key _file_signing_key_password _flush_io _i18ndomains
	_minimize_writes getconfdir nil _prefer_color _query_all_fmt _rebuilddb_salvage _transaction_color _verity_algorithm _excludedocs _host_cpu _host_os
	_host_vendor _install_langs _noPayloadPrefix _sourcedir _specdir _target _target_cpu _target_os _tmppath _xz_memlimit getncpus nvr nvra
	pubkeys
`)

var (
	asked   = regexp.MustCompile(`%\{[?!]*([A-Za-z_][A-Za-z_0-9]*)`)
	defined = regexp.MustCompile(`(?m)^%([A-Za-z_][A-Za-z_0-9]*)[ \t]+(.*)$`)
	used    = regexp.MustCompile(`%\{?[?!]*([A-Za-z_][A-Za-z_0-9]*)`)
)

func decides(macro string) bool {
	line := "%" + macro + " x"
	return rpmDecides(line) || rpmFinds(line)
}

// Every macro that the rpm of this machine asks for is judged: it decides something, or is known to decide nothing; and what
// a macro that decides is made of decides as well.
func TestEveryMacroOfRPMIsJudged(t *testing.T) {
	names := cell.Names(t, asked, "/usr/lib/*/librpm.so.*", "/usr/lib/*/librpmio.so.*")
	require.Greater(t, len(names), 40)
	text, err := os.ReadFile("/usr/lib/rpm/macros")
	require.NoError(t, err)
	for _, m := range defined.FindAllSubmatch(text, -1) {
		if !decides(string(m[1])) || strings.HasPrefix(string(m[1]), "__gpg_") { // by which packages are signed
			continue
		}
		for _, of := range used.FindAllSubmatch(m[2], -1) {
			names[string(of[1])] = true
		}
	}
	unjudged := []string{}
	for name := range names {
		if !decides(name) && !slices.Contains(idle, name) {
			unjudged = append(unjudged, name)
		}
	}
	slices.Sort(unjudged)
	assert.Empty(t, unjudged, "what do these macros decide?")
}
