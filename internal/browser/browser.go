// Package browser starts Debian's Chromium for tests and pictures.
package browser

import (
	"context"
	"os"

	"github.com/chromedp/chromedp"
)

// New starts a headless Chromium with a user folder of its own; stop ends it.
func New(ctx context.Context, width, height int) (page context.Context, stop func(), err error) {
	dir, err := os.MkdirTemp("", "lantern-chromium-")
	if err != nil {
		return nil, nil, err
	}
	opts := []chromedp.ExecAllocatorOption{
		chromedp.ExecPath("/usr/bin/chromium"), chromedp.UserDataDir(dir), chromedp.WindowSize(width, height),
		chromedp.NoFirstRun, chromedp.NoDefaultBrowserCheck, chromedp.Headless, chromedp.NoSandbox, chromedp.DisableGPU,
		chromedp.Flag("disable-quic", true), chromedp.Flag("disable-background-networking", true),
		chromedp.Flag("disable-component-update", true), chromedp.Flag("disable-sync", true),
		chromedp.Flag("hide-scrollbars", true),
		// A page of a test lives for seconds: to compile it better takes longer than it saves.
		chromedp.Flag("js-flags", "--no-opt,--no-maglev"),
	}
	alloc, endAlloc := chromedp.NewExecAllocator(ctx, opts...)
	page, endPage := chromedp.NewContext(alloc)
	return page, func() {
		endPage()
		endAlloc()
		_ = os.RemoveAll(dir) // the system clears its temporary folder anyway
	}, nil
}
