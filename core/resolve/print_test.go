package resolve

import (
	"reflect"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/condition"
	"patientlantern.example/lantern/core/policy"
)

// fill gives every field that there is a value that is not the empty one.
func fill(t *testing.T, v reflect.Value, depth int) {
	switch {
	case v.Type() == conditionType:
		c, err := condition.NewCompiler()
		require.NoError(t, err)
		made, err := c.Compile("os.major == 12")
		require.NoError(t, err)
		v.Set(reflect.ValueOf(made))
		return
	case v.Type() == posType || v.Type() == placesType || depth > 6:
		return
	}
	switch v.Kind() {
	case reflect.Struct:
		for i := range v.NumField() {
			if v.Type().Field(i).IsExported() {
				fill(t, v.Field(i), depth+1)
			}
		}
	case reflect.Pointer:
		v.Set(reflect.New(v.Type().Elem()))
		fill(t, v.Elem(), depth+1)
	case reflect.Slice:
		v.Set(reflect.MakeSlice(v.Type(), 1, 1))
		fill(t, v.Index(0), depth+1)
	case reflect.Map:
		v.Set(reflect.MakeMap(v.Type()))
		value := reflect.New(v.Type().Elem()).Elem()
		fill(t, value, depth+1)
		v.SetMapIndex(reflect.ValueOf("a").Convert(v.Type().Key()), value)
	case reflect.String:
		v.SetString("a")
	case reflect.Bool:
		v.SetBool(true)
	case reflect.Int, reflect.Int64:
		v.SetInt(7)
	default:
		t.Fatalf("a repository holds a %s, which nothing here writes", v.Type())
	}
}

// leaves yields every value in v that can be changed, with the way to it.
func leaves(v reflect.Value, way string, each func(way string, v reflect.Value)) {
	if v.Type() == posType || v.Type() == placesType {
		return
	}
	switch v.Kind() {
	case reflect.Struct:
		for i := range v.NumField() {
			if f := v.Type().Field(i); f.IsExported() {
				leaves(v.Field(i), way+"."+f.Name, each)
			}
		}
	case reflect.Pointer:
		if v.Type() == conditionType {
			each(way, v)
			return
		}
		if !v.IsNil() {
			leaves(v.Elem(), way, each)
			each(way, v)
		}
	case reflect.Slice:
		for i := range v.Len() {
			leaves(v.Index(i), way+"[]", each)
		}
		each(way, v)
	default:
		each(way, v)
	}
}

// Whatever is changed in a repository, what is remembered of it is another: a field that
// is added counts without anybody writing it down a second time.
func TestEveryFieldOfARepositoryCounts(t *testing.T) {
	repo := &policy.Repository{}
	fill(t, reflect.ValueOf(repo).Elem(), 0)
	repo.Trusts = nil // keys count with their texts, below
	p := &policy.Policy{Levels: map[string]int{}, Keys: map[string]*policy.Key{}}
	_, before := inspect(repo, p, keyPrints(p))
	count := 0
	leaves(reflect.ValueOf(repo).Elem(), "Repository", func(way string, v reflect.Value) {
		count++
		old := reflect.New(v.Type()).Elem()
		old.Set(v)
		switch v.Kind() {
		case reflect.String:
			v.SetString("b")
		case reflect.Bool:
			v.SetBool(!v.Bool())
		case reflect.Int, reflect.Int64:
			v.SetInt(v.Int() + 1)
		default:
			v.SetZero()
		}
		_, after := inspect(repo, p, keyPrints(p))
		v.Set(old)
		if !old.IsZero() {
			assert.NotEqual(t, before, after, "%s was changed", way)
		}
	})
	assert.Greater(t, count, 60, "the fields were looked at")
	_, again := inspect(repo, p, keyPrints(p))
	assert.Equal(t, before, again)

	repo.Trusts = []policy.Text{{Value: "k"}}
	p.Keys["k"] = &policy.Key{Name: "k", Armored: "one"}
	_, one := inspect(repo, p, keyPrints(p))
	p.Keys["k"].Armored = "two"
	_, two := inspect(repo, p, keyPrints(p))
	assert.NotEqual(t, one, two, "a key has another text")
	p.Levels[repo.Name] = 3
	_, three := inspect(repo, p, keyPrints(p))
	assert.NotEqual(t, two, three, "another number of repositories stands below it")
}
