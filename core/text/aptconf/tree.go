package aptconf

import (
	"slices"
	"strings"
)

// Tree is what apt's configuration comes to: items by name, without regard to
// case, each with a value and items below it. The zero value is empty.
type Tree struct{ root node }

type node struct {
	name  string
	value string
	below []*node
	index map[string]*node // by name in small letters, where many stand below
	file  string           // where it was set last; empty where it never was
	line  int
}

func (n *node) child(name string, make bool) *node {
	if name != "" {
		if n.index != nil {
			if c := n.index[strings.ToLower(name)]; c != nil {
				return c
			}
		} else {
			for _, c := range n.below {
				if strings.EqualFold(c.name, name) {
					return c
				}
			}
		}
	}
	if !make {
		return nil
	}
	c := &node{name: name}
	n.below = append(n.below, c)
	n.learn(c)
	return c
}

// few is how many items are looked through one by one.
const few = 16

// learn keeps an item in the index, which is made when many stand below.
func (n *node) learn(c *node) {
	switch {
	case n.index == nil && len(n.below) > few:
		n.index = map[string]*node{}
		for _, old := range slices.Backward(n.below) {
			n.index[strings.ToLower(old.name)] = old
		}
	case n.index != nil && n.index[strings.ToLower(c.name)] == nil:
		n.index[strings.ToLower(c.name)] = c
	}
}

// path splits a name at its colons. An empty last part, as in A::B::, stands for
// a new item of the list A::B. Colons right behind colons are part of a name, as apt takes
// them.
func path(name string) (parts []string) {
	start := 0
	for at := 0; len(name)-at >= 2; at++ {
		if name[at:at+2] == "::" {
			parts = append(parts, name[start:at])
			start = at + 2
			at = start
		}
	}
	return append(parts, name[start:])
}

// Set gives an item its value.
func (t *Tree) Set(name, value string) {
	t.SetAt(name, value, "", 0)
}

// SetAt is Set, which remembers where the item was set.
func (t *Tree) SetAt(name, value, file string, line int) {
	n := &t.root
	for _, part := range path(name) {
		n = n.child(part, true)
	}
	n.value, n.file, n.line = value, file, line
}

// ClearAt is Clear, which remembers where.
func (t *Tree) ClearAt(name, file string, line int) {
	if n := t.find(name); n != nil {
		n.value, n.below, n.index, n.file, n.line = "", nil, nil, file, line
	}
}

// Walk calls do with every item that was set by a file, in the order and with the name that
// apt's own dump has: one of a list ends in ::.
func (t *Tree) Walk(do func(name, value, file string, line int)) { t.root.walk("", do) }

func (n *node) walk(name string, do func(name, value, file string, line int)) {
	for _, c := range n.below {
		full := c.name
		if name != "" {
			full = name + "::" + c.name
		}
		if c.file != "" {
			do(full, c.value, c.file, c.line)
		}
		c.walk(full, do)
	}
}

// Raise moves what stands below an item to the top, what stands deepest first, as apt's
// programs do with their own scope Binary::NAME: it overrides what holds for all.
func (t *Tree) Raise(name string) {
	n := t.find(name)
	if n == nil {
		return
	}
	below := n.below
	n.value, n.below, n.index = "", nil, nil
	for _, c := range below {
		t.raise("", c)
	}
}

// RaiseIn is Raise in what apt hands to its methods: items that have a value.
func (t *Tree) RaiseIn(name string) {
	if n := t.find(name); n != nil && n.bare() {
		return
	}
	t.Raise(name)
}

// bare takes what has no value out of what stands below an item, and reports whether the item is without one, too.
func (n *node) bare() bool {
	n.below = slices.DeleteFunc(n.below, (*node).bare)
	n.index = nil
	return n.value == "" && len(n.below) == 0
}

func (t *Tree) raise(above string, n *node) {
	full := above + n.name
	for _, c := range n.below {
		t.raise(full+"::", c)
	}
	t.SetAt(full, n.value, n.file, n.line)
}

// Default gives an item a value if it has none.
func (t *Tree) Default(name, value string) {
	if n := t.find(name); n == nil || n.value == "" {
		t.Set(name, value)
	}
}

func (t *Tree) find(name string) *node {
	n := &t.root
	for _, part := range path(name) {
		if n = n.child(part, false); n == nil {
			return nil
		}
	}
	return n
}

// Clear empties an item and drops what stands below it.
func (t *Tree) Clear(name string) {
	t.ClearAt(name, "", 0)
}

// Get returns the value of an item, or def where it has none.
func (t *Tree) Get(name, def string) string {
	if n := t.find(name); n != nil && n.value != "" {
		return n.value
	}
	return def
}

// List returns the values of a list: those of the items below, or the item's own
// value cut at its commas.
func (t *Tree) List(name string) []string {
	n := t.find(name)
	if n == nil {
		return nil
	}
	if n.value != "" {
		return strings.Split(n.value, ",")
	}
	var out []string
	for _, c := range n.below {
		out = append(out, c.value)
	}
	return out
}

// File returns a path: a relative one continues the value of the items above it, and all stand below RootDir, where that is set.
func (t *Tree) File(name string) string { return t.below(t.file(name)) }

// below is a path below RootDir.
func (t *Tree) below(file string) string {
	root := t.Get("RootDir", "")
	if file == "" || file == "/dev/null" || root == "" {
		return file
	}
	return strings.TrimRight(root, "/") + "/" + strings.TrimLeft(file, "/")
}

func (t *Tree) file(name string) string {
	var chain []*node
	n := &t.root
	for _, part := range path(name) {
		if n = n.child(part, false); n == nil {
			return ""
		}
		chain = append(chain, n)
	}
	value := chain[len(chain)-1].value
	if value == "" {
		return ""
	}
	for i := len(chain) - 2; i >= 0; i-- {
		above := chain[i].value
		if above == "" {
			continue
		}
		if strings.HasPrefix(value, "/") || strings.HasPrefix(value, "./") || strings.HasPrefix(value, "../") ||
			strings.HasPrefix(value, "~/") {
			break
		}
		if strings.HasSuffix(above, "/") {
			value = above + value
		} else {
			value = above + "/" + value
		}
	}
	return value
}
