package service_test

import (
	"context"
	"os"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/console"
	"yellowfence.example/yfence/core/listeners"
	"yellowfence.example/yfence/internal/browser"
)

// consoleNeeded skips a test of the console, loudly, where that or a browser is not there.
// consoleNeeded is asked first by a test that looks at pages. Its name says so too, since such tests run without -race: what
// they ask of the service others ask as well, and a browser beside it takes the machine's whole time.
func consoleNeeded(t *testing.T) {
	t.Helper()
	require.Contains(t, t.Name(), "InABrowser")
	_, built := console.Files()
	_, missing := exec.LookPath("chromium")
	if !built || missing != nil {
		if os.Getenv("CI") != "" {
			t.Fatal("the console and Chromium must be there in CI: make build; ", missing)
		}
		t.Skip("THE CONSOLE IS NOT TESTED: it is not built (make build), or Chromium is not installed")
	}
}

// TestSignInInABrowser: somebody signs in to the console through the identity provider.
func TestSignInInABrowser(t *testing.T) {
	t.Parallel()
	consoleNeeded(t)
	ctx := context.Background()
	c := newCompany(t)
	_, err := c.Import(ctx, api.ImportRequest{File: "fleet.json", Text: smallFleet()})
	require.NoError(t, err)
	tab, cancel, err := browser.New(ctx, 1280, 800)
	require.NoError(t, err)
	defer cancel()
	require.NoError(t, chromedp.Do(tab, chromedp.Navigate(c.url), chromedp.WaitVisible(`//a[contains(., "Sign in with 127.0.0.1")]`),
		chromedp.Click(`//a[contains(., "Sign in with")]`), chromedp.WaitVisible(`//a[text()="kim"]`), chromedp.Click(`//a[text()="kim"]`),
		chromedp.WaitVisible(`//h1[text()="Overview"]`)))
}

// TestTheConsoleInABrowser uses the console in a real browser, as a person does.
func TestTheConsoleInABrowser(t *testing.T) {
	t.Parallel()
	consoleNeeded(t)
	h := newSaltmarsh(t)
	ctx := context.Background()
	for _, host := range []string{"logbook-01", "broker-02", "watch-01", "charts-01"} {
		_, err := h.Settle(ctx, host)
		require.NoError(t, err)
		r := report(host, recorded(t, host))
		r.Around = &api.HostFacts{Listeners: []listeners.Listener{{Protocol: "tcp", Port: 8096, Process: "someprogram"}}}
		_, err = h.Report(ctx, r)
		require.NoError(t, err)
	}
	require.NoError(t, h.as([]api.Right{api.Host}, "logbook-01").PutCopies(ctx,
		api.Copies{Version: 1, Host: "logbook-01",
			Copies: []api.CopyNote{{Number: 1, TakenAt: time.Now(), Before: "revision 1", Rules: 17}}}))
	a := h.opens(t, 1280, 800)
	do, text := a.do, a.text

	do(chromedp.Navigate(h.url), chromedp.WaitVisible("#token"), chromedp.SendKeys("#token", "yft_wrong"),
		chromedp.Click(`button[type="submit"]`),
		chromedp.WaitVisible(`[role="alert"]`))
	require.Contains(t, text("#token-help"), "the token is not known here")
	do(browser.SignIn(h.url, h.token))

	// The overview says what needs a person, the worst first, and leads there.
	do(chromedp.WaitVisible("canvas"), chromedp.WaitVisible(`//section[@aria-label="Needs a person now"]//li`))
	needs := text(`section[aria-label="Needs a person now"]`)
	require.Less(t, strings.Index(needs, "tcp 5432 from hill-lan (IPv4) gets in"), strings.Index(needs, "shut"), needs)
	require.Contains(t, text("table"), "drifted")
	do(chromedp.Click(`//section[@aria-label="Needs a person now"]//a[contains(., "tcp 5432")]`),
		chromedp.WaitVisible(`//h1[text()="logbook-01"]`))

	do(chromedp.Click(`//nav[@aria-label="Pages"]//a[contains(., "Fleet")]`), chromedp.WaitVisible(`//a[text()="broker-02"]`))
	table := text(`[role="table"]`)
	require.Less(t, strings.Index(table, "broker-02"), strings.Index(table, "charts-01"), "the worst comes first")
	require.Contains(t, table, "1 cosmetic")
	require.Contains(t, table, "beacon-03")
	do(chromedp.SendKeys(`input[type="search"]`, "log"), chromedp.WaitNotPresent(`//a[text()="lockgate-01"]`))
	require.Eventually(t, func() bool { return strings.Count(text(`[role="table"]`), "-0") == 1 }, 5*time.Second, 50*time.Millisecond,
		"one host is left")

	do(chromedp.Click(`//a[text()="logbook-01"]`), chromedp.WaitVisible("article"))
	finding := text("article")
	for _, want := range []string{"opened", "tcp 5432 from hill-lan (IPv4) gets in; nothing in the policy admits it.",
		"10.60.3.40 port 5432", "eth2",
		"ip saddr 10.60.0.0/16 tcp dport 5432 accept", "allow NAME: hill-lan -> logbook : postgresql"} {
		require.Contains(t, finding, want)
	}
	do(chromedp.Click(`//button[contains(., "Rules")]`), chromedp.WaitVisible(`//*[text()="only on the host"]`))
	do(chromedp.Click(`//button[text()="Listeners"]`),
		chromedp.WaitVisible(`//section[@aria-label="What listens"]//span[contains(., "(someprogram) listens, and by the policy nobody `+
			`may come to it")]`))
	do(chromedp.Click(`//button[text()="Copies"]`),
		chromedp.WaitVisible(`//section[@aria-label="Copies"]//span[contains(., "what was there before revision 1")]`))

	do(chromedp.Navigate(h.url+"/hosts/broker-02"), chromedp.WaitVisible("article"))
	require.Contains(t, text("article"), "Chain inbound has no rules left while its policy is drop")
	do(chromedp.Click(`//a[contains(., "rules.fence")]`), chromedp.WaitVisible("section ol"))
	require.Contains(t, text("li.bg-fence"), "hop:", "the link leads to the line of the rule")
	require.Contains(t, text("aside"), "in force on 2 of 15 hosts")
	// modifiers say what they mean
	do(chromedp.WaitVisible(`//span[@title="part of the way in; takes no date and no ` + "`off`" + `"][text()="guard"]`))

	do(chromedp.WaitVisible(`//span[@title][text()="off"]/following-sibling::b[text()="block"]`))

	do(chromedp.Navigate(h.url+"/hosts/watch-01"), chromedp.WaitVisible("article"))
	require.Contains(t, text("article"), "mean exactly the same")
	do(chromedp.Navigate(h.url+"/hosts/jump-01"), chromedp.WaitVisible(`//p[contains(., "has never reported")]`))

	do(chromedp.Click(`button[aria-label="Switch to dark"]`), chromedp.WaitVisible(`html[data-theme="dark"]`))
	do(chromedp.Click(`//button[contains(., "Sign out")]`), chromedp.WaitVisible("#token"))
	a.content()
}
