package onlyone_test

import (
	"os"
	"path/filepath"
	"strconv"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/internal/onlyone"
)

func TestOneAtATime(t *testing.T) {
	file := filepath.Join(t.TempDir(), "lock")
	release, err := onlyone.Lock(file)
	require.NoError(t, err)
	_, err = onlyone.Lock(file)
	var taken *onlyone.TakenError
	require.ErrorAs(t, err, &taken)
	require.Equal(t, strconv.Itoa(os.Getpid()), taken.Process)
	release()
	release, err = onlyone.Lock(file)
	require.NoError(t, err)
	release()
	_, err = onlyone.Lock(filepath.Join(file, "none"))
	require.Error(t, err)
	require.NotErrorAs(t, err, &taken)
}

// Whoever starts while the one before is ending, or while somebody asks who it is, begins all the same.
func TestOneThatEndsIsWaitedFor(t *testing.T) {
	file := filepath.Join(t.TempDir(), "lock")
	release, err := onlyone.Lock(file)
	require.NoError(t, err)
	go func() {
		time.Sleep(100 * time.Millisecond)
		release()
	}()
	again, err := onlyone.Lock(file)
	require.NoError(t, err)
	again()
	done := make(chan struct{})
	go func() {
		defer close(done)
		for range 2000 {
			_, _, _ = onlyone.Holder(file)
		}
	}()
	for asked := true; asked; {
		release, err := onlyone.Lock(file)
		require.NoError(t, err)
		release()
		select {
		case <-done:
			asked = false
		default:
		}
	}
}

// A file that a program has inherited while it is being started keeps no lock that was
// given back.
func TestAProgramThatStartsKeepsNoLock(t *testing.T) {
	file := filepath.Join(t.TempDir(), "lock")
	for range 50 {
		release, err := onlyone.Lock(file)
		require.NoError(t, err)
		copies := copiesOf(t, file)
		release()
		again, err := onlyone.Lock(file)
		require.NoError(t, err)
		again()
		for _, c := range copies {
			require.NoError(t, syscall.Close(c))
		}
	}
}

// copiesOf copies each of this process's descriptors of a file, as starting a program does.
func copiesOf(t *testing.T, file string) (out []int) {
	open, err := os.ReadDir("/proc/self/fd")
	require.NoError(t, err)
	for _, e := range open {
		if to, err := os.Readlink("/proc/self/fd/" + e.Name()); err != nil || to != file {
			continue
		}
		n, err := strconv.Atoi(e.Name())
		require.NoError(t, err)
		c, err := syscall.Dup(n)
		require.NoError(t, err)
		out = append(out, c)
	}
	require.NotEmpty(t, out)
	return out
}

func TestWhoHoldsALockIsTold(t *testing.T) {
	file := filepath.Join(t.TempDir(), "lock")
	_, held, err := onlyone.Holder(file)
	require.NoError(t, err)
	require.False(t, held)
	release, err := onlyone.Lock(file)
	require.NoError(t, err)
	who, held, err := onlyone.Holder(file)
	require.NoError(t, err)
	require.True(t, held)
	require.Equal(t, strconv.Itoa(os.Getpid()), who)
	release()
	_, held, err = onlyone.Holder(file)
	require.NoError(t, err)
	require.False(t, held)
	release, err = onlyone.Lock(file)
	require.NoError(t, err, "to look takes nothing")
	release()
}
