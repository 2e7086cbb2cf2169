package fleet

import (
	"runtime"
	"sync/atomic"

	"golang.org/x/sync/errgroup"

	"patientlantern.example/lantern/store"
)

// ByBlocks does something with each of a list, on every processor: those that stand side by side
// one after another, and nobody has more to do than others.
func ByBlocks[T any](list []T, do func(T) error) error {
	var group errgroup.Group
	var taken atomic.Int64
	for range runtime.GOMAXPROCS(0) {
		group.Go(func() error {
			for {
				from := int(taken.Add(block)) - block
				if from >= len(list) {
					return nil
				}
				for _, x := range list[from:min(from+block, len(list))] {
					if err := do(x); err != nil {
						return err
					}
				}
			}
		})
	}
	return group.Wait()
}

// bySurvey is an order of hosts in which those with equal surveys follow each other, so that
// a document is read once.
func bySurvey(rows []*store.Host) []int {
	places := make(map[string]int32, len(rows)/16)
	of := make([]int32, len(rows))
	var starts []int
	for i, h := range rows {
		at, ok := places[h.Survey]
		if !ok {
			at = int32(len(starts))
			places[h.Survey] = at
			starts = append(starts, 0)
		}
		of[i] = at
		starts[at]++
	}
	sum := 0
	for i, n := range starts {
		starts[i], sum = sum, sum+n
	}
	order := make([]int, len(rows))
	for i, at := range of {
		order[starts[at]] = i
		starts[at]++
	}
	return order
}

// block is how many hosts stand side by side in memory.
const block = 64
