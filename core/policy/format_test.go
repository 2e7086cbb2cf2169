package policy_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/policy"
	"patientlantern.example/lantern/demo"
)

func TestTidy(t *testing.T) {
	for _, c := range []struct{ name, in, want string }{
		{"indentation", "format: patient-lantern/1\ngroups:\n      a:\n          hosts: [x.test]\n", "format: patient-lantern/1\ngroups:\n  a:\n    hosts: [x.test]\n"},
		{"braces", "format: patient-lantern/1\ngroups: {a: {hosts:  [ x.test,y.test ]}}\n", "format: patient-lantern/1\ngroups: { a: { hosts: [x.test, y.test] } }\n"},
		{"comments", "# top\n\n\n# more\nformat: patient-lantern/1 # the format\ngroups:\n   # of a\n   a: { hosts: [x.test] }   # behind a\n   # of b\n   b:\n       hosts:\n       - x.test # first\n       # second\n       - y.test\n   # end\n# last\n",
			"# top\n\n# more\nformat: patient-lantern/1 # the format\ngroups:\n  # of a\n  a: { hosts: [x.test] } # behind a\n  # of b\n  b:\n    hosts:\n      - x.test # first\n      # second\n      - y.test\n  # end\n# last\n"},
		{"the order of keys", "groups: { a: { where: 'true' } }\nformat: patient-lantern/1\nrepositories:\n  x:\n    # about deb\n    deb: { url: \"https://a.example\" }\n    title: X # named\n", "format: patient-lantern/1\nrepositories:\n  x:\n    title: X # named\n    # about deb\n    deb: { url: \"https://a.example\" }\ngroups: { a: { where: 'true' } }\n"},
		{"sequences of mappings", "format: patient-lantern/1\nassign:\n- repositories: [x]\n  to: everyone\n\n\n# why\n- to: a\n", "format: patient-lantern/1\nassign:\n  - to: everyone\n    repositories: [x]\n\n  # why\n  - to: a\n"},
		{"quotes are kept", "format: patient-lantern/1\ngroups: { a: { where: 'label.x == \"#1\"' } } # it's\n", "format: patient-lantern/1\ngroups: { a: { where: 'label.x == \"#1\"' } } # it's\n"},
		{"literals", "format: patient-lantern/1\nrepositories:\n  x:\n      because: |\n           one\n             two\n      title: t\n", "format: patient-lantern/1\nrepositories:\n  x:\n    title: t\n    because: |\n      one\n        two\n"},
	} {
		t.Run(c.name, func(t *testing.T) {
			got, err := policy.Tidy([]byte(c.in))
			require.NoError(t, err)
			assert.Equal(t, c.want, string(got))
			again, err := policy.Tidy(got)
			require.NoError(t, err)
			assert.Equal(t, string(got), string(again), "twice is as once")
		})
	}
}

func TestTidyRefusesWhatItWouldLose(t *testing.T) {
	for _, text := range []string{"", "a: [", "a: 1\n---\nb: 2\n", "\xff"} {
		_, err := policy.Tidy([]byte(text))
		assert.ErrorIs(t, err, policy.ErrFormat, "%q", text)
	}
}

func TestTheDemosAndTheReferencesFilesAreTidy(t *testing.T) {
	files, err := demo.Policy(demo.Address, demo.Secure)
	require.NoError(t, err)
	for name, text := range files {
		if strings.HasSuffix(name, ".yaml") {
			got, err := policy.Tidy(text)
			require.NoError(t, err, name)
			assert.Equal(t, string(text), string(got), name)
			// As editors of other systems write it: with their line ends, and a mark in front.
			got, err = policy.Tidy([]byte("\ufeff" + strings.ReplaceAll(string(text), "\n", "\r\n")))
			require.NoError(t, err, name)
			assert.Equal(t, string(text), string(got), name)
		}
	}
	got, err := policy.Tidy([]byte(reference(t)))
	require.NoError(t, err)
	_, diags := policy.Load(folder(t, map[string]string{"p.yaml": string(got)}), now)
	assert.Empty(t, diags)
}

// What a file says does not depend on which editor wrote it.
func TestTheMarkAndTheLineEndsOfOtherEditorsMeanNothing(t *testing.T) {
	plain, diags := policy.Load(folder(t, map[string]string{"p.yaml": reference(t)}), now)
	require.Empty(t, diags)
	other, diags := policy.Load(folder(t, map[string]string{"p.yaml": "\ufeff" + strings.ReplaceAll(reference(t), "\n", "\r\n")}), now)
	require.Empty(t, diags)
	assert.Empty(t, policy.Compare(plain, other))
	_, diags = policy.Load(folder(t, map[string]string{"p.yaml": "format: patient-lantern/1\n\ufeffgroups: {}\n"}), now)
	assert.NotEmpty(t, diags, "in the middle it is a character like any other")
}

func FuzzTidy(f *testing.F) {
	f.Add([]byte(good))
	f.Add([]byte("a:\n- b: {c: [d,e]}\n  # x\n- |\n  y\n"))
	f.Add([]byte("\r0: |"))
	f.Fuzz(func(t *testing.T, text []byte) {
		defer quickly(t, text)()
		got, err := policy.Tidy(text)
		if err != nil {
			return
		}
		again, err := policy.Tidy(got)
		if err == nil && string(again) != string(got) {
			t.Fatalf("%q becomes %q and then %q", text, got, again)
		}
	})
}

// quickly fails a fuzz test on a text that takes long.
func quickly(t *testing.T, text []byte) (done func()) {
	timer := time.AfterFunc(5*time.Second, func() { panic(fmt.Sprintf("%q takes too long", text)) })
	return func() { timer.Stop() }
}
