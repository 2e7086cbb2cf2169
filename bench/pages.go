package main

import (
	"context"
	"fmt"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/cdproto/page"
	"github.com/chromedp/cdproto/performance"
	"github.com/chromedp/chromedp"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/internal/browser"
)

// counted notes in the page how many questions are under way, and when that last changed.
const counted = `(() => {
  const real = window.fetch
  window.underWay = 0
  window.lastAsked = performance.now()
  window.fetch = async (...args) => {
    window.underWay++
    const begun = window.lastAsked = performance.now()
    try { return await real(...args) } finally {
      window.underWay--
      window.lastAsked = performance.now()
      const took = window.lastAsked - begun
      const url = new URL(args[0].url ?? args[0], location.href).pathname
      if (took > (window.slowest?.took ?? 0)) window.slowest = { took, url }
    }
  }
})()`

// settled resolves with the milliseconds from a step until nothing was asked or drawn any more; a page without
// a heading is not there, and took all of the time that it was given.
const settled = `(step => new Promise(done => {
  const begun = performance.now()
  window.slowest = undefined
  let drawn = begun
  const see = new MutationObserver(() => { drawn = performance.now() })
  see.observe(document.body, { childList: true, subtree: true, characterData: true })
  step()
  const look = () => {
    const quiet = performance.now() - Math.max(drawn, window.lastAsked)
    const there = window.underWay === 0 && quiet > 400 && document.querySelector('main h1')
    const took = Math.max(drawn, window.lastAsked) - begun
    if (there || performance.now() - begun > 20000) {
      see.disconnect()
      done({
        took: there ? took : 20000,
        nodes: document.querySelectorAll('*').length,
        slowest: window.slowest ? window.slowest.url + ' ' + Math.round(window.slowest.took) + ' ms' : '',
        heading: document.querySelector('main h1')?.innerText ?? '',
      })
    } else setTimeout(look, 50)
  }
  setTimeout(look, 50)
}))(%s)`

// seen is what a page came to.
type seen struct {
	Took    float64 `json:"took"` // milliseconds
	Nodes   int     `json:"nodes"`
	Slowest string  `json:"slowest"` // question
	Heading string  `json:"heading"`
}

// pages measures the console's pages in Chromium, with 100,000 hosts under a revision.
func pages(s *suite) error {
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Minute)
	defer cancel()
	p, done, err := largePopulation(ctx)
	if err != nil {
		return err
	}
	defer done()
	srv, err := startServer(p.dir, p.token)
	if err != nil {
		return err
	}
	defer func() { _ = srv.stop() }()
	if err := everybody(s, srv, p); err != nil {
		return err
	}
	tab, stop, err := browser.New(ctx, 1280, 800)
	if err != nil {
		return err
	}
	defer stop()
	if err := chromedp.Do(tab, chromedp.EmulateViewport(1280, 800)); err != nil {
		return err
	}
	ahead := page.AddScriptToEvaluateOnNewDocumentParams{Source: counted}
	if _, err := chromedp.Call(tab, page.AddScriptToEvaluateOnNewDocument, ahead); err != nil {
		return err
	}
	err = chromedp.Do(
		tab,
		chromedp.Navigate(srv.url+"/keys"), chromedp.WaitVisible("#token"), chromedp.SendKeys("#token", srv.token+"\n"),
		chromedp.WaitVisible("main h1"),
	)
	if err != nil {
		return err
	}
	if err := visit(s, tab, everyPage(p.hosts[4711].Name)); err != nil {
		return err
	}
	order := api.RolloutOrder{Because: "a rollout of everybody, in waves"}
	if _, _, err := srv.call("POST", "/api/rollouts", order); err != nil {
		return err
	}
	if err := visit(s, tab, []visited{{"a rollout of 100,000 hosts", "/rollouts/1", 1000}, {"overview beside it", "/", 1000}}); err != nil {
		return err
	}
	if err := afresh(s, tab, srv.url); err != nil {
		return err
	}
	return idle(s, tab)
}

// afresh opens the console as a browser does that has not been there before.
func afresh(s *suite, tab context.Context, url string) error {
	if _, err := chromedp.Call(tab, network.ClearBrowserCache, cdp.Empty{}); err != nil {
		return err
	}
	if err := chromedp.Do(tab, chromedp.Navigate(url+"/")); err != nil {
		return err
	}
	got, err := wait[seen](tab, fmt.Sprintf(settled, "() => {}"))
	if err != nil {
		return err
	}
	type loaded struct {
		Bytes int     `json:"bytes"`
		Drawn float64 `json:"drawn"`
	}
	l, err := wait[loaded](tab, `Promise.resolve({
  bytes: ['navigation', 'resource'].flatMap(t => performance.getEntriesByType(t)).reduce((n, e) => n + e.transferSize, 0),
  drawn: performance.getEntriesByName('first-contentful-paint')[0]?.startTime ?? 0,
})`)
	if err != nil {
		return err
	}
	s.add("first page, nothing kept", "1s, 250 kB", l.Drawn < 1000 && l.Bytes < 250_000,
		fmt.Sprintf("drawn after %.0fms, %d kB over the wire, %d nodes", l.Drawn, l.Bytes/1000, got.Nodes), got.Heading)
	return nil
}

// idle looks how busy a page is that nobody touches and on which nothing happens.
func idle(s *suite, tab context.Context) error {
	if _, err := chromedp.Call(tab, performance.Enable, performance.EnableParams{}); err != nil {
		return err
	}
	busy := func() (float64, error) {
		got, err := chromedp.Call(tab, performance.GetMetrics, cdp.Empty{})
		if err != nil {
			return 0, err
		}
		for _, m := range got.Metrics {
			if m.Name == "TaskDuration" {
				return m.Value, nil
			}
		}
		return 0, fmt.Errorf("the browser tells no TaskDuration")
	}
	const looked = 20 * time.Second
	before, err := busy()
	if err != nil {
		return err
	}
	time.Sleep(looked)
	after, err := busy()
	if err != nil {
		return err
	}
	share := (after - before) / looked.Seconds()
	s.add("page that is left alone", "1 % of a core", share < 0.01, fmt.Sprintf("%.2f %% of a core", 100*share), "overview, 20 s")
	return nil
}

// visited is a page, or a choice on it, and the milliseconds that it may take.
type visited struct {
	what, to string
	goal     float64
}

func everyPage(host string) []visited {
	return []visited{
		{"overview", "/", 1000},
		{"hosts", "/hosts", 1000},
		{"hosts that drifted", "/hosts?state=drifted", 300},
		{"hosts by a word", "/hosts?q=4711", 300},
		{"hosts by a condition", "/hosts?where=os.major%20%3E%3D%2012", 300},
		{"a host", "/hosts/" + host, 1000},
		{"drift", "/drift", 1000},
		{"drift by class", "/drift?class=missing-source", 300},
		{"policy", "/policy", 1000},
		{"changes", "/changes", 1000},
		{"rollouts", "/rollouts", 1000},
		{"repositories", "/repositories", 1000},
		{"keys", "/keys", 1000},
		{"contracts", "/contracts", 1000},
		{"audit", "/audit", 1000},
		{"people", "/people", 1000},
		{"report", "/report", 1000},
	}
}

// visit goes from page to page as somebody would, twice, and keeps the second time.
func visit(s *suite, tab context.Context, list []visited) error {
	for _, x := range list {
		step := fmt.Sprintf(
			settled,
			goes(x.to),
		)
		var first, got seen
		for i := range 2 {
			away := fmt.Sprintf(
				settled,
				goes("/nothing-here"),
			)
			if _, err := wait[seen](tab, away); err != nil {
				return err
			}
			var err error
			if got, err = wait[seen](tab, step); err != nil {
				return err
			}
			if i == 0 {
				first = got
			}
		}
		heap, err := wait[int](tab, `Promise.resolve(performance.memory.usedJSHeapSize)`)
		if err != nil {
			return err
		}
		s.add(
			"page: "+x.what,
			fmt.Sprintf("%.0fms, 3,000 nodes, 60 MB", x.goal),
			got.Took < x.goal && got.Nodes <= 3000 && heap < 60<<20,
			fmt.Sprintf("%.0fms (first %.0fms), %d nodes, %d MB", got.Took, first.Took, got.Nodes, heap>>20),
			"first: "+first.Slowest,
		)
	}
	return nil
}

// goes is a step to a page of the console, as a link in it goes there.
func goes(to string) string {
	return fmt.Sprintf("() => { history.pushState({}, '', %q); dispatchEvent(new PopStateEvent('popstate', { state: {} })) }", to)
}

func wait[T any](tab context.Context, script string) (T, error) {
	return chromedp.Run(tab, chromedp.Evaluate[T](script, chromedp.EvalAwaitPromise))
}
