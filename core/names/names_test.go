package names

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestExpand(t *testing.T) {
	for _, c := range []struct{ in, want, err string }{
		{"gw-01.brinewick.test", "gw-01.brinewick.test", ""},
		{"gw-{01..03}", "gw-01 gw-02 gw-03", ""},
		{"gw-{9..11}", "gw-9 gw-10 gw-11", ""},
		{"gw-{08..10}.{a,b}", "gw-08.a gw-08.b gw-09.a gw-09.b gw-10.a gw-10.b", ""},
		{"gw-{3..1}", "", `the range {3..1} in "gw-{3..1}" is empty: it counts down`},
		{"gw-{1..10000000}", "", `"gw-{1..10000000}" stands for more than 100000 names`},
		{"{1..1000}{1..1000}", "", `"{1..1000}{1..1000}" stands for more than 100000 names`},
		{"gw-{}", "", `{} in "gw-{}" is empty or has an empty choice`},
		{"gw-{a..c}", "", `{a..c} in "gw-{a..c}" is not a range of numbers`},
		{"gw-{1..2", "", `"gw-{1..2" has a { that is not closed`},
		{"gw-1}", "", `"gw-1}" has a } without a {`},
	} {
		t.Run(c.in, func(t *testing.T) {
			got, err := Expand(c.in)
			if c.err != "" {
				assert.EqualError(t, err, c.err)
				return
			}
			assert.NoError(t, err)
			assert.Equal(t, c.want, strings.Join(got, " "))
		})
	}
}

func TestNearest(t *testing.T) {
	all := []string{"saltmarsh", "gannet-open", "plover", "os.codename", "os.major"}
	for in, want := range map[string]string{"saltmrash": "saltmarsh", "ganet-open": "gannet-open", "os.mayor": "os.major", "fulmar": "", "x": ""} {
		assert.Equal(t, want, Nearest(in, all), in)
	}
}
