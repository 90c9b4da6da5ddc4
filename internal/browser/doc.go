// Package browser drives Debian's headless Chromium: the console's tests and
// the screenshots of the documentation.
//
//	ctx, cancel, err := browser.New(ctx, 1280, 800)
//	err = chromedp.Run(ctx, browser.SignIn(url, token))
//
// Nothing is downloaded: the browser is the system's.
//
// # Where it is found
//
// Debian's package chromium, by its name on the path. A test that needs it and does not find it says so
// loudly, and fails in CI. It runs without a sandbox of its own, since tests run as root, and opens no
// page but ours.
package browser
