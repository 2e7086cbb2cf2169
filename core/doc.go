// Package core is the root of all computation; its packages hold it. The test
// here keeps them free of the outer ring.
package core
