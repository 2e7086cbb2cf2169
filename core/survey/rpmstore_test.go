package survey_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/ProtonMail/go-crypto/openpgp"
	"github.com/ProtonMail/go-crypto/openpgp/packet"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/keyring"
	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/survey"
)

// What rpm is told of where it keeps its keys is where they are looked for: in files as the real rpm writes them, in
// the store of newer ones, and where nobody knows it is said.
func TestWhereRPMKeepsItsKeys(t *testing.T) {
	t.Parallel()
	entity, err := openpgp.NewEntity("Gannet", "", "keys@gannet.example", &packet.Config{Algorithm: packet.PubKeyAlgoRSA, RSABits: 2048})
	require.NoError(t, err)
	text, err := keyring.Armor(openpgp.EntityList{entity})
	require.NoError(t, err)
	armour, fingerprint := []byte(text), keyring.Fingerprint(entity)
	for _, x := range []struct {
		does, macros string
		vendor       string // macros that come with rpm
		put          func(root string)
		where        string
		problem      string
	}{
		{does: "its database", macros: "", put: func(root string) { imports(t, root, "rpmdb", armour) }, where: "/var/lib/rpm/rpmdb.sqlite"},
		{does: "files", macros: "%_keyring fs\n", put: func(root string) { imports(t, root, "fs", armour) }, where: "/var/lib/rpm/pubkeys/gpg-pubkey-"},
		{does: "a store", macros: "%_keyring openpgp\n%_keyringpath /srv/keys\n", put: func(root string) {
			to := filepath.Join(root, "srv/keys", fingerprint[:2], fingerprint[2:])
			require.NoError(t, os.MkdirAll(filepath.Dir(to), 0o755))
			require.NoError(t, os.WriteFile(to, armour, 0o644))
		}, where: "/srv/keys/"},
		{does: "files, as its own macros say", vendor: "%_keyring fs\n%_keyringpath\t\t%{_dbpath}/pubkeys/\n", put: func(root string) {
			imports(t, root, "fs", armour)
		}, where: "/var/lib/rpm/pubkeys/gpg-pubkey-"},
		{does: "its database, whatever its own macros say", vendor: "%_keyring fs\n", macros: "%_keyring rpmdb\n", put: func(root string) {
			imports(t, root, "rpmdb", armour)
		}, where: "/var/lib/rpm/rpmdb.sqlite"},
		{does: "elsewhere, as its own macros say", vendor: "%_keyring tern\n", put: func(string) {}, problem: "rpm is told to keep its keys in tern there, and which it believes is not known"},
		{does: "elsewhere", macros: "%_keyring tern\n", put: func(string) {}, problem: "rpm is told to keep its keys in tern there, and which it believes is not known"},
	} {
		root := t.TempDir()
		for name, text := range map[string]string{
			"etc/os-release": "ID=foreland\nID_LIKE=fedora\nVERSION_ID=9\n", "etc/dnf/dnf.conf": "[main]\n", "etc/rpm/macros.own": x.macros, "var/lib/rpm/.keep": "",
			"usr/lib/rpm/macros": x.vendor,
		} {
			require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(root, name)), 0o755))
			require.NoError(t, os.WriteFile(filepath.Join(root, name), []byte(text), 0o644))
		}
		x.put(root)
		dir, err := os.OpenRoot(root)
		require.NoError(t, err)
		s := survey.Read(rootfs.New(dir.FS()), survey.Machine{Arch: "x86_64", Now: time.Now()}).Survey
		require.NoError(t, dir.Close())
		var where, problems []string
		for _, k := range s.Keys {
			if k.Fingerprint == fingerprint {
				where = append(where, k.Where)
			}
		}
		for _, p := range s.Problems {
			problems = append(problems, p.Message)
		}
		if x.problem != "" {
			assert.Contains(t, strings.Join(problems, "\n"), x.problem, x.does)
			continue
		}
		assert.Empty(t, problems, x.does)
		if assert.Len(t, where, 1, x.does) {
			assert.Truef(t, strings.HasPrefix(where[0], x.where), "%s: %s", x.does, where[0])
		}
	}
}

// imports has the real rpm take a key.
func imports(t *testing.T, root, keyring string, armour []byte) {
	file := filepath.Join(t.TempDir(), "key.asc")
	require.NoError(t, os.WriteFile(file, armour, 0o644))
	db := filepath.Join(root, "var/lib/rpm")
	require.NoError(t, os.MkdirAll(filepath.Join(db, "pubkeys"), 0o755))
	for _, args := range [][]string{{"--initdb"}, {"--define", "_keyring " + keyring, "--define", "_keyringpath " + db + "/pubkeys/", "--import", file}} {
		out, err := exec.Command("rpm", append([]string{"--dbpath", db}, args...)...).CombinedOutput()
		require.NoError(t, err, "%s: %s", args, out)
	}
}
