package resolve

import (
	"fmt"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"patientlantern.example/lantern/core/condition"
	"patientlantern.example/lantern/core/diag"
	"patientlantern.example/lantern/core/policy"
	"patientlantern.example/lantern/core/source"
)

// inspect returns the facts that a repository looks at, and a text of everything
// that its part of a sheet follows from besides those and the settings that assignments
// give. The text is taken from the values themselves, so that a field that is added to a
// repository counts without anybody thinking of it. Places in the policy are left out:
// they change when a line is added above. keys are those of keyPrints.
func inspect(repo *policy.Repository, p *policy.Policy, keys map[string]string) (reads map[string]bool, print string) {
	x := &printer{reads: map[string]bool{}}
	for _, f := range always {
		x.reads[f] = true
	}
	x.value(reflect.ValueOf(repo).Elem())
	// How many stand below it follows from the whole policy, and so do the keys' own texts.
	fmt.Fprintf(&x.text, "level %d", p.Levels[repo.Name])
	for _, t := range repo.Trusts {
		x.text.WriteString(keys[t.Value])
	}
	if x.flatpak {
		x.reads["tools.flatpak"] = true
	}
	return x.reads, source.Digest([]byte(x.text.String()))
}

// keyPrints are digests of the texts of a policy's keys, by name.
func keyPrints(p *policy.Policy) map[string]string {
	out := make(map[string]string, len(p.Keys))
	for name, k := range p.Keys {
		out[name] = source.Digest([]byte(k.Name + "\x00" + k.Armored))
	}
	return out
}

// printer writes values down, and gathers the facts that they look at.
type printer struct {
	text    strings.Builder
	reads   map[string]bool
	flatpak bool
}

var (
	posType       = reflect.TypeFor[diag.Pos]()
	placesType    = reflect.TypeFor[map[string]diag.Pos]()
	conditionType = reflect.TypeFor[*condition.Condition]()
)

// value writes a value so that two that differ in anything but places are written
// differently.
func (x *printer) value(v reflect.Value) {
	switch v.Type() {
	case posType, placesType:
		return
	case conditionType:
		x.condition(v)
		return
	}
	switch v.Kind() {
	case reflect.Struct:
		x.fields(v)
	case reflect.Pointer:
		if v.IsNil() {
			x.text.WriteByte('-')
			return
		}
		x.text.WriteByte('*')
		x.value(v.Elem())
	case reflect.Slice:
		fmt.Fprintf(&x.text, "[%t %d", v.IsNil(), v.Len())
		for i := range v.Len() {
			x.value(v.Index(i))
		}
		x.text.WriteByte(']')
	case reflect.Map:
		keys := v.MapKeys()
		slices.SortFunc(keys, func(a, b reflect.Value) int { return strings.Compare(mapKey(a), mapKey(b)) })
		fmt.Fprintf(&x.text, "{%d", len(keys))
		for _, k := range keys {
			x.text.WriteString(mapKey(k))
			x.value(v.MapIndex(k))
		}
		x.text.WriteByte('}')
	case reflect.String:
		x.text.WriteString(strconv.Quote(v.String()))
		for name := range policy.Variables(v.String()) {
			x.reads[name] = true
		}
	case reflect.Bool:
		fmt.Fprintf(&x.text, "%t ", v.Bool())
	case reflect.Int, reflect.Int64:
		fmt.Fprintf(&x.text, "#%d ", v.Int())
	default: // a test writes every repository that there can be
		panic("a repository holds a value that cannot be written: " + v.Type().String())
	}
}

func mapKey(v reflect.Value) string { return strconv.Quote(v.String()) }

// fields writes what a struct says; what is not exported is the loader's own.
func (x *printer) fields(v reflect.Value) {
	x.text.WriteByte('(')
	for i := range v.NumField() {
		if f := v.Type().Field(i); f.IsExported() {
			if f.Name == "Flat" && !v.Field(i).IsNil() {
				x.flatpak = true
			}
			x.value(v.Field(i))
		}
	}
	x.text.WriteByte(')')
}

func (x *printer) condition(v reflect.Value) {
	if v.IsNil() {
		x.text.WriteByte('-')
		return
	}
	e, ok := v.Interface().(*condition.Condition)
	if !ok {
		return
	}
	x.text.WriteString(strconv.Quote(e.Text))
	for _, f := range e.Reads {
		x.reads[f] = true
	}
}
