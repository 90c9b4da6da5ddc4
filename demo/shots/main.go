// Command shots takes the pictures of the console in docs/screenshots from the
// running demo: make shots.
package main

import (
	"context"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/chromedp/chromedp"

	"yellowfence.example/yfence/internal/browser"
)

func main() {
	url := flag.String("url", "http://127.0.0.1:8480", "where the console is")
	tokenFile := flag.String("token-file", "var/demo/token", "a token to sign in with")
	into := flag.String("into", "docs/screenshots", "where the pictures go")
	flag.Parse()
	if err := run(*url, *tokenFile, *into); err != nil {
		fmt.Fprintln(os.Stderr, "shots:", err)
		os.Exit(1)
	}
}

const width, height = 1280, 800

func run(url, tokenFile, into string) error {
	token, err := os.ReadFile(tokenFile)
	if err != nil {
		return err
	}
	ctx, cancel, err := browser.New(context.Background(), width, height)
	if err != nil {
		return err
	}
	defer cancel()
	shoot := func(name string) chromedp.Action[chromedp.Void] {
		return chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
			time.Sleep(300 * time.Millisecond) // for what fades in
			png, err := chromedp.CaptureScreenshot()(ctx, t)
			if err != nil {
				return err
			}
			return os.WriteFile(filepath.Join(into, name+".png"), png, 0o644)
		})
	}
	theme := func(name string) chromedp.Action[chromedp.Void] {
		return chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
			_, err := chromedp.Evaluate[any](`localStorage.setItem("yfence-theme", "`+name+`")`)(ctx, t)
			return err
		})
	}
	down := chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		_, err := chromedp.Evaluate[any](`window.scrollTo(0, document.body.scrollHeight)`)(ctx, t)
		return err
	})
	rulesTab := `//button[contains(., "Rules")]`
	return chromedp.Do(ctx,
		chromedp.Navigate(url), chromedp.WaitVisible("#token"), theme("light"),
		browser.SignIn(url, strings.TrimSpace(string(token))), shoot("fleet"), down, shoot("cloud"),
		chromedp.Navigate(url+"/hosts/logbook-01"), chromedp.WaitVisible("article"), shoot("host"),
		chromedp.Click(rulesTab), chromedp.WaitVisible("section ol"), shoot("host-rules"),
		chromedp.Navigate(url+"/hosts/watch-01"), chromedp.Click(`//button[text()="Listeners"]`), chromedp.WaitVisible("section ul"),
		shoot("host-listeners"),
		chromedp.Navigate(url+"/policy?file=rules.fence&line=17"), chromedp.WaitVisible("section ol"), shoot("policy"),
		chromedp.Navigate(url+"/waves"), chromedp.WaitVisible("section"), shoot("waves"),
	)
}
