package memo

import (
	"errors"
	"fmt"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Whoever asks for what is being worked out waits for it, a failure is not remembered, and the
// least used go first.
func TestTheCacheWorksOnceForAllWhoAsk(t *testing.T) {
	c := New[string, int](8)
	var loads atomic.Int64
	hold := make(chan struct{})
	var all sync.WaitGroup
	for range 64 {
		all.Go(func() {
			v, err := c.Get("a", func() (int, error) {
				loads.Add(1)
				<-hold
				return 7, nil
			})
			assert.NoError(t, err)
			assert.Equal(t, 7, v)
		})
	}
	close(hold)
	all.Wait()
	assert.EqualValues(t, 1, loads.Load())

	away := errors.New("away")
	_, err := c.Get("b", func() (int, error) { return 0, away })
	require.ErrorIs(t, err, away)
	v, err := c.Get("b", func() (int, error) { return 2, nil })
	require.NoError(t, err, "a failure is not remembered")
	assert.Equal(t, 2, v)
	for n := range 100 {
		_, err := c.Get(fmt.Sprint(n), func() (int, error) { return n, nil })
		require.NoError(t, err)
	}
	assert.Equal(t, 8, c.Len(), "it is bounded")
}
