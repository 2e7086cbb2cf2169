// Command bench measures what the product must be fast at, each figure beside a
// yardstick taken in the same run, and writes docs/benchmarks.md:
//
//	make bench
package main

import (
	"fmt"
	"log"
	"os"
	"runtime"
	"slices"
	"strings"
	"time"
)

// row is one measured figure.
type row struct {
	what, goal, figure, yardstick string
	met                           bool
}

type suite struct{ rows []row }

func (s *suite) add(what, goal string, met bool, figure, yardstick string) {
	s.rows = append(s.rows, row{what, goal, figure, yardstick, met})
	sign := "ok"
	if !met {
		sign = "NOT MET"
	}
	fmt.Printf("%-58s %-34s %-44s %s\n", what, figure, yardstick, sign)
}

// fastest runs f several times and returns the shortest time: what the code can
// do when the shared machine lets it.
func fastest(runs int, f func()) time.Duration { return times(runs, f)[0] }

// median runs f several times and returns the middle time.
func median(runs int, f func()) time.Duration { return times(runs, f)[runs/2] }

func times(runs int, f func()) []time.Duration {
	var times []time.Duration
	for range runs {
		start := time.Now()
		f()
		times = append(times, time.Since(start))
	}
	slices.Sort(times)
	return times
}

func main() {
	log.SetFlags(0)
	if len(os.Args) > 2 && os.Args[1] == "launch" {
		if err := launch(os.Args[2], os.Args[3:]); err != nil {
			log.Fatal("bench: ", err)
		}
		return
	}
	s := &suite{}
	for _, part := range []struct {
		name string
		run  func(*suite) error
	}{{"processes", processes}, {"texts", texts},
		{"upstreams", upstreams}, {"fleet", fleet}, {"check-ins", checkIns}, {"scale", scale}, {"calls", calls}, {"waves", waves},
		{"swaps", swaps},
		{"pages", pages},
		{"year", year}} {
		asked := slices.Contains(os.Args[1:], part.name)
		if !asked && (len(os.Args) > 1 || part.name == "year") { // that one takes some minutes
			continue
		}
		if err := part.run(s); err != nil {
			log.Fatal("bench: ", err)
		}
	}
	if len(os.Args) > 1 { // a part is for whoever works on it
		return
	}
	if err := os.WriteFile("docs/benchmarks.md", []byte(s.markdown()), 0o644); err != nil {
		log.Fatal("bench: ", err)
	}
}

func (s *suite) markdown() string {
	var b strings.Builder
	fmt.Fprintf(
		&b,
		"# Benchmarks\n\nWritten by `make bench` on %s, with %s on %d cores. A figure counts beside its yardstick,\nwhich was taken in "+
			"the same run on the same machine; the machine is shared and its speed varies.\n\n",
		time.Now().Format("2006-01-02"),
		runtime.Version(),
		runtime.NumCPU(),
	)
	b.WriteString("| what | goal | measured | yardstick | met |\n| --- | --- | --- | --- | --- |\n")
	for _, r := range s.rows {
		met := "yes"
		if !r.met {
			met = "**no**"
		}
		fmt.Fprintf(&b, "| %s | %s | %s | %s | %s |\n", r.what, r.goal, r.figure, r.yardstick, met)
	}
	return b.String()
}
