package ground

import (
	"cmp"
	"math"
	"math/rand/v2"
	"slices"
)

// Paging bounds a page.
type Paging struct {
	Page    int `query:"page" minimum:"1" default:"1" doc:"Page, from 1"`
	PerPage int `query:"per_page" minimum:"1" maximum:"1000" default:"50" doc:"Rows on a page"`
}

// Reach is how many rows there are up to the end of the page, where there are enough.
func (p Paging) Reach() int {
	if p.Page > math.MaxInt/max(p.PerPage, 1) {
		return math.MaxInt
	}
	return p.Page * p.PerPage
}

// Before is how many rows come before the page, where there are enough.
func (p Paging) Before() int { return Paging{p.Page - 1, p.PerPage}.Reach() }

// Next is the page that follows; 0 where this is the last.
func (p Paging) Next(total int) int {
	if p.Reach() >= total {
		return 0
	}
	return p.Page + 1
}

// Cut says which of so many rows stand on the page.
func (p Paging) Cut(total int) (from, to int) {
	to = min(p.Reach(), total)
	return min(p.Before(), to), to
}

// Firsts are the first of many rows in an order; equal ones stay in that in which they came. Of a long list few rows are shown, so
// only those are put in order.
type Firsts[T any] struct {
	Total int // rows that were added

	most  int
	order func(a, b T) int
	rows  []came[T] // in no order; once there were twice as many as are kept, none that comes behind last
	last  *came[T]  // the last of the first when rows were dropped; nil before
}

// came is a row with how many came before it.
type came[T any] struct {
	row T
	at  int
}

// NewFirsts keeps so many rows at most.
func NewFirsts[T any](most int, order func(a, b T) int) *Firsts[T] {
	return &Firsts[T]{most: most, order: order}
}

func (f *Firsts[T]) compare(a, b *came[T]) int {
	return cmp.Or(f.order(a.row, b.row), cmp.Compare(a.at, b.at))
}

// Add adds a row.
func (f *Firsts[T]) Add(row T) {
	f.Total++
	f.add(came[T]{row, f.Total})
}

// leastDropped is how many rows are gathered beyond those that are kept before any is dropped.
const leastDropped = 64

func (f *Firsts[T]) add(x came[T]) {
	if f.most <= 0 || f.last != nil && f.compare(&x, f.last) > 0 {
		return
	}
	if len(f.rows) == cap(f.rows) {
		f.rows = slices.Grow(f.rows, max(len(f.rows), leastDropped)) // by a quarter only, it would be copied four times
	}
	if f.rows = append(f.rows, x); len(f.rows)-f.most >= max(f.most, leastDropped) {
		f.drop()
		f.last = new(slices.MaxFunc(f.rows, func(a, b came[T]) int { return f.compare(&a, &b) }))
	}
}

// drop leaves the first rows, so many as are kept.
func (f *Firsts[T]) drop() {
	if len(f.rows) > f.most {
		f.part(f.rows, f.most)
		f.rows = f.rows[:f.most]
	}
}

// Join adds the rows of a part that follows.
func (f *Firsts[T]) Join(more *Firsts[T]) {
	if f.Total == 0 && f.most == more.most {
		*f = *more
		return
	}
	for _, x := range more.rows {
		x.at += f.Total
		f.add(x)
	}
	f.Total += more.Total
}

// InOrder returns the rows in their order. None is added afterwards.
func (f *Firsts[T]) InOrder() []T { return f.Between(0, min(f.most, f.Total)) }

// Between returns rows of those that are kept in their order: from one, and before another, that there are. None is added
// afterwards.
func (f *Firsts[T]) Between(from, to int) []T {
	f.drop()
	f.part(f.rows, to)
	f.part(f.rows[:to], from)
	shown := f.rows[from:to]
	slices.SortFunc(shown, func(a, b came[T]) int { return f.compare(&a, &b) })
	out := make([]T, len(shown))
	for i := range shown {
		out[i] = shown[i].row
	}
	return out
}

// part moves the first rows, so many, before the others. It parts them at one drawn by lot, again and again: whatever order they
// came in, that takes a few looks at each.
func (f *Firsts[T]) part(rows []came[T], first int) {
	for first > 0 && first < len(rows) {
		last := len(rows) - 1
		swap := func(i, j int) { rows[i], rows[j] = rows[j], rows[i] }
		swap(rand.IntN(len(rows)), last)
		before := 0
		for i := range last {
			if f.compare(&rows[i], &rows[last]) < 0 {
				swap(i, before)
				before++
			}
		}
		swap(before, last)
		switch {
		case first <= before:
			rows = rows[:before]
		default:
			rows, first = rows[before+1:], first-before-1
		}
	}
}
