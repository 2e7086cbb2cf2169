package choice_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"patientlantern.example/lantern/core/choice"
	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/index"
	"patientlantern.example/lantern/core/source"
)

// What apt is told to take beside its sources is said.
func TestFilesBesideTheSourcesAreNamed(t *testing.T) {
	t.Parallel()
	s := &source.Survey{
		Traits:   source.Traits{Architectures: []string{"amd64"}},
		Sources:  deb.ParseDoc("/etc/apt/sources.list", []byte("deb http://archive.skerry.example/skerry mussel main\n"), []string{"amd64"}).Sources,
		Settings: []source.Setting{{Family: "deb", Name: "APT::Sources::With::", Value: "/srv/tern.deb"}},
	}
	c := choice.Of(s).Choose("deb", "tern", []choice.Offered{{Package: index.Package{Name: "tern", Version: "1", Arch: "amd64"}}}, "")
	assert.Equal(t, "the highest version of priority 500; apt also takes packages of /srv/tern.deb, into which nobody has looked", c.Why)
}

// What Include and Exclude of a source say, as apt 3.3 was seen to take them: names as they are, no
// patterns. apt 3.0 passes over both.
func TestASourceMaySayWhatIsTakenFromIt(t *testing.T) {
	t.Parallel()
	for _, x := range []struct{ apt, options, name, taken string }{
		{"3.3.5", "", "tern", "1"},
		{"3.3.5", "[include=tern]", "tern", "1"},
		{"3.3.5", "[include=tern]", "gull", ""},
		{"3.3.5", "[include=tern,skua]", "skua", "1"},
		{"3.3.5", "[include=t*]", "tern", ""},
		{"3.3.5", "[exclude=tern]", "tern", ""},
		{"3.3.5", "[exclude=TERN]", "tern", "1"},
		{"3.3.5", "[exclude=tern]", "gull", "1"},
		{"3.0.4", "[include=tern]", "gull", "1"},
		{"", "[exclude=tern]", "tern", "1"},
	} {
		r := deb.ParseDoc("/etc/apt/sources.list", []byte("deb "+x.options+" http://archive.skerry.example/skerry mussel main\n"), []string{"amd64"})
		s := &source.Survey{
			Traits:  source.Traits{Architectures: []string{"amd64"}, Tools: map[string]string{"apt": x.apt}},
			Sources: r.Sources,
		}
		h := choice.Of(s)
		c := h.Choose("deb", x.name, []choice.Offered{{Package: index.Package{Name: x.name, Version: "1", Arch: "amd64"}}}, "")
		got := ""
		if c.Taken != nil {
			got = c.Taken.Version
		}
		assert.Equal(t, x.taken, got, "%+v %+v", x, c)
	}
}
