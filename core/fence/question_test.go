package fence

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"yellowfence.example/yfence/core/packet"
)

func TestQuestions(t *testing.T) {
	for _, c := range []struct{ text, want string }{
		{"office -> charts-01 : https", "office -> charts-01 : https state new"},
		{"in at eth1 10.40.3.31 -> 10.40.3.40 : tcp 5432 state established",
			"in at eth1 10.40.3.31 -> 10.40.3.40 : tcp 5432 state established"},
		{"out at wan0 host a.example -> everywhere : any", "out to wan0 host a.example -> everywhere : any state new"},
		{"through from eth0 to wan0 10.0.0.0/8 port 53 -> strangers : udp 1-5",
			"through at eth0 to wan0 10.0.0.0/8 port 53-53 -> strangers : udp 1-5 state new"},
		{"db.example.test -> fleet : ping user www-data unit web.service encrypted",
			"db.example.test -> fleet : ping state new user www-data unit web.service encrypted"},
		{"10.0.0.1-10.0.0.9, red except 10.0.0.3 -> blue, green : ssh, domain",
			"10.0.0.1-10.0.0.9, red except 10.0.0.3 -> blue, green : ssh, domain state new"},
		{"fd40::1 port 1000-2000 -> fd40::2 : icmpv6 128", "fd40::1 port 1000-2000 -> fd40::2 : icmpv6 128 state new"},

		{"", `1:1 syntax: expected a role, network, segment, host NAME, address, fleet, everywhere or strangers, found the end of ` +
			`the file`},
		{"a b", `1:3 syntax: expected "->", found "b"`},
		{"a -> b", `1:7 syntax: expected ":" and a service, found the end of the file`},
		{"a -> b : ssh now", "1:14 syntax: expected state, user, unit, encrypted or the end, found \"now\""},
		{"a -> b : ssh state old", `1:20 syntax: expected "new" or "established" or "related" or "invalid" or "untracked", found "old"`},
		{"a -> 10.0.0.1/33 : ssh", `1:6 address: "10.0.0.1/33" is not a prefix`},
		{"a -> b : tcp 65536", "1:14 port: expected a port, found \"65536\""},
		{"a port x -> b : ssh", `1:8 port: expected a port or a range of ports, found "x"`},
	} {
		q, problems := ParseQuestion(c.text)
		var got []string
		if problems == nil {
			got = append(got, sayQuestion(q))
		}
		for _, p := range problems {
			got = append(got, fmt.Sprintf("%d:%d %s: %s", p.Line, p.Column, p.Code, p.Message))
		}
		require.Equal(t, c.want, strings.Join(got, "\n"), c.text)
	}
}

func sayQuestion(q *Question) string {
	var parts []string
	add := func(format string, args ...any) { parts = append(parts, fmt.Sprintf(format, args...)) }
	if q.Direction != "" {
		add("%s", q.Direction)
	}
	if q.In != "" {
		add("at %s", q.In)
	}
	if q.Out != "" {
		add("to %s", q.Out)
	}
	add("%s", q.From.String())
	if q.SrcPort != nil {
		add("port %d-%d", q.SrcPort.Lo, q.SrcPort.Hi)
	}
	add("-> %s : %s state %s", q.To.String(), services(q.Services), q.State)
	if q.User != "" {
		add("user %s", q.User)
	}
	if q.Unit != "" {
		add("unit %s", q.Unit)
	}
	if q.Encrypted {
		add("encrypted")
	}
	return strings.Join(parts, " ")
}

func FuzzParseQuestion(f *testing.F) {
	f.Add("in at eth1 10.40.3.31 port 1-2 -> db.example : tcp 5432, any state new user a unit b encrypted")
	f.Add("through from a to b \"x\" -> : {")
	f.Fuzz(func(t *testing.T, text string) {
		q, problems := ParseQuestion(text)
		require.NotNil(t, q)
		for _, p := range problems {
			require.Positive(t, p.Column)
		}
	})
}

// TestConnection: a question that is made asks what one that is written asks.
func TestConnection(t *testing.T) {
	for _, c := range []struct {
		from, to string
		service  ServiceTerm
		text     string
	}{
		{"charts-01", "10.40.1.21", PortTerm(packet.TCP, 443), "charts-01 -> 10.40.1.21 : tcp 443"},
		{"10.60.0.9", "fd40::1:21", PortTerm(packet.UDP, 53), "10.60.0.9 -> fd40::1:21 : udp 53"},
		{"web.saltmarsh.example", "192.0.2.7", ServiceTerm{Name: "ping", Text: "ping"}, "web.saltmarsh.example -> 192.0.2.7 : ping"},
	} {
		written, problems := ParseQuestion(c.text)
		require.Empty(t, problems)
		made := Connection(c.from, c.to, c.service)
		require.Equal(t, written.From.String()+" "+written.To.String(), made.From.String()+" "+made.To.String())
		for i, of := range [][2]Peer{{written.From.Items[0], made.From.Items[0]}, {written.To.Items[0], made.To.Items[0]}} {
			require.Equal(t, of[0].Kind, of[1].Kind, "%s side %d", c.text, i)
			require.Equal(t, of[0].Name, of[1].Name)
			require.Equal(t, of[0].Addr == nil, of[1].Addr == nil)
		}
		require.Equal(t, written.Services[0].Text, made.Services[0].Text)
		require.Equal(t, written.Services[0].Ports, made.Services[0].Ports)
		require.Equal(t, written.Services[0].Protocols, made.Services[0].Protocols)
		require.Equal(t, written.State, made.State)
	}
}
