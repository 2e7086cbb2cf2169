package console_test

import (
	"context"
	"net/http"
	"strconv"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/internal/rig"
)

// TestAStormOfEventsStarvesNoPage: 50 changes a second, 250 ms away.
func TestAStormOfEventsStarvesNoPage(t *testing.T) {
	r := rig.New(t)
	r.Up("gw-01")
	r.Up("gw-02")
	operator := *r.Operator
	through(t, r, func(*http.Request) { time.Sleep(250 * time.Millisecond) })
	s := open(t, r, 1280, 800)
	ctx, cancel := context.WithCancel(context.Background())
	var storm sync.WaitGroup
	storm.Add(1)
	changes := 0
	go func() {
		defer storm.Done()
		tick := time.NewTicker(20 * time.Millisecond)
		defer tick.Stop()
		for ; ctx.Err() == nil; <-tick.C {
			_, err := operator.Label(ctx, "gw-02", map[string]string{"turn": strconv.Itoa(changes)})
			if err == nil {
				changes++
			}
		}
	}()
	defer storm.Wait()
	defer cancel()

	s.do(chromedp.Click(`nav a[href="/hosts"]`))
	s.shows("tbody", "gw-02")
	s.do(chromedp.Navigate(s.url + "/hosts/gw-01"))
	s.shows("h1", "gw-01")
	began := time.Now()
	_, err := operator.Label(ctx, "gw-01", map[string]string{"site": "north"})
	require.NoError(t, err)
	s.shows("main", "site=north")
	assert.Less(t, time.Since(began), 5*time.Second, "a change is seen while the fleet is busy")
	cancel()
	storm.Wait()
	assert.Greater(t, changes, 50, "there was a storm")
}
