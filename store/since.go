package store

import (
	"bytes"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"github.com/go-json-experiment/json/jsontext"
)

// Since tells since when findings are there, by their keys. It is never changed: Follow
// makes the next one.
type Since []sinceItem

type sinceItem struct {
	key string
	at  int64 // milliseconds
}

// Of returns since when a finding is there; false where it is not.
func (s Since) Of(key string) (time.Time, bool) {
	for i := range s {
		if s[i].key == key {
			return fromUnix(s[i].at), true
		}
	}
	return time.Time{}, false
}

// Follow returns what comes after s: findings that are there still keep their time, new
// ones have come now, and the others are gone. old gives the key by which an earlier
// version knew the finding of a key; nil where none did.
func (s Since) Follow(keys []string, now time.Time, old func(i int) string) Since {
	before := s.lookUp()
	out := make(Since, 0, len(keys))
	var taken map[string]bool
	if len(keys) > few {
		taken = make(map[string]bool, len(keys))
	}
	for i, k := range keys {
		if taken[k] || taken == nil && slices.ContainsFunc(out, func(x sinceItem) bool { return x.key == k }) {
			continue
		}
		if taken != nil {
			taken[k] = true
		}
		at, ok := before(k)
		if !ok && old != nil && len(s) > 0 {
			at, ok = before(old(i))
		}
		if !ok {
			at = unix(now)
		}
		out = append(out, sinceItem{k, at})
	}
	return out
}

// few is how many items are looked through faster than a map of them is made.
const few = 16

// lookUp returns what finds the time of a key.
func (s Since) lookUp() func(key string) (int64, bool) {
	if len(s) <= few {
		return func(key string) (int64, bool) {
			for i := range s {
				if s[i].key == key {
					return s[i].at, true
				}
			}
			return 0, false
		}
	}
	m := make(map[string]int64, len(s))
	for _, x := range s {
		m[x.key] = x.at
	}
	return func(key string) (int64, bool) {
		at, ok := m[key]
		return at, ok
	}
}

// MarshalJSON writes an object of times by key.
func (s Since) MarshalJSON() ([]byte, error) {
	m := make(map[string]time.Time, len(s))
	for _, x := range s {
		m[x.key] = fromUnix(x.at)
	}
	return json.Marshal(m)
}

// UnmarshalJSON reads what MarshalJSON wrote.
func (s *Since) UnmarshalJSON(b []byte) error { return s.read(b, shared{}) }

// read reads what MarshalJSON wrote: the keys are shared with other hosts that have the same
// findings.
func (s *Since) read(b []byte, keys shared) error {
	*s = nil
	if string(b) == "{}" {
		return nil
	}
	d := jsontext.NewDecoder(bytes.NewReader(b), jsontext.AllowDuplicateNames(true), jsontext.AllowInvalidUTF8(true))
	switch t, err := d.ReadToken(); {
	case err != nil:
		return err
	case t.Kind() == jsontext.KindNull:
		return nil
	case t.Kind() != jsontext.KindBeginObject:
		return fmt.Errorf("findings and their times are no %v", t.Kind())
	}
	for d.PeekKind() != jsontext.KindEndObject {
		name, err := d.ReadToken()
		if err != nil {
			return err
		}
		key := keys.text(name.String())
		value, err := d.ReadToken()
		if err != nil {
			return err
		}
		at, err := time.Parse(time.RFC3339Nano, value.String())
		if err != nil {
			return err
		}
		*s = append(*s, sinceItem{key, unix(at)})
	}
	_, err := d.ReadToken()
	return err
}
