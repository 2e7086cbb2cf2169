package survey_test

import (
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/survey"
)

// calling reads a root on which a source calls a file a list of mirrors.
func calling(t *testing.T, text, machine string) (string, source.File, []source.Problem) {
	t.Helper()
	root := fstest.MapFS{
		"srv/list":                {Data: []byte(text), Mode: 0o644},
		"etc/apt/sources.list":    {Data: []byte("deb mirror+file:/srv/list s main\n"), Mode: 0o644},
		"var/lib/dpkg/status":     {Data: []byte(""), Mode: 0o644},
		"usr/bin/apt-get":         {Data: []byte(""), Mode: 0o755},
		"etc/apt/trusted.gpg.d/x": {Mode: 0o644},
	}
	if machine != "" {
		root["etc/machine-id"] = &fstest.MapFile{Data: []byte(machine + "\n"), Mode: 0o444}
	}
	got := survey.Read(rootfs.New(root), survey.Machine{Arch: "x86_64", Now: time.Now()})
	shown := string(got.Masked()["/srv/list"])
	for _, f := range got.Survey.Files {
		if f.Path == "/srv/list" {
			return shown, f, got.Survey.Problems
		}
	}
	require.Fail(t, "the list is not told of")
	return "", source.File{}, nil
}

const machine = "5c0f0f5b3f2d4a6f9d8e7c6b5a493827"

func TestAListOfMirrorsIsToldAsItIs(t *testing.T) {
	for _, list := range []string{
		"# ours\nhttp://a.example/x\n\nhttps://b.example/y priority:2\n",
		"http://a.example/x\tpriority:1 type:deb\nfile:/srv/mirror\ncopy:/srv/mirror\nhttp:/a.example/x\n",
		"  https://a.example/$releasever/$basearch/\r\n",
		"<?xml version=\"1.0\"?>\n<!-- of the site -->\n<metalink version=\"3.0\">\n<hash type=\"sha256\">\nabcdef\n</hash>\n<url>\nhttp://a.example/x\n</url></metalink>\n",
		"", "\n",
	} {
		shown, _, problems := calling(t, list, "")
		assert.Equal(t, list, shown)
		assert.Empty(t, problems, list)
	}
}

// What names no mirror stays on the host, and a change of it is seen all the same: apt takes such a line for the name
// of a program.
func TestLinesThatNameNoMirrorStayAndTheirChangesAreSeen(t *testing.T) {
	for name, x := range map[string][2]string{
		"of accounts":      {"root:$6$MARK:20000:0:::::\nhttp://a.example/x\n", "root:$6$MARL:20000:0:::::\nhttp://a.example/x\n"},
		"a program":        {"http://a.example/x\nMARK/../../tmp/reef\n", "http://a.example/x\nMARK/../../tmp/tide\n"},
		"words in front":   {"http://a.example/x\nMARK http://b.example/\n", "http://a.example/x\nMARK http://c.example/\n"},
		"no list at all":   {"MARK\n", "MARK2\n"},
		"not the root":     {"<mirrors><metalink>\nMARK\n</metalink></mirrors>\n", "<mirrors><metalink>\nMARK2\n</metalink></mirrors>\n"},
		"a name that ends": {"<metalinks>MARK</metalinks>\n", "<metalinks>MARK2</metalinks>\n"},
	} {
		was, wasFile, problems := calling(t, x[0], machine)
		is, isFile, _ := calling(t, x[1], machine)
		assert.NotContains(t, was+strings.Join(wasFile.Mirrors, " "), "MARK", name)
		assert.Empty(t, problems, name)
		assert.False(t, source.SameSet(wasFile.Mirrors, isFile.Mirrors), "%s: %q, %q", name, was, is)
		again, _, _ := calling(t, x[0], machine)
		assert.Equal(t, was, again, name)
		other, _, _ := calling(t, x[0], strings.Repeat("0123", 8))
		assert.NotEqual(t, was, other, "%s: the digest is made with what only the host has", name)
		bare, _, told := calling(t, x[0], "")
		assert.NotContains(t, bare, "MARK", name)
		if assert.Len(t, told, 1, name) {
			assert.Contains(t, told[0].Message, "without /etc/machine-id nobody is told when they change", name)
		}
	}
	shown, _, _ := calling(t, "# MARK\nx\n", machine)
	assert.NotContains(t, shown, "MARK", "a comment of what is no list")
	shown, _, _ = calling(t, "# MARK\n", machine)
	assert.NotContains(t, shown, "MARK", "nothing but comments")
}
