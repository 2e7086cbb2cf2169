package keyring_test

import (
	"bytes"
	"slices"
	"testing"
	"time"

	"github.com/ProtonMail/go-crypto/openpgp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"patientlantern.example/lantern/core/keyring"
)

// Whatever goes, the others stay, in any order, and gpg finds them as well.
func TestCertificatesAreTakenOutOfAText(t *testing.T) {
	var all openpgp.EntityList
	var prints []string
	for _, name := range []string{"one", "two", "three"} {
		k := key(t, name, 4)
		all = append(all, k.Entity)
		prints = append(prints, keyring.Fingerprint(k.Entity))
	}
	binary := func(which []int) (out []byte) {
		for _, i := range which {
			raw := pack(t, all[i])
			out = append(out, raw...)
		}
		return out
	}
	rapid.Check(t, func(rt *rapid.T) {
		which := rapid.SliceOfN(rapid.IntRange(0, 2), 1, 5).Draw(rt, "certificates")
		gone := rapid.SliceOfN(rapid.IntRange(0, 2), 0, 3).Draw(rt, "gone")
		armoured := rapid.Bool().Draw(rt, "armoured")
		data := binary(which)
		if armoured {
			var list openpgp.EntityList
			for _, i := range which {
				list = append(list, all[i])
			}
			text, err := keyring.Armor(list)
			require.NoError(rt, err)
			data = []byte(text)
		}
		out, left, err := keyring.Without(data, func(f string) bool {
			return slices.ContainsFunc(gone, func(i int) bool { return prints[i] == f })
		})
		require.NoError(rt, err)
		stay := slices.DeleteFunc(slices.Clone(which), func(i int) bool { return slices.Contains(gone, i) })
		require.Len(rt, stay, left)
		switch {
		case len(stay) == len(which):
			require.Equal(rt, data, out, "nothing goes, and nothing changes")
			return
		case len(stay) == 0:
			require.Empty(rt, out)
			return
		case !armoured:
			require.Equal(rt, binary(stay), out, "to the byte")
		}
		keys, err := keyring.Read(out, keyring.At{Now: time.Now()})
		require.NoError(rt, err)
		var have []string
		for _, k := range keys {
			have = append(have, k.Fingerprint)
		}
		for _, i := range stay {
			require.Contains(rt, have, prints[i])
			require.NotNil(rt, keyring.Certificate(out, prints[i]))
		}
		for _, i := range gone {
			require.NotContains(rt, have, prints[i])
			require.Nil(rt, keyring.Certificate(out, prints[i]))
		}
	})

	list, err := keyring.Armor(all)
	require.NoError(t, err)
	out, left, err := keyring.Without([]byte(list), func(f string) bool { return f == prints[1] })
	require.NoError(t, err)
	assert.Equal(t, 2, left)
	assert.Contains(t, ask(t, out, "fpr", 9), prints[0])
	assert.NotContains(t, ask(t, out, "fpr", 9), prints[1])

	_, _, err = keyring.Without([]byte("\x00\x00\x00\x20\x01\x01\x00\x02KBXf keybox"), func(string) bool { return true })
	assert.ErrorIs(t, err, keyring.ErrApart, "a keybox is not written")
}

func pack(t testing.TB, e *openpgp.Entity) []byte {
	t.Helper()
	var out bytes.Buffer
	require.NoError(t, e.Serialize(&out))
	return out.Bytes()
}
