// Package browser drives Debian's headless Chromium: the console's tests and
// the screenshots of the documentation.
//
//	ctx, cancel, err := browser.New(ctx, 1280, 800)
//	err = chromedp.Run(ctx, browser.SignIn(url, token))
//
// Nothing is downloaded: the browser is the system's.
package browser
