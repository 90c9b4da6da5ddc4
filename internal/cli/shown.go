package cli

import (
	"fmt"
	"io"
	"os"
	"strings"
	"sync"
	"unicode"
	"unicode/utf8"

	"golang.org/x/term"
)

// shown is the one writer for what is printed. Names, reasons and rules come from hosts,
// clouds and files: whatever a terminal would take for a command is shown as text, as \x1b.
// What JSON holds stays JSON: it is written as \u001b there.
type shown struct {
	to      io.Writer
	json    func() bool
	colours bool // our own colours pass
	wrote   bool // a document
	mu      sync.Mutex
	rest    []byte // of a character, or of one of our colours, that is not whole yet
}

// show makes a writer of what people and other programs read.
func (a *app) show(to io.Writer) *shown {
	f, ok := to.(*os.File)
	return &shown{to: to, json: func() bool { return a.output == "json" || a.output == "sarif" }, colours: ok &&
		term.IsTerminal(int(f.Fd())) && a.getenv("NO_COLOR") == ""}
}

// ours are the colours that pass.
var ours = func() (all []string) {
	for _, c := range []string{bold, dim, red, green, amber, "0"} {
		all = append(all, "\x1b["+c+"m")
	}
	return all
}()

// Write writes what people see, with letters that a terminal would act on made visible. A
// letter that is cut in two waits for its rest.
func (s *shown) Write(p []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	// A letter or a colour may come in two pieces; what is not whole waits for the next.
	text := append(s.rest, p...)
	s.rest = nil
	var b strings.Builder
	for len(text) > 0 {
		if s.colours && text[0] == 0x1b {
			n, part := ourColour(text)
			if part {
				s.rest = append([]byte{}, text...)
				break
			}
			if n > 0 {
				b.Write(text[:n])
				text = text[n:]
				continue
			}
		}
		if !utf8.FullRune(text) {
			s.rest = append([]byte{}, text...)
			break
		}
		r, n := utf8.DecodeRune(text)
		// What a terminal would obey, and what turns text about, is shown by its number.
		switch {
		case r == utf8.RuneError && n == 1:
			b.WriteRune(utf8.RuneError)
		case r == '\n' || r == '\t' || !dangerous(r):
			b.Write(text[:n])
		case s.json() || r > 0xff:
			fmt.Fprintf(&b, `\u%04x`, r)
		default:
			fmt.Fprintf(&b, `\x%02x`, r)
		}
		text = text[n:]
	}
	if _, err := io.WriteString(s.to, b.String()); err != nil {
		return 0, err
	}
	return len(p), nil
}

// flush writes what is left of a character that never became whole.
func (s *shown) flush() {
	if s.rest != nil {
		_, _ = io.WriteString(s.to, string(utf8.RuneError))
		s.rest = nil
	}
}

// dangerous says that a terminal may take a character for a command, or show what stands
// around it in another order.
func dangerous(r rune) bool {
	return unicode.IsControl(r) || unicode.Is(unicode.Bidi_Control, r) || r == 0x2028 || r == 0x2029
}

// ourColour is how long the colour of ours is that text begins with; part says that it may
// become one.
func ourColour(text []byte) (n int, part bool) {
	for _, c := range ours {
		if strings.HasPrefix(string(text[:min(len(text), len(c))]), c) {
			return len(c), false
		}
		if len(text) < len(c) && strings.HasPrefix(c, string(text)) {
			part = true
		}
	}
	return 0, part
}
