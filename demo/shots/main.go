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

var shots = []shot{
	{"overview", "/", "//canvas", ""},
	{"fleet", "/fleet", `//a[text()="logbook-01"]`, ""},
	{"host", "/hosts/logbook-01", "//article", ""},
	{"host-rules", "/hosts/logbook-01?show=rules", "section ol", ""},
	{"host-listeners", "/hosts/watch-01?show=listeners", "section ul", ""},
	{"policy", "/policy?file=rules.fence&line=17", "main section", ""},
	{"policy-edit", "/policy/edit?file=rules.fence&line=5", "//nav[@aria-label=\"Files of the policy\"]", ""},
	{"waves", "/waves", "main section", ""},
	{"clouds", "/clouds", "main section", ""},
	{"proposals", "/proposals", "main section", ""},
	{"proposal", "/proposals/2", "main section", ""},
	{"ask", "/ask?question=hill-lan+-%3E+logbook+%3A+postgresql", "//ol", ""},
	{"reach", "/reach?before=3&cell=pilotage+logbook", "//table", ""},
	{"traffic", "/traffic", "main section", ""},
	{"traffic-seen", "/traffic?show=seen", "main figure", ""},
	{"record", "/record", "main table", ""},
	{"settings", "/settings", "main table", ""},
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
	for _, s := range shots {
		if only != "" && !slices.Contains(strings.Split(only, ","), s.name) {
			continue
		}
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
