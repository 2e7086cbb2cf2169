package store

import (
	"encoding/json"
	"time"
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
	if len(keys) == 0 {
		return nil
	}
	before := make(map[string]int64, len(s))
	for _, x := range s {
		before[x.key] = x.at
	}
	out := make(Since, 0, len(keys))
	taken := make(map[string]bool, len(keys))
	for i, k := range keys {
		if taken[k] {
			continue
		}
		taken[k] = true
		at, ok := before[k]
		if !ok && old != nil && len(before) > 0 {
			at, ok = before[old(i)]
		}
		if !ok {
			at = unix(now)
		}
		out = append(out, sinceItem{k, at})
	}
	return out
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
func (s *Since) UnmarshalJSON(b []byte) error {
	var m map[string]time.Time
	if err := json.Unmarshal(b, &m); err != nil {
		return err
	}
	*s = make(Since, 0, len(m))
	for k, at := range m {
		*s = append(*s, sinceItem{k, unix(at)})
	}
	return nil
}
