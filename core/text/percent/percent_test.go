package percent

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestDecode(t *testing.T) {
	for in, want := range map[string][2]string{
		"": {"", ""}, "a%7Eb": {"a~b", "a~b"}, "%41%62": {"Ab", "Ab"}, "%4": {"%4", "%4"}, "%zz": {"%zz", "%zz"}, "%": {"%", "%"},
		`"a%22b"`: {`"a"b"`, `a"b`}, "%00": {"\x00", "\x00"}, "%%41": {"%A", "%A"},
	} {
		assert.Equal(t, want[0], Decode(in), in)
		assert.Equal(t, want[1], Unquote(in), in)
	}
}
