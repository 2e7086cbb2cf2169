package unpack

import (
	"fmt"
	"io"
)

const (
	aheadChunk = 256 << 10
	aheadMost  = 4 // chunks
)

// chunk is what was read ahead.
type chunk struct {
	b   []byte
	err error
}

// ahead is read by a goroutine of its own, so that unpacking and reading go side by side.
type ahead struct {
	full chan chunk
	free chan []byte
	stop chan struct{}
	done chan struct{}
	now  chunk
	rest []byte
}

// Ahead reads r a little ahead of who reads what it returns. Stop ends that and waits for it:
// r is read by nobody afterwards.
func Ahead(r io.Reader) (out io.Reader, stop func()) {
	a := &ahead{
		full: make(chan chunk, aheadMost), free: make(chan []byte, aheadMost+1), stop: make(chan struct{}), done: make(chan struct{}),
	}
	for range aheadMost {
		a.free <- make([]byte, aheadChunk)
	}
	go a.fill(r)
	return a, func() {
		close(a.stop)
		<-a.done
	}
}

func (a *ahead) fill(r io.Reader) {
	defer close(a.done)
	for {
		select {
		case b := <-a.free:
			n, err := fillUp(r, b[:aheadChunk])
			select {
			case a.full <- chunk{b[:n], err}:
			case <-a.stop:
				return
			}
			if err != nil {
				return
			}
		case <-a.stop:
			return
		}
	}
}

// fillUp reads until b is full. An unpacker that breaks down over what it is fed fails alone: in
// a goroutine of its own it would take the whole process with it.
func fillUp(r io.Reader, b []byte) (n int, err error) {
	defer func() {
		if broke := recover(); broke != nil {
			err = fmt.Errorf("unpacking it broke down: %v", broke)
		}
	}()
	for n < len(b) && err == nil {
		var more int
		more, err = r.Read(b[n:])
		n += more
	}
	return n, err
}

// Read implements io.Reader.
func (a *ahead) Read(p []byte) (int, error) {
	for len(a.rest) == 0 {
		if a.now.err != nil {
			return 0, a.now.err
		}
		if a.now.b != nil {
			a.free <- a.now.b
		}
		a.now = <-a.full
		a.rest = a.now.b
	}
	n := copy(p, a.rest)
	a.rest = a.rest[n:]
	return n, nil
}
