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
	"pgregory.net/rapid"

	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/survey"
	"patientlantern.example/lantern/internal/cell"
	"patientlantern.example/lantern/internal/keyforms"
	"patientlantern.example/lantern/standin"
)

// dnfKey is a certificate in its two forms.
func dnfKey(t *testing.T) (bin []byte, armour string) {
	t.Helper()
	k, err := standin.NewKey("dnf", "Saltmarsh Packages <packages@saltmarsh.example>", time.Date(2024, 1, 15, 0, 0, 0, 0, time.UTC), 0)
	require.NoError(t, err)
	bin, err = k.Binary()
	require.NoError(t, err)
	armour, err = k.Public()
	require.NoError(t, err)
	return bin, armour
}

// dnfTakes tells of each of some key files that sources name which keys dnf imports, and which we call used.
func dnfTakes(t require.TestingT, c *cell.Cell, root string, files []string) (theirs, ours [][]string) {
	tree, repos := map[string]string{}, ""
	for i, text := range files {
		tree[fmt.Sprintf("keys/%03d", i)] = text
		repos += fmt.Sprintf("[r%d]\nbaseurl=http://h.example/\ngpgkey=file:///keys/%03d\n", i, i)
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
	for i := range files {
		name := fmt.Sprintf("%03d", i)
		theirs = append(theirs, slices.DeleteFunc(said[name], func(f string) bool { return strings.HasPrefix(f, "error") }))
		ours = append(ours, used[name])
	}
	return theirs, ours
}

// Of a key file that a source names, dnf imports what we call used, whatever form it has.
func TestKeyFilesAreTakenAsTheRealDNFTakesThem(t *testing.T) {
	c, err := cell.Open()
	require.NoError(t, err)
	defer func() { require.NoError(t, c.Close()) }()
	bin, armour := dnfKey(t)
	var files []string
	for _, form := range keyforms.Names() {
		files = append(files, keyforms.Write(form, bin, armour))
	}
	theirs, ours := dnfTakes(t, c, t.TempDir(), files)
	for i, form := range keyforms.Names() {
		if !keyforms.Differs(form) {
			assert.ElementsMatch(t, theirs[i], ours[i], form)
		}
	}
}

// The same holds of files in which a few bytes came, went or changed places.
func TestSpoiltKeyFilesAreTakenAsTheRealDNFTakesThem(t *testing.T) {
	c, err := cell.Open()
	require.NoError(t, err)
	defer func() { require.NoError(t, c.Close()) }()
	bin, armour := dnfKey(t)
	forms := slices.DeleteFunc(slices.Clone(keyforms.Names()), keyforms.Differs)
	base, n, most := t.TempDir(), 0, cell.Rounds(1)
	rapid.Check(t, func(rt *rapid.T) {
		if n++; n > most {
			return
		}
		var files []string
		for range 40 {
			form := rapid.SampledFrom(forms).Draw(rt, "form")
			files = append(files, cell.Slips(rt, keyforms.Write(form, bin, armour)))
		}
		theirs, ours := dnfTakes(rt, c, filepath.Join(base, fmt.Sprint(n)), files)
		for i := range files {
			if !slices.Equal(theirs[i], ours[i]) {
				rt.Fatalf("dnf takes %v, we say %v, of %q", theirs[i], ours[i], files[i])
			}
		}
	})
}
