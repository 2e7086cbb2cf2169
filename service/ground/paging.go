package ground

import "slices"

// Paging bounds a page.
type Paging struct {
	Page    int `query:"page" minimum:"1" default:"1" doc:"Page, from 1"`
	PerPage int `query:"per_page" minimum:"1" maximum:"1000" default:"50" doc:"Rows on a page"`
}

// Next is the page that follows; 0 where this is the last.
func (p Paging) Next(total int) int {
	if p.Page*p.PerPage >= total {
		return 0
	}
	return p.Page + 1
}

// Cut says which of so many rows stand on the page.
func (p Paging) Cut(total int) (from, to int) {
	from = min((p.Page-1)*p.PerPage, total)
	return from, min(from+p.PerPage, total)
}

// FirstOf returns the first most of rows in an order, or all where there are fewer. Of a
// long list few rows are shown, so the rest is not put in order.
func FirstOf[T any](rows []T, most int, order func(a, b T) int) []T {
	if most <= 0 {
		return nil
	}
	if most*8 > len(rows) {
		slices.SortFunc(rows, order)
		return rows[:min(most, len(rows))]
	}
	// A heap of those that are first so far, the last of them on top.
	heap := slices.Clone(rows[:most])
	for i := most/2 - 1; i >= 0; i-- {
		sink(heap, i, order)
	}
	for _, r := range rows[most:] {
		if order(r, heap[0]) < 0 {
			heap[0] = r
			sink(heap, 0, order)
		}
	}
	slices.SortFunc(heap, order)
	return heap
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
