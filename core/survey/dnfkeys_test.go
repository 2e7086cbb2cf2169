package survey_test

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/survey"
	"patientlantern.example/lantern/internal/cell"
	"patientlantern.example/lantern/internal/keyforms"
	"patientlantern.example/lantern/standin"
)

// Of a key file that a source names, dnf imports what we call used, whatever form it has.
func TestKeyFilesAreTakenAsTheRealDNFTakesThem(t *testing.T) {
	c, err := cell.Open()
	require.NoError(t, err)
	defer func() { require.NoError(t, c.Close()) }()
	k, err := standin.NewKey("dnf", "Saltmarsh Packages <packages@saltmarsh.example>", time.Date(2024, 1, 15, 0, 0, 0, 0, time.UTC), 0)
	require.NoError(t, err)
	bin, err := k.Binary()
	require.NoError(t, err)
	armour, err := k.Public()
	require.NoError(t, err)
	root := t.TempDir()
	tree, repos := map[string]string{}, ""
	for i, form := range keyforms.Names() {
		tree[fmt.Sprintf("keys/%02d", i)] = keyforms.Write(form, bin, armour)
		repos += fmt.Sprintf("[r%d]\nbaseurl=http://h.example/\ngpgkey=file:///keys/%02d\n", i, i)
	}
	tree["etc/yum.repos.d/a.repo"] = repos
	require.NoError(t, cell.Write(root, tree))
	dir, err := os.OpenRoot(root)
	require.NoError(t, err)
	defer dir.Close()
	used := map[string][]string{}
	for _, key := range survey.Read(rootfs.New(dir.FS()), survey.Machine{Arch: "x86_64", Now: time.Now()}).Survey.Keys {
		if name := filepath.Base(key.Where); key.Used && !slices.Contains(used[name], key.Fingerprint) {
			used[name] = append(used[name], key.Fingerprint)
		}
	}
	a, err := c.DNFKeys(root)
	require.NoError(t, err)
	var said map[string][]string
	require.NoError(t, json.Unmarshal([]byte(a.Out), &said), a.Err)
	for i, form := range keyforms.Names() {
		if keyforms.Differs(form) {
			continue
		}
		name := fmt.Sprintf("%02d", i)
		want := slices.DeleteFunc(said[name], func(f string) bool { return strings.HasPrefix(f, "error") })
		assert.ElementsMatch(t, want, used[name], form)
	}
}
