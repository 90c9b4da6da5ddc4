package cli_test

import (
	"context"
	"encoding/json"
	"os"
	"os/exec"
	"slices"
	"strings"
	"testing"

	"github.com/chromedp/cdproto/accessibility"
	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/dom"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/console"
	"yellowfence.example/yfence/internal/browser"
)

// desk is somebody at the console who has no mouse.
type desk struct {
	*pier
	tab context.Context
}

// press presses keys.
func (d *desk) press(keys string) {
	d.Helper()
	require.NoError(d, chromedp.Do(d.tab, chromedp.KeyEvent(keys)))
}

// asks is what a script in the page gives.
func asks[T any](d *desk, script string) T {
	d.Helper()
	v, err := chromedp.Run(d.tab, chromedp.Evaluate[T](script))
	require.NoError(d, err)
	return v
}

// reads waits until the page says something.
func (d *desk) reads(text string) {
	d.Helper()
	d.until("the page says "+text, func() bool { return strings.Contains(asks[string](d, "document.body.innerText"), text) })
}

// tabTo presses the tabulator until what has the focus says something.
func (d *desk) tabTo(role, text string) {
	d.Helper()
	for range 150 {
		d.press(kb.Tab)
		if strings.Contains(asks[string](d,
			`(({tagName, innerText, ariaLabel}) => tagName + " " + (ariaLabel ?? "") + innerText)(document.activeElement)`),
			text) && asks[string](d, "document.activeElement.tagName") == role {
			require.NotEqual(d, "none", asks[string](d, "getComputedStyle(document.activeElement).outlineStyle"), "one sees where one is")
			return
		}
	}
	d.Fatalf("the tabulator never comes to a %s that says %q", role, text)
}

// heard is all that the accessibility tree names, each by its role and name, with where it is.
func (d *desk) heard() (all []string, at []cdp.BackendNodeID) {
	d.Helper()
	tree, err := chromedp.Call(d.tab, accessibility.GetFullAXTree, accessibility.GetFullAXTreeParams{})
	require.NoError(d, err)
	for _, n := range tree.Nodes {
		if n.Ignored || n.Role == nil || n.Name == nil {
			continue
		}
		var is, called string
		_, _ = json.Unmarshal(n.Role.Value, &is), json.Unmarshal(n.Name.Value, &called)
		all, at = append(all, is+" "+called), append(at, n.BackendDOMNodeID)
	}
	return all, at
}

// hears goes to what the accessibility tree names so, as a screen reader does, and presses it.
func (d *desk) hears(role, name string) {
	d.Helper()
	d.until("the accessibility tree has a "+role+" "+name, func() bool {
		all, at := d.heard()
		for i, what := range all {
			if is, called, _ := strings.Cut(what, " "); is == role && strings.Contains(called, name) {
				_, err := chromedp.Call(d.tab, dom.Focus, dom.FocusParams{BackendNodeID: at[i]})
				require.NoError(d, err)
				d.press(kb.Enter)
				return true
			}
		}
		return false
	})
}

// TestAWholeJobWithoutAMouse: somebody finds the host that drifted, reads why, settles it and sees it in step, once by
// the keyboard alone and once by what the accessibility tree names; on hosts with real rules.
func TestAWholeJobWithoutAMouse(t *testing.T) {
	t.Parallel()
	_, built := console.Files()
	if _, missing := exec.LookPath("chromium"); !built || missing != nil {
		if os.Getenv("CI") != "" {
			t.Fatal("the console and Chromium must be there in CI: make build")
		}
		t.Skip("THE CONSOLE IS NOT TRIED: it is not built (make build), or Chromium is not installed")
	}
	p := newPier(t)
	p.begin()
	p.keepAtConsole("jump-01")
	out, code := p.operate("waves", "start")
	require.Equal(t, 0, code, out)
	tab, cancel, err := browser.New(context.Background(), 1280, 800)
	require.NoError(t, err)
	defer cancel()
	d := &desk{p, tab}
	drift := func() {
		_, err := p.hosts["charts-01"].Run(nil, "nft", "insert", "rule", "inet", "yellowfence", "inbound", "tcp", "dport", "5432", "accept")
		require.NoError(t, err)
		_, err = p.AskHost(context.Background(), "charts-01", api.Task{Do: api.DoReport})
		require.NoError(t, err)
		p.until("it has drifted", func() bool { return p.status("charts-01").State == api.Drifted })
	}
	const opened = "tcp 5432 from everywhere"

	// By the keyboard.
	drift()
	require.NoError(t, chromedp.Do(tab, chromedp.Navigate(p.Client.URL()), chromedp.WaitVisible("#token")))
	d.press(p.token + kb.Enter)
	d.reads("Needs a person now")
	d.reads(opened)
	d.tabTo("A", opened)
	d.press(kb.Enter)
	d.reads("tcp dport 5432 accept")
	d.reads("stance inbound closed")
	d.tabTo("BUTTON", "Settle")
	d.press(kb.Enter)
	d.reads("is put in force on charts-01")
	d.tabTo("BUTTON", "Settle")
	d.press(kb.Enter)
	d.reads("Wave 2")
	p.until("it is in step", func() bool { return p.status("charts-01").State == api.InStep })
	d.press("f")
	d.reads("3 hosts, generation")
	d.reads("3 in step")

	// By the accessibility tree.
	p.until("the wave has tried what is expected, too", func() bool { // another one waits for it
		w, err := p.Wave(context.Background(), 2)
		return err == nil && w.Ended != nil
	})
	drift()
	d.hears("link", "Overview")
	d.hears("link", opened)
	d.reads("stance inbound closed")
	d.hears("button", "Settle")
	d.reads("is put in force on charts-01")
	d.until("the question alone is heard, and not the page behind it", func() bool {
		all, _ := d.heard()
		return slices.Contains(all, "dialog Settle") && !slices.Contains(all, "heading charts-01")
	})
	d.hears("button", "Settle")
	d.reads("Wave 3")
	p.until("it is in step", func() bool { return p.status("charts-01").State == api.InStep })
	d.hears("link", "Fleet")
	d.reads("3 in step")
}
