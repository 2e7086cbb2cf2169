package ground

import (
	"cmp"
	"math"
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
// the others are neither kept nor put in order.
type Firsts[T any] struct {
	Total int // rows that were added

	most  int
	order func(a, b T) int
	rows  []came[T] // once there are so many a heap, the last of them on top
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

func (f *Firsts[T]) compare(a, b came[T]) int {
	return cmp.Or(f.order(a.row, b.row), cmp.Compare(a.at, b.at))
}

// Add adds a row.
func (f *Firsts[T]) Add(row T) {
	f.Total++
	x := came[T]{row, f.Total}
	switch {
	case len(f.rows) < f.most:
		if f.rows = append(f.rows, x); len(f.rows) == f.most {
			for i := f.most/2 - 1; i >= 0; i-- {
				sink(f.rows, i, f.compare)
			}
		}
	case f.most > 0 && f.compare(x, f.rows[0]) < 0:
		f.rows[0] = x
		sink(f.rows, 0, f.compare)
	}
}

// Join adds the rows of a part that follows.
func (f *Firsts[T]) Join(more *Firsts[T]) {
	before := f.Total
	for _, row := range more.InOrder() {
		f.Add(row)
	}
	f.Total = before + more.Total
}

// InOrder returns the rows in their order. None is added afterwards.
func (f *Firsts[T]) InOrder() []T {
	slices.SortFunc(f.rows, f.compare)
	out := make([]T, len(f.rows))
	for i := range f.rows {
		out[i] = f.rows[i].row
	}
	return out
}

// sink lets the element at i down to where none below it comes later.
func sink[T any](heap []T, i int, order func(a, b T) int) {
	for {
		child := 2*i + 1
		if child >= len(heap) {
			return
		}
		if child+1 < len(heap) && order(heap[child], heap[child+1]) < 0 {
			child++
		}
		if order(heap[i], heap[child]) >= 0 {
			return
		}
		heap[i], heap[child] = heap[child], heap[i]
		i = child
	}
}
