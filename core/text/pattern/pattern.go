// Package pattern holds regular expressions that are compiled when they are first needed:
// a survey of a host is a process of a few milliseconds, and most of what a program can
// recognise is not met in it.
package pattern

import (
	"regexp"
	"sync"
)

// Lazy is an expression that is compiled at the first call, for all goroutines once. An
// expression that is not one panics then, as with regexp.MustCompile.
func Lazy(expr string) func() *regexp.Regexp {
	return sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(expr) })
}
