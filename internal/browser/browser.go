package browser

import (
	"context"
	"fmt"
	"os/exec"
	"time"

	"github.com/chromedp/chromedp"
)

// New starts a browser with an empty profile and gives the context to use it
// with; call cancel when done. Its window is width by height.
func New(ctx context.Context, width, height int) (context.Context, context.CancelFunc, error) {
	path, err := exec.LookPath("chromium")
	if err != nil {
		return nil, nil, fmt.Errorf("no Chromium is installed (Debian's chromium): %w", err)
	}
	options := append(chromedp.DefaultExecAllocatorOptions[:],
		chromedp.ExecPath(path), chromedp.NoSandbox, chromedp.DisableGPU, chromedp.WindowSize(width, height),
		chromedp.Flag("disable-quic", true), chromedp.Flag("disable-background-networking", true),
		chromedp.Flag("disable-component-update", true),
		chromedp.Flag("disable-sync", true), chromedp.Flag("force-color-profile", "srgb"))
	ctx, stopBrowser := chromedp.NewExecAllocator(ctx, options...)
	ctx, stopTab := chromedp.NewContext(ctx)
	if err := chromedp.Do(ctx, chromedp.EmulateViewport(int64(width), int64(height))); err != nil {
		stopTab()
		stopBrowser()
		return nil, nil, err
	}
	// Only now may there be a limit: on the first call it would be the browser's.
	ctx, stopTime := context.WithTimeout(ctx, 2*time.Minute)
	return ctx, func() { stopTime(); stopTab(); stopBrowser() }, nil
}

// SignIn opens the console and signs in.
func SignIn(url, token string) chromedp.Action[chromedp.Void] {
	return chromedp.Steps(
		chromedp.Navigate(url),
		chromedp.WaitVisible("#token"),
		chromedp.SendKeys("#token", token),
		chromedp.Click(`button[type="submit"]`),
		chromedp.WaitVisible("table"),
	)
}
