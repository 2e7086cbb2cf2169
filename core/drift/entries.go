package drift

import (
	"fmt"
	"slices"
)

// entries compares lists of what stands in files.
type entries[T any] struct {
	says  func(T) string
	near  func(a, b T) bool // the one may be the other, changed
	tells func(*Finding, T)
	eases func(was, is T) bool // a check that was taken away is made again, and nothing else is otherwise; nil where none is
	what  string
}

// once leaves out what is said a second time, which says nothing more.
func (e entries[T]) once(list []T) []T {
	said := map[string]bool{}
	return slices.DeleteFunc(list, func(x T) bool {
		was := said[e.says(x)]
		said[e.says(x)] = true
		return was
	})
}

func (e entries[T]) compare(c *standing, was, is []T) {
	gone, come := e.without(was, is), e.without(is, was)
	if len(gone) == 0 && len(come) == 0 {
		e.order(c, was, is)
		return
	}
	for _, x := range come {
		f := Finding{Severity: Fault, Have: e.says(x), Message: e.what + " that was not there when the policy came: " + e.says(x)}
		e.tells(&f, x)
		// Of very many nobody needs to know which became which.
		if i := slices.IndexFunc(gone[:min(len(gone), mostFindings)], func(old T) bool { return e.near(old, x) }); i >= 0 {
			f.Want = e.says(gone[i])
			f.Message = fmt.Sprintf("%s: %s; it was %s when the policy came", e.what, f.Have, f.Want)
			if e.eases != nil && e.eases(gone[i], x) {
				f.Severity = Note
			}
			gone = slices.Delete(gone, i, i+1)
		}
		c.add(f)
	}
	for _, x := range gone {
		f := Finding{
			Severity: Fault,
			Want:     e.says(x),
			Message:  fmt.Sprintf("%s is gone that was there when the policy came: %s", e.what, e.says(x)),
		}
		e.tells(&f, x)
		f.Line = 0
		c.add(f)
	}
}

// order finds equal lists of which the order is another.
func (e entries[T]) order(c *standing, was, is []T) {
	for i := range is {
		if i < len(was) && e.says(is[i]) != e.says(was[i]) {
			f := Finding{Severity: Note, Want: e.says(was[i]), Have: e.says(is[i]),
				Message: fmt.Sprintf("%s stands in another place: %s comes before %s", e.what, e.says(is[i]), e.says(was[i]))}
			e.tells(&f, is[i])
			if f.Class == PinChanged { // the first that matches counts
				f.Severity = Fault
				c.add(f)
			}
			return
		}
	}
}

// without lists what of a is not in b, as often as it is not: of what is said twice, what stands where none of b does.
func (e entries[T]) without(a, b []T) (out []T) {
	at := func(x T) string {
		var f Finding
		e.tells(&f, x)
		return f.File + " " + e.says(x)
	}
	said, there := map[string]int{}, map[string]int{}
	for _, x := range b {
		said[e.says(x)]++
		there[at(x)]++
	}
	stays := make([]bool, len(a))
	for i, x := range a {
		if there[at(x)]--; there[at(x)] >= 0 {
			said[e.says(x)]--
			stays[i] = true
		}
	}
	for i, x := range a {
		if stays[i] {
			continue
		}
		if said[e.says(x)]--; said[e.says(x)] < 0 {
			out = append(out, x)
		}
	}
	return out
}
