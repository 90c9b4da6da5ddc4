package check_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/check"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/policy/policytest"
)

const head = "policy p language 1\nrole red\nrole blue\nrole green\nnetwork vpn = 198.51.100.0/25\nsegment quay = 10.40.0.0/16 local\n"

// now is when the tests play: 2026-11-25.
const now = 1795564800

func problems(t *testing.T, fleetJSON, text string) []string {
	t.Helper()
	fl, found := fleet.ReadJSON("fleet.json", []byte(fleetJSON))
	require.Empty(t, found)
	_, found = check.Policy([]check.Source{{Name: "p.fence", Text: head + text}}, fl, now)
	var got []string
	for _, p := range found {
		s := fmt.Sprintf("%s:%d %s %s: %s", p.File, p.Line, p.Severity, p.Code, p.Message)
		if p.Packet != nil {
			s += " [" + p.Packet.String() + "]"
		}
		got = append(got, s)
	}
	return got
}

func TestTheWayIn(t *testing.T) {
	const sound = "allow way-in: vpn -> red : ssh guard\nallow hop: red -> fleet : ssh guard\n"
	for _, c := range []struct {
		what, text string
		want       []string
	}{
		{"sound: from outside to red, from red to all; forged sources on the local segment are no matter", sound, nil},
		{"no guard at all", "allow way-in: vpn -> red : ssh\n", []string{"p.fence:7 error no-guard: no rule of this policy is a guard, so nothing keeps a way in"}},
		{"a block in the way", sound + "block b: everywhere -> blue : ssh\n",
			[]string{`p.fence:7 error guard-refused: the guard "way-in" is refused on h2 inbound: block b stands in its way [tcp 198.51.100.7 port 50000 -> 10.40.3.1 port 22 in by eth0]`,
				`p.fence:8 error guard-refused: the guard "hop" is refused on h2 inbound: block b stands in its way [tcp 198.51.100.7 port 50000 -> 10.40.3.1 port 22 in by eth0]`}},
		{"an exception to it", "allow way-in: vpn -> red : ssh guard over b\nallow hop: red -> fleet : ssh guard over b\nblock b: everywhere -> blue : ssh\n", nil},
		{"a block on the way out", sound + "block b: red -> host h4 : any\n",
			[]string{`p.fence:8 error guard-refused: the guard "hop" is refused on h4 inbound: block b stands in its way [tcp 198.51.100.7 port 50000 -> 203.0.113.9 port 22 in by wan0]`,
				`p.fence:8 error guard-refused: the guard "hop" is refused on h1 outbound: block b stands in its way [tcp 10.40.0.1 port 50000 -> 203.0.113.9 port 22 out by eth0]`}},
		{"a host that no guard reaches", "allow way-in: vpn -> red : ssh guard\nallow hop: red -> blue : ssh guard\n",
			[]string{`fleet.json:5 error no-way-in: no chain of guards reaches the host "h4"`}},
		{"a chain that begins nowhere", "allow way-in: vpn -> red : ssh guard\nallow hop: red -> blue : ssh guard\nallow own: green -> green : ssh guard\n",
			[]string{`fleet.json:5 error no-way-in: no chain of guards reaches the host "h4"`}},
		{"a segment that a host is not on", "allow way-in: vpn -> red : ssh guard\nallow hop: red -> fleet : ssh on quay guard\nallow far: red -> host h4 : ssh guard\n",
			[]string{`fleet.json:4 error no-way-in: no chain of guards reaches the host "h3"`}},
	} {
		require.Equal(t, c.want, problems(t, policytest.Fleet, c.text), c.what)
	}
	own := strings.Replace(policytest.Fleet, `"roles": ["green"],`, `"roles": ["green"], "own_console": true,`, 1)
	require.Equal(t, []string{`fleet.json:5 warning no-way-in: no chain of guards reaches the host "h4"`},
		problems(t, own, "allow way-in: vpn -> red : ssh guard\nallow hop: red -> blue : ssh guard\n"), "a host with a console of its own")
}

func TestSummary(t *testing.T) {
	require.Equal(t, "no problems", check.Summary(nil))
}

func TestEveryCheckIsDocumented(t *testing.T) {
	for _, c := range check.Checks {
		require.Greater(t, len(c.Doc), 200, c.Code)
		require.True(t, strings.HasSuffix(c.Doc, "\n"), c.Code)
	}
}
