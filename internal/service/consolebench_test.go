package service_test

import (
	"context"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/internal/browser"
)

// BenchmarkConsole measures the console's pages in a browser, with a fleet of 10,000: how long a page takes until it is of
// use, the longest frame while a page is scrolled or walked over, and the browser's memory while the fleet changes.
func BenchmarkConsole(b *testing.B) {
	h := manyHosts(b, 10_000)
	h.allRead()
	var tab context.Context
	open := func(b *testing.B) {
		var cancel context.CancelFunc
		var err error
		tab, cancel, err = browser.New(context.Background(), 1280, 800)
		require.NoError(b, err)
		b.Cleanup(cancel)
		require.NoError(b, chromedp.Do(tab, browser.SignIn(h.url, h.token)))
	}
	ask := func(b *testing.B, script string) float64 {
		v, err := chromedp.Run(tab, chromedp.Evaluate[float64](script, chromedp.EvalAwaitPromise))
		require.NoError(b, err)
		return v
	}
	for _, page := range []struct{ name, path, there string }{
		{"overview", "/", `document.querySelector("canvas")?.height > 100`},
		{"fleet", "/fleet", `document.querySelectorAll("[role=row] a").length > 10`},
		{"reach", "/reach", `document.querySelectorAll("td button").length > 3`},
		{"host", "/hosts/charts-00007", `document.body.innerText.includes("Nothing to report")`},
	} {
		b.Run(page.name, func(b *testing.B) {
			open(b)
			for b.Loop() {
				require.NoError(b, chromedp.Do(tab, chromedp.Navigate(h.url+page.path)))
				useful := ask(b, `new Promise((ok) => { const look = () => (`+page.there+
					`) ? ok(performance.now()) : setTimeout(look, 5); look() })`)
				b.ReportMetric(useful, "ms-until-useful")
			}
		})
	}
	const longest = `new Promise((ok) => { let last = 0, worst = 0, n = 0; const step = (t) => {
		if (last) worst = Math.max(worst, t - last); last = t; DO; ++n < 120 ? requestAnimationFrame(step) : ok(worst) };
		requestAnimationFrame(step) })`
	for _, frames := range []struct{ name, path, do string }{
		{"fleet-scrolled", "/fleet", `document.querySelector("[role=region]").scrollBy(0, 400)`},
		{"palisade-pointed-at", "/", `document.querySelector("canvas").dispatchEvent(new PointerEvent("pointermove",
			{bubbles: true, clientX: 230 + n * 4, clientY: 300}))`},
		{"palisade-zoomed", "/", `n % 30 == 5 && [...document.querySelectorAll("main button")].
			find((x) => x.innerText.trim() == "charts")?.click()`},
	} {
		b.Run(frames.name, func(b *testing.B) {
			open(b)
			require.NoError(b, chromedp.Do(tab, chromedp.Navigate(h.url+frames.path)))
			worst := 0.0
			for b.Loop() {
				time.Sleep(2 * time.Second)
				worst = max(worst, ask(b, strings.Replace(longest, "DO", frames.do, 1)))
			}
			b.ReportMetric(worst, "ms-longest-frame")
		})
	}
	b.Run("editor-help", func(b *testing.B) {
		open(b)
		for b.Loop() {
			b.ReportMetric(ask(b, `(async () => {
				const revision = await (await fetch("/api/v1/revisions/1")).json(), begin = performance.now()
				const body = JSON.stringify({files: revision.files, file: revision.files[0].name, line: 1, column: 1})
				await (await fetch("/api/v1/assist", {method: "POST", headers: {"Content-Type": "application/json"}, body})).json()
				return performance.now() - begin })()`), "ms-until-answered")
		}
	})
	b.Run("overview-while-it-changes", func(b *testing.B) {
		open(b)
		for b.Loop() {
			for range 20 {
				h.exec("UPDATE newest SET changed_at = NOW(6) WHERE host = 'charts-00001'")
				h.exec("INSERT INTO reports (host, taken_at, received_at, hash) SELECT host, NOW(6), NOW(6), hash FROM reports WHERE " +
					"host = " +
					"'charts-00000' LIMIT 1")
				time.Sleep(time.Second)
			}
			b.ReportMetric(ask(b, `performance.memory.usedJSHeapSize / 1e6`), "MB")
		}
	})
}
