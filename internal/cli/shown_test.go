package cli

import (
	"bytes"
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestWhatATerminalWouldObey is shown as text, however it is cut in pieces; our own colours
// and other people's languages pass.
func TestWhatATerminalWouldObey(t *testing.T) {
	for _, c := range []struct {
		text, want  string
		json, color bool
	}{
		{"plain\tŠaltmarsh 港\n", "plain\tŠaltmarsh 港\n", false, false},
		{"a\x1b]0;title\x07b\rc", `a\x1b]0;title\x07b\x0dc`, false, false},
		{"\u009b31m\u202eevil\u2066", `\x9b31m\u202eevil\u2066`, false, false},
		{"\x1b[1mours\x1b[0m \x1b[8mhidden\x1b[2J", "\x1b[1mours\x1b[0m " + `\x1b[8mhidden\x1b[2J`, false, true},
		{"\x1b[1mours\x1b[0m", `\x1b[1mours\x1b[0m`, false, false},
		{"bad \xff\xfe utf", "bad \ufffd\ufffd utf", false, false},
		{"{\"a\": \"\u009b31m\x7f\"}\n", "{\"a\": \"\\u009b31m\\u007f\"}\n", true, false},
	} {
		for _, piece := range []int{1, 2, 3, 100} {
			var out bytes.Buffer
			w := &shown{to: &out, json: func() bool { return c.json }, colours: c.color}
			for rest := []byte(c.text); len(rest) > 0; {
				n := min(piece, len(rest))
				_, err := w.Write(rest[:n])
				require.NoError(t, err)
				rest = rest[n:]
			}
			require.Equal(t, c.want, out.String(), "in pieces of %d", piece)
			if c.json {
				require.True(t, json.Valid(out.Bytes()))
			}
		}
	}
}
