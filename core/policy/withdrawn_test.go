package policy_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/policy"
)

// A key is withdrawn by its name or by its fingerprint, whether or not the policy has another use for it.
func TestAKeyIsWithdrawnByNameOrFingerprint(t *testing.T) {
	const saltmarsh, stranger = "3BFF82245BECAD4F2FA48C0D00195878414CC58E", "0123456789ABCDEF0123456789ABCDEF01234567"
	for _, c := range []struct {
		name, withdrawn string
		want            []string // name, fingerprint
		keyless         bool
	}{
		{"by name", "saltmarsh", []string{"saltmarsh", saltmarsh}, true},
		{"by fingerprint", strings.ToLower(saltmarsh), []string{saltmarsh, saltmarsh}, true},
		{"as people write it", `"3BFF 8224 5BEC AD4F 2FA4  8C0D 0019 5878 414C C58E"`, []string{saltmarsh, saltmarsh}, true},
		{"one that the policy does not know", stranger, []string{stranger, stranger}, false},
	} {
		t.Run(c.name, func(t *testing.T) {
			p := loaded(t, two+"withdrawn:\n  "+c.withdrawn+": { because: lost }\n")
			list := p.NotBelieved()
			require.Len(t, list, 1)
			assert.Equal(t, c.want, []string{list[0].Key, list[0].Fingerprint})
			assert.Equal(t, "lost", list[0].Because)
			assert.False(t, list[0].Stays)
			assert.Equal(t, c.keyless, p.Repositories["saltmarsh"].Keyless)
			assert.Equal(t, c.keyless, p.WithdrawalOf("saltmarsh") != nil)
			assert.False(t, p.Repositories["gannet"].Keyless)
			if c.keyless {
				assert.Equal(t, []string{"saltmarsh"}, loaded(t, two).BelievesAgain(p), "an older folder does not bring it back unseen")
			} else {
				assert.Empty(t, loaded(t, two).BelievesAgain(p))
			}
		})
	}
	p := loaded(t, strings.Replace(two, "    keys: [gannet]\n    deb: { url: \"https://apt.gannet.example/open\", ",
		"    keys: [gannet]\n    in-place: true\n    deb: { ", 1)+"withdrawn:\n  gannet: { because: lost }\n")
	require.Len(t, p.NotBelieved(), 1)
	assert.True(t, p.NotBelieved()[0].Stays, "the distribution's own entries go by it")

	_, said := policy.Load(folder(t, map[string]string{"p.yaml": two + "withdrawn:\n  " + stranger + ": { because: a }\n  " +
		strings.ToLower(stranger) + ": { because: b }\n"}), time.Now())
	require.Len(t, said, 1)
	assert.Contains(t, said[0].String(), "p.yaml:23:3: error[name-twice]: the key "+stranger+" is withdrawn twice (also p.yaml:22:3); keep one of them")
}
