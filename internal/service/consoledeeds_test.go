package service_test

import (
	"context"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/internal/browser"
)

// saves has the page keep what it would save as a file, for saved.
func (a *aTab) saves() {
	_ = says[any](a,
		`window.saved = ""; URL.createObjectURL = (b) => { b.text().then((t) => { window.saved = t }); return "#saved" }; null`)
}

// saved is what was saved since.
func (a *aTab) saved() (text string) {
	a.t.Helper()
	require.Eventually(a.t, func() bool { text = says[string](a, "window.saved"); return text != "" }, 15e9, 5e7)
	return text
}

// TestTheRecordInABrowser: the browser proves the record by itself, finds what was changed behind everybody's back, and saves
// what the command can verify elsewhere.
func TestTheRecordInABrowser(t *testing.T) {
	t.Parallel()
	consoleNeeded(t)
	h := lively(t)
	a := h.at(t, 1280, 800)
	verify := func(says string) {
		a.do(chromedp.Navigate(h.url+"/record"), chromedp.WaitVisible(`//button[contains(., "Verify")]`),
			chromedp.Click(`//button[contains(., "Verify")]`))
		a.shows(says)
	}
	verify("The record holds: no entry of")
	for range 2 {
		_, err := h.NewEnrolment(context.Background(), "broker-01")
		require.NoError(t, err)
	}
	verify("are as this browser verified them before")
	a.saves()
	a.do(chromedp.Click(`//button[contains(., "Export")]`))
	lines := strings.Split(strings.TrimSpace(a.saved()), "\n")
	rows, err := h.RecordRows(context.Background(), 0)
	require.NoError(t, err)
	require.Len(t, lines, 1+len(rows.Rows), "a checkpoint, and then an entry a line")
	require.Contains(t, lines[0], rows.Key)
	for _, c := range []struct{ do, undo, says string }{
		{"UPDATE record SET body = REPLACE(body, 'first', 'never') WHERE number = 3",
			"UPDATE record SET body = REPLACE(body, 'never', 'first') " +
				"WHERE number = 3", "Entry 3 was changed"},
		{"UPDATE record SET number = 100 WHERE number = 4", "UPDATE record SET number = 4 WHERE number = 100", "Entry 4 is missing"},
		{"UPDATE record a JOIN record b ON a.number = 5 AND b.number = 4 SET a.head = b.head", "", "Entry 5 was changed"},
	} {
		h.exec(c.do)
		verify(c.says)
		if c.undo != "" {
			h.exec(c.undo)
		}
	}
	a.content()
}

// TestDeedsInABrowser: the palette offers what a page can do; hosts are saved as a table that no spreadsheet takes for
// formulas; what a host had in force is looked at as it was.
func TestDeedsInABrowser(t *testing.T) {
	t.Parallel()
	consoleNeeded(t)
	h := lively(t)
	opened := report("logbook-01", recorded(t, "charts-01"))
	_, err := h.Report(context.Background(), opened)
	require.NoError(t, err)
	a := h.at(t, 1280, 800)
	a.do(chromedp.Navigate(h.url + "/fleet?role=charts"))
	a.shows("charts-03")
	a.saves()
	a.do(chromedp.KeyEvent("k", chromedp.KeyModifiers(chromedp.ModifierCtrl)))
	a.shows("On this page")
	a.do(chromedp.KeyEvent("export"), chromedp.KeyEvent(kb.Enter))
	lines := strings.Split(strings.TrimSpace(a.saved()), "\r\n")
	require.Len(t, lines, 5, "the hosts of the role, and the head")
	require.Regexp(t, `(?m)^charts-01,charts,in step,,0,0,1,`, strings.Join(lines, "\n"))

	a.do(chromedp.Navigate(h.url + "/hosts/logbook-01?show=past"))
	a.shows("Rules changed:")
	a.shows("revision 1 was published; in force now")
	a.do(chromedp.Click(`//a[text()="see the host then"]`))
	a.shows("compared with revision 1, which was published then")
	a.shows("tcp 5432 from hill-lan (IPv4) gets in")
	a.do(chromedp.Click(`//a[text()="See the host now"]`))
	a.shows("last report")

	// A question is typed as a whole; the rule that would admit what is refused goes to the editor.
	a.do(chromedp.Navigate(h.url+"/ask"), chromedp.WaitVisible(`//label[contains(., "From")]/input`),
		chromedp.SendKeys(`//label[contains(., "From")]/input`, "hill-lan -> logbook : tcp 8443"), chromedp.KeyEvent(kb.Enter))
	a.shows("dropped")
	a.do(chromedp.Click(`//section[@aria-label="A rule that would admit it"]//button`))
	a.shows("based on revision 1, saved in this tab")
	require.Contains(t, says[string](a, `sessionStorage.getItem("yfence-draft")`),
		"allow hill-lan-to-logbook: hill-lan -> logbook : tcp 8443")
	a.do(chromedp.Click(`//button[text()="Discard changes"]`))
	a.shows("No changes yet.")

	// What was withdrawn is written again, and proposed anew.
	_, err = h.EndProposal(context.Background(), 1, "withdraw", "strangers share that network")
	require.NoError(t, err)
	a.do(chromedp.Navigate(h.url+"/proposals/1"), chromedp.WaitVisible(`//a[text()="Propose it again"]`),
		chromedp.Click(`//a[text()="Propose it again"]`))
	a.shows("based on revision 1, saved in this tab")
	require.Contains(t, says[string](a, `sessionStorage.getItem("yfence-draft")`), "allow peek: hill-lan")
	a.do(chromedp.Click(`//button[text()="Discard changes"]`))
	a.shows("No changes yet.")

	a.do(chromedp.Navigate(h.url + "/traffic?show=unused"))
	a.do(chromedp.WaitVisible(`//button[contains(., "Draft off")]`), chromedp.Click(`//button[contains(., "Draft off")]`))
	a.shows("based on revision 1, saved in this tab")
	require.Contains(t, says[string](a, `sessionStorage.getItem("yfence-draft")`), "\\noff allow ")
	a.content()
}

// TestRightsInABrowser: pages offer what their reader may do, for the roles that he may do it to, and say so where he may not read.
func TestRightsInABrowser(t *testing.T) {
	t.Parallel()
	consoleNeeded(t)
	h := lively(t)
	w, err := h.Wave(context.Background(), 1)
	require.NoError(t, err)
	_, err = h.StopWave(context.Background(), w.Number, "for the test")
	require.NoError(t, err)
	a := h.opens(t, 1280, 800)
	a.do(browser.SignIn(h.url, h.as([]api.Right{"read:charts", "settle:charts"}, "").Token()))
	offered := func(name string) bool {
		return says[bool](a, `[...document.querySelectorAll("main button")].some((b) => b.innerText.includes("`+name+`"))`)
	}
	a.do(chromedp.Navigate(h.url+"/hosts/charts-01"), chromedp.WaitVisible(`//h1[text()="charts-01"]`))
	require.True(t, offered("Settle"))
	require.False(t, offered("Pause"), "that takes another right")
	a.do(chromedp.Click(`//button[contains(., "Settle")]`), chromedp.WaitVisible(`//div[@role="dialog"]`),
		chromedp.Click(`//div[@role="dialog"]//button[@type="submit"]`))
	require.Eventually(t, func() bool { w, err := h.Wave(context.Background(), 2); return err == nil && w.By == "somebody" },
		15*time.Second,
		50*time.Millisecond)
	a.shows("every 10 s") // the stream tells of the whole fleet
	a.do(chromedp.Navigate(h.url + "/hosts/logbook-01"))
	a.shows("This did not work")
	a.do(chromedp.Navigate(h.url + "/policy/edit"))
	a.shows("This did not work")
	a.do(chromedp.Navigate(h.url + "/fleet"))
	a.shows("charts-03")
	require.False(t, offered("Start a wave"), "over the whole fleet")
	require.NotContains(t, says[string](a, "document.body.innerText"), "logbook-01")
}
