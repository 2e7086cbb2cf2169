package browser

import (
	"context"
	"sync"
	"time"

	"github.com/chromedp/chromedp"
)

// shared is the Chromium whose pages a process's tests have: to start one takes longer than many
// of them.
var shared struct {
	sync.Mutex
	first context.Context // nil where none was started
	stop  func()
}

// Page opens a page with cookies and stores of its own, as in a browser that was just installed.
// It lives that long at most; stop ends it. Whoever asks for pages calls [Quit] at the end.
func Page(most time.Duration) (page context.Context, stop func(), err error) {
	shared.Lock()
	defer shared.Unlock()
	if shared.first == nil || shared.first.Err() != nil {
		if err := start(); err != nil {
			return nil, nil, err
		}
	}
	ctx, cancel := context.WithTimeout(shared.first, most)
	page, end := chromedp.NewContext(ctx, chromedp.WithNewBrowserContext())
	return page, func() {
		end()
		cancel()
	}, nil
}

// start starts the Chromium; its own page stays empty.
func start() error {
	if shared.stop != nil {
		shared.stop()
	}
	first, stop, err := New(context.Background(), 1280, 800)
	if err != nil {
		return err
	}
	if err := chromedp.Do(first, chromedp.Navigate("about:blank")); err != nil {
		stop()
		return err
	}
	shared.first, shared.stop = first, stop
	return nil
}

// Quit ends the Chromium that pages share.
func Quit() {
	shared.Lock()
	defer shared.Unlock()
	if shared.stop != nil {
		shared.stop()
	}
	shared.first, shared.stop = nil, nil
}
