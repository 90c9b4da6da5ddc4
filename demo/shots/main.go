// Command shots takes the pictures of the console in docs/screenshots from the
// running demo: make shots. With -only, -size and -theme it takes others, to look at.
package main

import (
	"context"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/chromedp/chromedp"

	"yellowfence.example/yfence/internal/browser"
)

// A shot is a picture: of which page, when it is there, and what is clicked before.
type shot struct{ name, path, there, click string }

// The first are in docs/screenshots; those behind them are taken when they are asked for.
var shots = []shot{
	{"overview", "/", "//canvas", ""},
	{"fleet", "/fleet", `//a[text()="logbook-01"]`, ""},
	{"host", "/hosts/logbook-01", "//article", ""},
	{"host-rules", "/hosts/logbook-01?show=rules", "section ol", ""},
	{"policy", "/policy/edit?file=rules.fence&line=5", `//nav[@aria-label="Files of the policy"]`, ""},
	{"reach", "/reach?before=3&cell=pilotage+logbook", "//table", ""},
	{"waves", "/waves", "main section", ""},
}

var more = []shot{
	{"page-listeners", "/hosts/watch-01?show=listeners", "section ul", ""},
	{"page-past", "/hosts/logbook-01?show=past", "main section ol", ""},
	{"page-connections", "/hosts/logbook-01?show=connections", `//button[contains(., "Look for")]`, ""},
	{"page-try", "/hosts/logbook-01?show=try", "main form", ""},
	{"page-copies", "/hosts/logbook-01?show=copies", "main section ul", ""},
	{"page-compare", "/policy/compare?from=1&to=2", "main section", ""},
	{"page-revisions", "/policy?file=rules.fence&line=17", "main section", ""},
	{"page-clouds", "/clouds", "main section", ""},
	{"page-proposals", "/proposals", "main section", ""},
	{"page-proposal", "/proposals/2", "main section", ""},
	{"page-ask", "/ask?question=hill-lan+-%3E+logbook+%3A+postgresql", "//ol", ""},
	{"page-refused", "/traffic", "main section", ""},
	{"page-unused", "/traffic?show=unused", "main section", ""},
	{"page-seen", "/traffic?show=seen", "main figure", ""},
	{"page-record", "/record", "main table", ""},
	{"page-settings", "/settings", "main table", ""},
}

func main() {
	url := flag.String("url", "http://127.0.0.1:8480", "where the console is")
	tokenFile := flag.String("token-file", "var/demo/token", "a token to sign in with")
	into := flag.String("into", "docs/screenshots", "where the pictures go")
	only := flag.String("only", "", "these alone, with commas between them")
	size := flag.String("size", "1280x800", "of the window")
	theme := flag.String("theme", "light", "or dark")
	flag.Parse()
	if err := run(*url, *tokenFile, *into, *only, *size, *theme); err != nil {
		fmt.Fprintln(os.Stderr, "shots:", err)
		os.Exit(1)
	}
}

func run(url, tokenFile, into, only, size, theme string) error {
	token, err := os.ReadFile(tokenFile)
	if err != nil {
		return err
	}
	var width, height int
	if _, err := fmt.Sscanf(size, "%dx%d", &width, &height); err != nil {
		return fmt.Errorf("a size is as 1280x800: %w", err)
	}
	ctx, cancel, err := browser.New(context.Background(), width, height)
	if err != nil {
		return err
	}
	defer cancel()
	steps := []chromedp.Action[chromedp.Void]{chromedp.Navigate(url), chromedp.WaitVisible("#token"),
		evaluate(`localStorage.setItem("yfence-theme", "` + theme + `")`), browser.SignIn(url, strings.TrimSpace(string(token)))}
	wanted := shots
	if only != "" {
		wanted = slices.DeleteFunc(slices.Concat(shots, more), func(s shot) bool {
			return !slices.Contains(strings.Split(only, ","),
				s.name)
		})
	}
	for _, s := range wanted {
		steps = append(steps, chromedp.Navigate(url+s.path), chromedp.WaitVisible(s.there))
		if s.click != "" {
			steps = append(steps, chromedp.Click(s.click))
		}
		steps = append(steps, take(filepath.Join(into, s.name+".png")))
	}
	return chromedp.Do(ctx, steps...)
}

// take takes a picture, once nothing fades in any more.
func take(file string) chromedp.Action[chromedp.Void] {
	return chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		time.Sleep(700 * time.Millisecond)
		png, err := chromedp.CaptureScreenshot()(ctx, t)
		if err != nil {
			return err
		}
		return os.WriteFile(file, png, 0o644)
	})
}

// evaluate runs a script in the page.
func evaluate(script string) chromedp.Action[chromedp.Void] {
	return chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		_, err := chromedp.Evaluate[any](script)(ctx, t)
		return err
	})
}
