package condition_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/condition"
	"patientlantern.example/lantern/core/source"
)

func facts() *condition.Facts {
	return &condition.Facts{Host: "gw-01.brinewick.test", Labels: map[string]string{"site": "north"}, Traits: &source.Traits{
		OS: source.OS{ID: "skerry", Version: "12.4", Codename: "mussel"}, Family: "deb", Arch: "x86_64", CPU: source.CPU{Vendor: "GenuineIntel", Level: 3}, Tools: map[string]string{"apt": "2.6.1"},
	}}
}

func compile(t testing.TB, text string) *condition.Condition {
	t.Helper()
	c, err := condition.NewCompiler()
	require.NoError(t, err)
	cond, err := c.Compile(text)
	require.NoError(t, err, text)
	return cond
}

func TestHolds(t *testing.T) {
	for _, c := range []struct {
		text  string
		want  bool
		reads string
	}{
		{`os.major >= 12`, true, "os.major"},
		{`os.major == 12 && os.minor == 4`, true, "os.major os.minor"},
		{`os.id == "skerry" || cpu.level > 5`, true, "cpu.level os.id"},
		{`label.site == "north"`, true, "label.site"},
		{`label["site"] == "south"`, false, "label.site"},
		{`label.duty == "relay"`, false, "label.duty"},
		{`label.duty != "relay"`, true, "label.duty"},
		{`has(label.duty)`, false, "label.duty"},
		{`has(label.site) && label.site.startsWith("n")`, true, "label.site"},
		{`"duty" in label`, false, "label.duty"},
		{`"site" in label`, true, "label.site"},
		{`tools.apt.startsWith("2.6")`, true, "tools.apt"},
		{`tools.dnf == ""`, true, "tools.dnf"},
		{`tools.apt.atLeast("2.4")`, true, "tools.apt"},
		{`tools.apt.atLeast("2.10")`, false, "tools.apt"},
		{`tools.dnf.atLeast("4")`, false, "tools.dnf"},
		{`os.version.atLeast("12.3")`, true, "os.version"},
		{`host.name.matches("^gw-[0-9]+")`, true, "host.name"},
		{`label.exists(k, label[k] == "north")`, true, "label.*"},
		{`arch in ["x86_64", "aarch64"]`, true, "arch"},
		{`family == "rpm"`, false, "family"},
		{`true`, true, ""},
	} {
		t.Run(c.text, func(t *testing.T) {
			cond := compile(t, c.text)
			assert.Equal(t, c.reads, strings.Join(cond.Reads, " "))
			got, err := cond.Holds(facts())
			require.NoError(t, err)
			assert.Equal(t, c.want, got)
		})
	}
}

func TestCompileRefuses(t *testing.T) {
	c, err := condition.NewCompiler()
	require.NoError(t, err)
	for text, want := range map[string]string{
		`os.major >`:              "Syntax error",
		`os.mayor > 1`:            "no such fact: os.mayor",
		`nothing`:                 "no such fact: nothing",
		`os.major == "12"`:        "found no matching overload",
		`os.major`:                "the expression is of type int; a condition is true or false",
		strings.Repeat("x", 5000): "the expression is longer than 4096 bytes",
	} {
		_, err := c.Compile(text)
		var ce *condition.Error
		require.ErrorAs(t, err, &ce, text)
		assert.Contains(t, ce.Message, want, text)
		assert.NotContains(t, ce.Message, "\n", text)
	}
}

func TestAnExpressionThatBlowsUpIsStopped(t *testing.T) {
	list := "[" + strings.Repeat("1,", 60) + "1]"
	cond := compile(t, list+".all(a, "+list+".all(b, "+list+".all(c, "+list+".all(d, a+b+c+d > 0))))")
	_, err := cond.Holds(facts())
	assert.ErrorContains(t, err, "cost limit exceeded")
}

func TestGet(t *testing.T) {
	f := facts()
	for name, want := range map[string]string{"os.codename": "mussel", "os.major": "12", "os.minor": "4", "label.site": "north", "label.none": "", "tools.apt": "2.6.1", "host.name": "gw-01.brinewick.test", "cpu.level": "3"} {
		got, ok := f.Get(name)
		assert.True(t, ok, name)
		assert.Equal(t, want, got, name)
	}
	_, ok := f.Get("os.nothing")
	assert.False(t, ok)
	f.Traits.OS.Version = "" // a rolling system has no number
	got, _ := f.Get("os.major")
	assert.Empty(t, got)
}
