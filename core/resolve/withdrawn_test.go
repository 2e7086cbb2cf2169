package resolve_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/resolve"
)

// Every host is told of a key that is withdrawn, also one that has none of its repositories: it may stand there all the
// same. What is remembered of the policy before does not hide it.
func TestEveryHostIsToldOfAWithdrawnKey(t *testing.T) {
	const stranger = "0123456789ABCDEF0123456789ABCDEF01234567"
	memory := &resolve.Memory{}
	hosts := []resolve.Host{host("gw-01.brinewick.test", traits("12", "mussel", "2.6.1"), nil), host("alone.brinewick.test", driftwood(1), nil)}
	at := func(text string) (digests []string) {
		r := resolve.NewWith(load(t, strings.TrimSuffix(expectedPolicy, "expect:\n")+text), memory)
		for _, h := range hosts {
			res := r.Resolve(h)
			require.Empty(t, res.Trouble)
			digests = append(digests, res.Digest())
			if text == "" {
				assert.Empty(t, res.Sheet.Withdrawn)
				continue
			}
			require.Len(t, res.Sheet.Withdrawn, 1)
			assert.Equal(t, stranger, res.Sheet.WithdrawnKey(stranger).Fingerprint)
			assert.Nil(t, res.Sheet.WithdrawnKey("x"))
		}
		return digests
	}
	before := at("")
	lost := at("withdrawn: { " + stranger + ": { because: lost } }\n")
	again := at("withdrawn: { " + stranger + ": { because: it is in other hands } }\n")
	for i := range hosts {
		assert.NotEqual(t, before[i], lost[i])
		assert.NotEqual(t, lost[i], again[i])
	}
	assert.Equal(t, before, at(""), "and it is gone with the word")
}
