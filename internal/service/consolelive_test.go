package service_test

import (
	"context"
	"io"
	"net"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/api"
)

// A wire leads from a port of its own to an address, and can be cut.
type wire struct {
	t        *testing.T
	address  string // where it begins
	to       string
	mu       sync.Mutex
	listener net.Listener
	open     []net.Conn
}

func newWire(t *testing.T, to string) *wire {
	w := &wire{t: t, address: "127.0.0.1:0", to: to}
	w.mend()
	t.Cleanup(w.cut)
	return w
}

// mend has it lead there, again from the same port.
func (w *wire) mend() {
	l, err := net.Listen("tcp", w.address)
	require.NoError(w.t, err)
	w.mu.Lock()
	w.listener, w.address = l, l.Addr().String()
	w.mu.Unlock()
	go func() {
		for {
			in, err := l.Accept()
			if err != nil {
				return
			}
			out, err := net.Dial("tcp", w.to)
			if err != nil {
				_ = in.Close()
				continue
			}
			w.mu.Lock()
			w.open = append(w.open, in, out)
			w.mu.Unlock()
			for _, way := range [][2]net.Conn{{in, out}, {out, in}} {
				go func() { _, _ = io.Copy(way[0], way[1]); _ = way[0].Close() }()
			}
		}
	}()
}

// cut ends all connections; new ones are refused.
func (w *wire) cut() {
	w.mu.Lock()
	defer w.mu.Unlock()
	_ = w.listener.Close()
	for _, c := range w.open {
		_ = c.Close()
	}
	w.open = nil
}

// TestALostConnectionInABrowser: a page says that it hears nothing any more, keeps what it shows, and shows what happened meanwhile
// once the service can be reached again, by itself.
func TestALostConnectionInABrowser(t *testing.T) {
	t.Parallel()
	consoleNeeded(t)
	h := lively(t)
	w := newWire(t, strings.TrimPrefix(h.url, "http://"))
	direct := h.url
	h.url = "http://" + w.address
	a := h.at(t, 1280, 800)
	h.url = direct
	a.shows("Needs a person now")
	a.shows("revision 1")
	a.shows("live")
	w.cut()
	a.shows("not live")
	a.shows("Needs a person now")
	_, err := h.Publish(context.Background(), api.PublishRequest{Files: narrower(t), Why: "while nobody heard"})
	require.NoError(t, err)
	time.Sleep(time.Second) // it tries in vain meanwhile
	w.mend()
	a.shows("revision 2")
	a.shows("live")
}

// TestTwoAtOnceInABrowser: two people write at the same time; one publishes, and the other one sees that and overwrites nothing.
func TestTwoAtOnceInABrowser(t *testing.T) {
	t.Parallel()
	consoleNeeded(t)
	h := lively(t)
	one, other := h.at(t, 1280, 800), h.at(t, 1280, 800)
	write := func(a *aTab, text string) {
		a.do(chromedp.Navigate(h.url + "/policy/edit?file=rules.fence"))
		a.shows("No changes yet.")
		_ = says[any](a, `document.querySelector(".cm-content").focus()`)
		a.do(chromedp.KeyEvent(kb.End, chromedp.KeyModifiers(chromedp.ModifierCtrl)), chromedp.KeyEvent("\n"+text+"\n"))
		a.shows("saved in this tab")
	}
	publish := func(a *aTab, why string) {
		a.do(chromedp.WaitVisible(`//button[text()="Publish" and not(@disabled)]`), chromedp.Click(`//button[text()="Publish"]`),
			chromedp.WaitVisible(`//div[@role="dialog"]//input`), chromedp.SendKeys(`//div[@role="dialog"]//input`, why),
			chromedp.KeyEvent(kb.Enter))
	}
	write(one, "block shy: pilotage -> logbook : tcp 9000")
	write(other, "block shyer: pilotage -> logbook : tcp 9001")
	publish(one, "to close one")
	one.shows("to close one")
	other.shows("Revision 2 was published after you started.")
	publish(other, "to close another")
	other.shows("revision 2 is published, not 1: somebody published since")
	list, err := h.Revisions(context.Background())
	require.NoError(t, err)
	require.Len(t, list.Revisions, 2, "nothing was overwritten")
	require.Contains(t, says[string](other, `sessionStorage.getItem("yfence-draft")`), "block shyer", "the draft is kept")
	one.content()
	other.content("/revisions") // that it was published meanwhile is answered 409
}
