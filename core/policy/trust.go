package policy

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"time"
)

// DefaultNotice is how long before a key ends it is spoken of.
const DefaultNotice = 30 * 24 * time.Hour

var daysForm = regexp.MustCompile(`^([0-9]{1,5}) days?$`)

func (l *loader) notice(f field) {
	for _, x := range l.mapping(f.node, "notice", keysOf[noticeForm]()...) {
		t, ok := l.text(x, x.key)
		if !ok {
			continue
		}
		m := daysForm.FindStringSubmatch(t.Value)
		if m == nil {
			l.fail("value", t.Pos, fmt.Sprintf("the notice for keys is %q", t.Value), "write it as 60 days")
			continue
		}
		days, _ := strconv.Atoi(m[1]) // five digits
		if l.policy.Notice = time.Duration(days) * 24 * time.Hour; l.noticeAt.File != "" {
			l.fail("name-twice", t.Pos, "the notice for keys is given twice", "keep one of them", l.noticeAt)
		}
		l.noticeAt = t.Pos
	}
}

// keyReferences checks which keys succeed which.
func (l *loader) keyReferences() {
	p := l.policy
	for _, name := range sortedNames(p.Keys) {
		k := p.Keys[name]
		if k.Succeeds == nil {
			continue
		}
		resolveName(l, "key", *k.Succeeds, p.Keys)
		seen := map[string]bool{}
		for x := k; x != nil && x.Succeeds != nil; x = p.Keys[x.Succeeds.Value] {
			if seen[x.Name] {
				l.fail("cycle", k.Succeeds.Pos, fmt.Sprintf("the key %q succeeds itself by way of others", name), "take one succeeds: out")
				return
			}
			seen[x.Name] = true
		}
	}
	for _, name := range sortedNames(p.Withdrawn) {
		if p.Keys[name] != nil || p.fingerprintOf(name) == "" { // any key may be named by its fingerprint
			resolveName(l, "key", Text{name, p.Withdrawn[name].Pos}, p.Keys)
		}
	}
	for _, name := range sortedNames(p.Repositories) {
		r := p.Repositories[name]
		r.Trusts = l.believed(r)
	}
}

// trusted lists keys with those that succeed them.
func (l *loader) trusted(list []Text) []Text {
	out := slices.Clone(list)
	for i := 0; i < len(out); i++ {
		for _, name := range sortedNames(l.policy.Keys) {
			k := l.policy.Keys[name]
			if k.Succeeds != nil && k.Succeeds.Value == out[i].Value &&
				!slices.ContainsFunc(out, func(t Text) bool { return t.Value == name }) &&
				len(out) <= len(l.policy.Keys) {
				l.used["key "+name] = true
				out = append(out, Text{name, k.Pos})
			}
		}
	}
	return out
}
