package live_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/ask"
	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/internal/live"
)

// found reads what a host had in force that an administrator wrote by hand.
func found(t testing.TB, sp *packet.Space, host string) (packet.Decision, func(question string) *ask.Answer) {
	t.Helper()
	f := foundFiles(t, host)
	f.Complete = true
	rs, err := live.Read(sp, f)
	require.NoError(t, err)
	pol, _ := policy.Resolve(policy.Input{Fleet: &fleet.Fleet{}})
	return rs.Decision(sp), func(question string) *ask.Answer {
		q, problems := fence.ParseQuestion(question)
		require.Empty(t, problems, question)
		a, problems := ask.Dump(sp, pol, rs, q, 0)
		require.Empty(t, problems, question)
		return a
	}
}

// TestFoundIsUnderstood: rulesets as administrators write them are read with
// nothing uncertain, and say of packets what their authors would.
func TestFoundIsUnderstood(t *testing.T) {
	for host, answers := range map[string][]struct{ question, want string }{
		"login-first": {
			{"192.0.2.1 -> 203.0.113.1 : ssh", "admitted"},
			{"2001:db8::5 -> fd40::1 : icmpv6 1", "admitted"},
			{"192.0.2.1 -> 203.0.113.1 : udp 161", "dropped"},
			{"10.40.3.1 -> 10.40.0.1 : udp 161", "admitted"},
			{"through 192.0.2.1 -> 10.40.3.1 : ssh", "dropped"},
		},
		"drop-last": {
			{"198.51.100.7 -> 203.0.113.1 : postgresql", "admitted"},
			{"198.51.100.8 -> 203.0.113.1 : postgresql", "dropped"},
			{"192.0.2.1 -> 203.0.113.1 : udp 33440", "rejected"},
			{"out 203.0.113.1 -> 192.0.2.1 : smtp user backup", "admitted"},
			{"out 203.0.113.1 -> 192.0.2.1 : smtp user www", "rejected"},
		},
		"mail-server": {
			{"192.0.2.1 -> 203.0.113.1 : smtp", "dropped"},
			{"198.51.100.7 -> 203.0.113.1 : tcp 587", "admitted"},
			{"192.0.2.200 -> 203.0.113.1 : tcp 113", "rejected"},
			{"10.40.3.1 -> 203.0.113.1 : ssh", "admitted"}, // while it has not tried too often
			{"out 203.0.113.1 -> 192.0.2.1 : smtp user www", "rejected"},
		},
		"nat-gateway": {
			{"in at wan0 192.0.2.1 -> 203.0.113.1 : https", "admitted"}, // by the host behind
			{"in at wan0 192.0.2.1 -> 203.0.113.1 : ssh", "dropped"},
			{"through from eth1 to wan0 10.60.3.1 -> 192.0.2.1 : ssh", "rejected"},
			{"through from eth1 to wan0 10.60.3.1 -> 192.0.2.1 : https", "admitted"},
			{"through from wan0 to eth0 192.0.2.1 -> 10.40.3.9 : tcp 8443", "rejected"}, // it was not translated
		},
		"intercepting-proxy": {
			{"through from eth0 to wan0 10.40.3.7 -> 192.0.2.1 : tcp 80", "admitted"}, // by the proxy
			{"through from eth1 to wan0 10.60.3.7 -> 192.0.2.1 : tcp 8080", "dropped"},
			{"through from eth0 to wan0 10.40.3.7 -> 198.51.100.9 : tcp 80", "admitted"},
			{"in at wan0 192.0.2.1 -> 203.0.113.1 : tcp 49500", "dropped"},
		},
		"guest-host": {
			{"in at wan0 192.0.2.1 -> 203.0.113.1 : https", "admitted"},
			{"in at wan0 192.0.2.1 -> 203.0.113.1 : postgresql", "dropped"},
			{"in at eth0 10.40.3.1 -> 203.0.113.1 : postgresql", "admitted"},
			{"through from wan0 to guest1 192.0.2.1 -> 172.30.1.2 : tcp 22", "dropped"},
			{"through from guest1 to wan0 172.30.1.2 -> 192.0.2.1 : any", "admitted"},
		},
		"edge-router": {
			{"in at wan0 198.51.100.7 -> 203.0.113.1 : https", "admitted"},
			{"in at wan0 10.40.3.1 -> 203.0.113.1 : https", "dropped"}, // it cannot come from there
			{"in at wan0 198.51.100.70 -> 203.0.113.1 : https", "dropped"},
			{"through from eth1 to eth0 10.60.3.1 -> 10.40.3.1 : ssh", "rejected"},
			{"in at eth0 10.40.3.1 -> 10.40.0.1 : domain", "admitted"},
		},
		"database": {
			{"10.40.3.7 -> 10.40.0.1 : postgresql", "admitted"},
			{"10.60.3.7 -> 10.40.0.1 : postgresql", "rejected"},
			{"out 10.40.0.1 -> 10.60.3.1 : rsync user backup", "admitted"},
			{"out 10.40.0.1 -> 10.60.3.1 : rsync user www", "dropped"},
		},
		"name-server": {
			{"192.0.2.1 -> 203.0.113.1 : udp 53", "admitted"},
			{"192.0.2.1 port 53 -> 203.0.113.1 : udp 40000", "admitted"},
			{"192.0.2.1 -> 203.0.113.1 : udp 123", "rejected"},
			{"10.40.3.5 -> 10.40.0.1 : ssh", "admitted"},
		},
		"tunnel-end": {
			{"in at wan0 192.0.2.1 -> 203.0.113.1 : tcp 1500 encrypted", "admitted"},
			{"in at wan0 192.0.2.1 -> 203.0.113.1 : tcp 1500", "mixed"},
			{"in at eth0 10.40.3.1 -> 10.40.0.1 : ssh", "admitted"},
			{"through from wan0 to eth0 192.0.2.1 -> 10.40.3.1 : ssh encrypted", "admitted"},
			{"out 203.0.113.1 -> 192.0.2.1 : https user root", "admitted"},
		},
	} {
		t.Run(host, func(t *testing.T) {
			sp := packet.NewSpace()
			d, answer := found(t, sp, host)
			doubts := sp.UnknownsOf(sp.Where(d, func(o packet.Outcome) bool { return o.Verdict == packet.Admit }))
			require.Empty(t, doubts, strings.Join(doubts, "\n"))
			for _, c := range answers {
				require.Equal(t, c.want, answer(c.question).Verdict, c.question)
			}
		})
	}
}
