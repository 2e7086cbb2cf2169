package wire

import (
	"errors"
	"hash/maphash"
	"sync"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"
	lru "github.com/hashicorp/golang-lru/v2"
)

// Parts reads documents of which many hold the same: a part that reads as one that was read
// before is that one. Whoever gets a document shares its slices, maps and pointers with others
// and does not write to them.
type Parts struct{ options json.Options }

// Part is a kind of value that documents hold in common.
type Part struct{ unmarshalers *json.Unmarshalers }

// Alike is the values of a type, so many of which are remembered; the least used go first, and those
// whose text is longer than so many bytes are not: a host makes up what it likes.
func Alike[T any](most, long int) Part { return Part{json.UnmarshalFromFunc(remember[T](most, long))} }

// mostLent bounds the lists in which others are gathered, in values.
const mostLent = 1024

// Each is Alike for values that stand in a list, which is made at once as long as it is.
func Each[T any](most, long int) Part {
	read := remember[T](most, long)
	var lists sync.Pool
	return Part{json.UnmarshalFromFunc(func(d *jsontext.Decoder, to *[]T) error {
		if d.PeekKind() != '[' {
			return errors.ErrUnsupported
		}
		list, _ := lists.Get().(*[]T)
		if list == nil {
			list = new([]T)
		}
		defer func() {
			if clear(*list); cap(*list) <= mostLent {
				*list = (*list)[:0]
				lists.Put(list)
			}
		}()
		if _, err := d.ReadToken(); err != nil {
			return err
		}
		for d.PeekKind() != ']' {
			*list = append(*list, *new(T))
			if err := read(d, &(*list)[len(*list)-1]); err != nil {
				return err
			}
		}
		if _, err := d.ReadToken(); err != nil {
			return err
		}
		*to = append(make([]T, 0, len(*list)), *list...)
		return nil
	})}
}

// remember reads a value, or finds the one that reads alike.
func remember[T any](most, long int) func(*jsontext.Decoder, *T) error {
	kept, err := lru.New[uint64, part[T]](most)
	if err != nil {
		panic(err) // of a size that is not positive, and ours are constants
	}
	seed := maphash.MakeSeed()
	return func(d *jsontext.Decoder, to *T) error {
		text, err := d.ReadValue()
		if err != nil {
			return err
		}
		sum := maphash.Bytes(seed, text)
		if p, known := kept.Get(sum); known && p.text == string(text) {
			*to = p.value
			return nil
		}
		var value T
		if err := json.Unmarshal(text, &value, stored); err != nil {
			return err
		}
		if len(text) <= long {
			kept.Add(sum, part[T]{string(text), value})
		}
		*to = value
		return nil
	}
}

// part is a value with the text that it was read from.
type part[T any] struct {
	text  string
	value T
}

// NewParts is a reader of documents that have such parts in common.
func NewParts(kinds ...Part) *Parts {
	all := make([]*json.Unmarshalers, len(kinds))
	for i, k := range kinds {
		all[i] = k.unmarshalers
	}
	return &Parts{json.JoinOptions(stored, json.WithUnmarshalers(json.JoinUnmarshalers(all...)))}
}

// Read reads as the Read of this package does.
func (p *Parts) Read(text []byte, v any) error { return json.Unmarshal(text, v, p.options) }
