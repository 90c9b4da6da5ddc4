package cli_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/api"
)

// TestTheOnlyWayIn: a wave that changes the one host by which all others are logged in to needs no
// person where the policy lets the service show that the way in is open; and where it is shut the host
// goes back, as it does anywhere.
func TestTheOnlyWayIn(t *testing.T) {
	t.Parallel()
	p := newPier(t)
	p.begin()
	p.publish(pierPolicy + "allow watchman: 10.40.0.5 -> jump : ssh guard because \"the service shows that the way in is open\"\n")
	out, code := p.operate("waves", "start", "jump-01")
	require.Equal(t, 0, code, out)
	require.Contains(t, out, "jump-01        kept       the service opened a connection to 10.40.9.1:22")
	p.until("jump-01 is in step", func() bool { return p.status("jump-01").State == api.InStep })

	// Somebody else's rules shut the service's way in, which nothing of ours says.
	require.NoError(t, p.hosts["jump-01"].Load("table ip theirs {\n\tchain c {\n\t\ttype filter hook input priority 10; policy accept;\n"+
		"\t\tip saddr 10.40.0.5 tcp dport 22 drop\n\t}\n}\n"))
	p.publish(pierPolicy + "allow watchman: 10.40.0.5 -> jump : ssh guard\nallow more: charts -> jump : tcp 8095\n")
	out, code = p.operate("waves", "start", "jump-01")
	require.Equal(t, 1, code, out)
	require.Contains(t, out, "the way in is shut: a new connection from the service to 10.40.9.1:22 was silent")
	p.until("jump-01 went back", func() bool { return p.status("jump-01").State == api.WentBackState })
	require.NotContains(t, p.listing("jump-01"), "allow more")
	require.Contains(t, p.listing("jump-01"), "allow watchman")
}
