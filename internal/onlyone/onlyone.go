// Package onlyone makes sure that one process at a time works on something, by a lock on a
// file. The kernel takes the lock away when the process ends, however it ends.
package onlyone

import (
	"errors"
	"fmt"
	"os"
	"strings"
	"syscall"
	"time"
)

// patience is how long a lock is waited for: a process that was ended may not be gone yet when the next one starts, and whoever
// only asks who holds a lock has it for a moment.
const patience = 2 * time.Second

// TakenError says that another process holds the lock.
type TakenError struct{ Process string } // its id, or empty where it is not told

func (e *TakenError) Error() string { return "it is held by process " + e.Process }

// Lock takes the lock of a file, which is made where it is not there. One that another process
// keeps, after two seconds still, is a *TakenError. The lock lasts until release.
func Lock(file string) (release func(), err error) {
	f, err := os.OpenFile(file, os.O_CREATE|os.O_RDWR|syscall.O_CLOEXEC, 0o600)
	if err != nil {
		return nil, err
	}
	if err := wait(f); err != nil {
		defer f.Close()
		if !errors.Is(err, syscall.EWOULDBLOCK) {
			return nil, err
		}
		who := make([]byte, 32)
		n, _ := f.Read(who) // it says who only to help
		return nil, &TakenError{strings.TrimSpace(string(who[:n]))}
	}
	if err := f.Truncate(0); err == nil {
		_, _ = fmt.Fprintf(f, "%d\n", os.Getpid()) // the lock counts, not what stands in it
	}
	return func() {
		// A program that is being started has a copy of the file until it runs, and a copy
		// keeps the lock: it is given back by name, not by closing our own.
		_ = syscall.Flock(int(f.Fd()), syscall.LOCK_UN) // closing gives it back as well
		f.Close()
	}, nil
}

// wait takes the lock of an open file, and fails with EWOULDBLOCK where another process keeps it.
func wait(f *os.File) error {
	for began := time.Now(); ; time.Sleep(20 * time.Millisecond) {
		err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB)
		if !errors.Is(err, syscall.EWOULDBLOCK) || time.Since(began) > patience {
			return err
		}
	}
}

// Holder tells which process holds the lock of a file; it may not say. A file that is not there is held by nobody.
func Holder(file string) (process string, held bool, err error) {
	f, err := os.OpenFile(file, os.O_RDONLY|syscall.O_CLOEXEC, 0)
	if errors.Is(err, os.ErrNotExist) {
		return "", false, nil
	}
	if err != nil {
		return "", false, err
	}
	defer f.Close()
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_SH|syscall.LOCK_NB); !errors.Is(err, syscall.EWOULDBLOCK) {
		return "", false, err // given back where it is closed
	}
	who := make([]byte, 32)
	n, _ := f.Read(who)
	return strings.TrimSpace(string(who[:n])), true, nil
}
