package fleet

import (
	"runtime"
	"sync"
)

// LeastPart is how many hosts are worth a processor of their own.
const LeastPart = 4_096

// Across goes over hosts with every processor, a part each, and returns what the parts came
// to, in the order of the hosts.
func Across[T any](hosts []*Host, do func(part []*Host) T) []T {
	n := max(1, min(runtime.GOMAXPROCS(0), len(hosts)/LeastPart))
	out := make([]T, n)
	var group sync.WaitGroup
	for i := range n {
		group.Go(func() { out[i] = do(hosts[len(hosts)*i/n : len(hosts)*(i+1)/n]) })
	}
	group.Wait()
	return out
}
