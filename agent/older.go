package agent

import (
	"encoding/json"
	"net/http"
	"slices"
	"strings"
	"time"
)

// A service that is older than its agent refuses what it does not know, with the names of it: those are left out then. What it
// cannot be told it would not understand either, and a host of which nothing is heard is worse.

// leftOutFor is how long the service is not asked again whether it knows by now what it did not.
const leftOutFor = time.Hour

// mostUnknown is how often one call is made anew with less, and mostNames how much may be left out of it.
const (
	mostUnknown = 3
	mostNames   = 64
)

// unexpected is what a service says of a property that it does not know.
const unexpected = "unexpected property"

// leftOut are the properties that the service does not know of what is sent to one path: their own paths, as "sources.came".
type leftOut struct {
	since time.Time
	names []string
}

// fit is a body without what the service is known not to know.
func (l *link) fit(path string, body []byte) []byte {
	l.mu.Lock()
	defer l.mu.Unlock()
	out, there := l.older[path]
	if !there {
		return body
	}
	if l.now().Sub(out.since) > leftOutFor {
		delete(l.older, path)
		return body
	}
	return without(body, out.names)
}

// learn takes note of what the service says that it does not know, and reports whether a call is worth another try.
func (l *link) learn(path string, status int, answer []byte) bool {
	var p struct {
		Errors []struct {
			Message  string `json:"message"`
			Location string `json:"location"`
		} `json:"errors"`
	}
	if status != http.StatusUnprocessableEntity || json.Unmarshal(answer, &p) != nil {
		return false
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	out, fresh := l.older[path], false
	for _, e := range p.Errors {
		name, inside := strings.CutPrefix(unnumbered(e.Location), "body.")
		if e.Message != unexpected || !inside {
			return false
		}
		if !slices.Contains(out.names, name) {
			out.names, fresh = append(out.names, name), true
		}
	}
	if !fresh || len(out.names) > mostNames {
		return false
	}
	out.since = l.now()
	if l.older == nil {
		l.older = map[string]leftOut{}
	}
	l.older[path] = out
	if l.log != nil {
		l.log.Warn("the service is older than this agent: what it does not know is left out", "path", path, "unknown", out.names)
	}
	return true
}

// unnumbered is the path of a property without the places in lists: "edits[3].new" is "edits.new".
func unnumbered(location string) string {
	for {
		before, rest, has := strings.Cut(location, "[")
		_, after, closed := strings.Cut(rest, "]")
		if !has || !closed {
			return location
		}
		location = before + after
	}
}

// without takes properties out of a JSON text; their names are paths from it.
func without(text []byte, names []string) []byte { return prune(text, "", names) }

func prune(text json.RawMessage, at string, names []string) json.RawMessage {
	if !slices.ContainsFunc(names, func(n string) bool { return strings.HasPrefix(n, at) }) {
		return text
	}
	var object map[string]json.RawMessage
	var list []json.RawMessage
	var out []byte
	var err error
	switch {
	case len(text) > 0 && text[0] == '{' && json.Unmarshal(text, &object) == nil:
		for key, value := range object {
			if slices.Contains(names, at+key) {
				delete(object, key)
			} else {
				object[key] = prune(value, at+key+".", names)
			}
		}
		out, err = json.Marshal(object)
	case len(text) > 0 && text[0] == '[' && json.Unmarshal(text, &list) == nil:
		for i, value := range list {
			list[i] = prune(value, at, names)
		}
		out, err = json.Marshal(list)
	default:
		return text
	}
	if err != nil {
		return text
	}
	return out
}
