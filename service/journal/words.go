package journal

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
)

// Words says what an entry tells beside its reason, for people: as in "ended", or "hosts 24, revision 1".
func Words(detail json.RawMessage) string {
	var fields map[string]any
	d := json.NewDecoder(strings.NewReader(string(detail)))
	d.UseNumber()
	if len(detail) == 0 || d.Decode(&fields) != nil {
		return ""
	}
	var out []string
	for _, name := range slices.Sorted(maps.Keys(fields)) {
		if said := field(strings.ReplaceAll(name, "_", " "), fields[name]); said != "" {
			out = append(out, said)
		}
	}
	return strings.Join(out, ", ")
}

// field says what one of them tells; empty where it tells nothing.
func field(name string, value any) string {
	switch v := value.(type) {
	case nil:
		return ""
	case bool:
		if v {
			return name
		}
		return ""
	case string:
		if v == "" {
			return ""
		}
		return name + " " + v
	case []any:
		words := make([]string, 0, len(v))
		for _, x := range v {
			if s, ok := x.(string); ok {
				words = append(words, s)
			}
		}
		if len(words) < len(v) { // things of their own
			return fmt.Sprintf("%s %d", name, len(v))
		}
		return name + " " + strings.Join(words, " ")
	case map[string]any:
		return fmt.Sprintf("%s %d", name, len(v))
	}
	return fmt.Sprintf("%s %v", name, value)
}
