package cli

import "io"

// The colours we use, as SGR parameters of ECMA-48.
const (
	bold  = "1"
	dim   = "2"
	red   = "1;31"
	green = "32"
	amber = "33"
)

// paint gives what colours a text for w: nothing unless w is a terminal, and
// never with NO_COLOR.
func (a *app) paint(w io.Writer) func(colour, text string) string {
	if s, ok := w.(*shown); !ok || !s.colours {
		return func(_, text string) string { return text }
	}
	return func(colour, text string) string { return "\x1b[" + colour + "m" + text + "\x1b[0m" }
}
