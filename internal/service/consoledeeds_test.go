package service_test

import (
	"context"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/require"
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

// TestDeedsOfPages: the palette offers what a page can do; hosts are saved as a table that no spreadsheet takes for
// formulas; what a host had in force is looked at as it was.
func TestDeedsOfPages(t *testing.T) {
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
