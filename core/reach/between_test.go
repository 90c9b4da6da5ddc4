package reach_test

import (
	"fmt"
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"go4.org/netipx"

	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/core/policy/policytest"
	"yellowfence.example/yfence/core/reach"
)

// Two segments with a router between them.
const yards = `{"hosts": [
 {"name": "pier", "roles": ["quayside"], "interfaces": [{"name": "eth0", "addresses": ["10.40.0.1/16", "fd40::1/64"]}]},
 {"name": "crane", "roles": ["quayside"], "interfaces": [{"name": "eth0", "addresses": ["10.40.0.2/16"]}]},
 {"name": "winch", "roles": ["quayside"], "interfaces": [{"name": "eth0", "addresses": ["10.40.0.3/16"]}]},
 {"name": "gate", "roles": ["gates"], "interfaces": [
   {"name": "eth0", "addresses": ["10.40.0.254/16"]}, {"name": "eth1", "addresses": ["10.60.0.254/16"]}]},
 {"name": "barn", "roles": ["hillside"], "interfaces": [{"name": "eth1", "addresses": ["10.60.0.9/16"]}]}]}`

const yardsPolicy = `policy yards language 1
segment quay = 10.40.0.0/16, fd40::/64
segment hill = 10.60.0.0/16
network office = 198.51.100.0/24
role quayside { inbound closed outbound closed }
role gates { inbound closed outbound open forward closed }
role hillside { inbound closed outbound closed }
`

// yard is a policy for the yards, to be asked about parties by name: a host's, or an address that is nobody's.
type yard struct {
	*reach.Reach
	t   *testing.T
	sp  *packet.Space
	pol *policy.Policy
}

const noon = 1795564800 // in seconds since 1970: what a policy says of times, it says of this one here

func newYard(t *testing.T, rules string) yard {
	t.Helper()
	pol, sp := policytest.Resolve(t, yards, yardsPolicy+rules), packet.NewSpace()
	return yard{reach.New(sp, pol, noon), t, sp, pol}
}

func (y yard) hosts(names ...string) (out []*fleet.Host) {
	for _, name := range names {
		out = append(out, y.pol.Fleet.Host(name))
	}
	return out
}

func (y yard) roles(name string) (out []*policy.Role) {
	for _, r := range y.pol.Roles {
		if r.Name == name {
			out = append(out, r)
		}
	}
	require.Len(y.t, out, 1)
	return out
}

func (y yard) party(name string) reach.Party {
	if h := y.pol.Fleet.Host(name); h != nil {
		return y.Parties(policy.SideOf([]*fleet.Host{h}))[0]
	}
	return reach.Party{Addrs: packet.Prefixes(netip.MustParsePrefix(name + "/32"))}
}

// connection is the first packet of a connection between two: TCP, to a port, by the interfaces on which they know
// each other, or any where they do not.
func (y yard) connection(from, to string, port int) packet.Packet {
	sport := 50_000
	p := packet.Packet{Family: "ipv4", Protocol: "tcp", SrcPort: &sport, DstPort: &port, State: "new", In: "eth9", Out: "eth9"}
	for _, end := range []struct {
		name  string
		addr  *netip.Addr
		iface *string
	}{{from, &p.Src, &p.Out}, {to, &p.Dst, &p.In}} {
		if h := y.pol.Fleet.Host(end.name); h != nil {
			*end.addr, *end.iface = h.Interfaces[0].Addresses[0].Addr(), h.Interfaces[0].Name
		} else {
			*end.addr = netip.MustParseAddr(end.name)
		}
	}
	return p
}

// says is an outcome in words: what becomes of a packet, owed to whom, and at which end.
func (y yard) says(o packet.Outcome) string {
	by, known := y.Decider(o.By)
	if !known {
		return o.Verdict.String()
	}
	return fmt.Sprintf("%s, %s, %s", o.Verdict, by, by.Direction)
}

// TestBetween: what becomes of one new connection, and who decides it at which end.
func TestBetween(t *testing.T) {
	const both = "allow tally: quayside -> hillside : tcp 443  through gates\n"
	for _, c := range []struct {
		name, rules, from, to string
		port                  int
		want                  string
	}{
		{"nothing is said of it: the sender refuses", "", "pier", "crane", 443, "dropped, stance outbound closed, outbound"},
		{"both ends admit", "allow tally: quayside -> quayside : tcp 443\n", "pier", "crane", 443, "admitted, allow tally, inbound"},
		{"another port", "allow tally: quayside -> quayside : tcp 443\n", "pier", "crane", 80, "dropped, stance outbound closed, outbound"},
		{"the sender is nobody's: the receiver decides", "allow desk: office -> quayside : tcp 443\n", "198.51.100.7", "pier", 443,
			"admitted, allow desk, inbound"},
		{"a stranger", "allow desk: office -> quayside : tcp 443\n", "203.0.113.7", "pier", 443, "dropped, stance inbound closed, inbound"},
		{"the receiver is nobody's: the sender decides", "allow desk: quayside -> office : tcp 25\n", "pier", "198.51.100.7", 25,
			"admitted, allow desk, outbound"},
		{"neither is ours", both, "198.51.100.7", "203.0.113.7", 443, "admitted"},
		{"a block at both ends is the sender's", "allow tally: quayside -> quayside : any\nblock no-mail: quayside -> quayside : tcp 25\n",
			"pier", "crane", 25, "dropped, block no-mail, outbound"},
		{"an exception to it", "allow tally: quayside -> quayside : tcp 25  over no-mail\nblock no-mail: quayside -> quayside : tcp 25\n",
			"pier", "crane", 25, "admitted, allow tally, inbound"},
		{"a router on the way admits what the rule says goes through it", both, "pier", "barn", 443, "admitted, allow tally, inbound"},
		{"a router has a say without through only where a rule or a join names it",
			"allow tally: quayside -> hillside : tcp 443\n", "pier", "barn", 443, "admitted, allow tally, inbound"},
		{"a router refuses", both + "allow also: quayside -> hillside : any\nblock shut: 10.40.0.0/16 -> 10.60.0.0/16 : tcp 443  through " +
			"gates\n",
			"pier", "barn", 443, "dropped, block shut, forward"},
		{"what a join says goes by the router, with what every rule says",
			"join quay, hill through gates\nallow tally: quayside -> hillside : tcp 443\n", "pier", "barn", 443,
			"admitted, allow tally, inbound"},
		{"it has ended", "allow tally: quayside -> quayside : tcp 443  until 2026-11-01\n", "pier", "crane", 443,
			"dropped, stance outbound closed, outbound"},
		{"it is off", "off allow tally: quayside -> quayside : tcp 443\n", "pier", "crane", 443,
			"dropped, stance outbound closed, outbound"},
		{"the other end's role is what counts", "allow tally: quayside -> hillside : tcp 443\n", "pier", "crane", 443,
			"dropped, stance outbound closed, outbound"},
		{"a host by name", "allow tally: host pier -> host crane : tcp 443\n", "winch", "crane", 443,
			"dropped, stance outbound closed, outbound"},
	} {
		t.Run(c.name, func(t *testing.T) {
			y := newYard(t, c.rules)
			from, to := y.party(c.from), y.party(c.to)
			p := y.connection(c.from, c.to, c.port)
			d := y.Between(from, to)
			require.Equal(t, c.want, y.says(y.sp.Outcome(d, p)), "%s", p)
			require.Equal(t, d, y.Between(from, to), "it is worked out once")

			// Whoever asks about what is sent to that port alone hears the same.
			about := y.About(y.sp.And(y.sp.Value(packet.Protocol, packet.TCP), y.sp.Value(packet.DstPort, c.port)))
			again := yard{about, t, y.sp, y.pol}
			require.Equal(t, c.want, again.says(y.sp.Outcome(about.Between(from, to), p)))
		})
	}
}

// TestParties: a side falls into hosts that are treated alike, and what is nobody's; an address of a host is that
// host's, however it is named.
func TestParties(t *testing.T) {
	y := newYard(t, "allow tally: quayside -> host crane : tcp 443\nallow lamp: everywhere -> gates : tcp 9100\n")
	said := func(s policy.Side) (out []string) {
		for _, p := range y.Parties(s) {
			var names []string
			for _, h := range p.Hosts {
				names = append(names, h.Name)
			}
			require.Equal(t, p.Ours(), len(names) > 0)
			size := "many"
			if ranges := p.Addrs.Ranges(); len(ranges) == 1 && ranges[0].From() == ranges[0].To() {
				size = ranges[0].From().String()
			}
			out = append(out, strings.TrimSpace(strings.Join(names, "+")+" "+size))
		}
		return out
	}
	addresses := func(prefixes ...string) policy.Side {
		var s policy.Side
		for _, p := range prefixes {
			s.Addrs = packet.Union(packet.Prefixes(netip.MustParsePrefix(p)), packet.Union(s.Addrs, &netipx.IPSet{}))
		}
		return s
	}
	for _, c := range []struct {
		name string
		side policy.Side
		want []string
	}{
		{"one host", policy.SideOf(y.hosts("barn")), []string{"barn 10.60.0.9"}},
		{"what has the same rules is together, and the one that a rule names is apart", policy.SideOf(y.hosts("pier", "crane", "winch")),
			[]string{"pier+winch many", "crane 10.40.0.2"}},
		{"nobody's", addresses("198.51.100.7/32"), []string{"198.51.100.7"}},
		{"a host's, by its address", addresses("10.40.0.2/32"), []string{"crane 10.40.0.2"}},
		{"a network with hosts in it", addresses("10.60.0.0/16"), []string{"gate 10.60.0.254", "barn 10.60.0.9", "many"}},
		{"nothing", policy.Side{Addrs: &netipx.IPSet{}}, nil},
	} {
		require.Equal(t, c.want, said(c.side), c.name)
	}
}

// TestRoutersHaveASay: what routers do with what a rule or a join has go through them, asked about by themselves and
// where neither end is ours.
func TestRoutersHaveASay(t *testing.T) {
	y := newYard(t, "allow tally: quayside -> hillside : tcp 443  through gates\n"+
		"allow desk: office -> hill : tcp 8443  through gates\nblock dark: office -> hill : tcp 8444  through gates\n")
	gate := y.party("gate")
	require.Len(t, y.Routes(), 3)
	for _, route := range y.Routes() {
		require.Equal(t, []*fleet.Host{y.pol.Fleet.Host("gate")}, route.Routers[0].Hosts)
	}
	for _, c := range []struct {
		from, to string
		port     int
		in, out  string
		want     string
	}{
		{"pier", "barn", 443, "eth0", "eth1", "admitted, allow tally, forward"},
		{"pier", "barn", 444, "eth0", "eth1", "dropped, stance forward closed, forward"},
		{"198.51.100.7", "barn", 8443, "", "", "admitted, allow desk, forward"},
		{"198.51.100.7", "barn", 8444, "", "", "dropped, block dark, forward"},
		{"198.51.100.7", "10.60.7.7", 8443, "eth0", "eth1", "admitted, allow desk, forward"},
		{"barn", "pier", 443, "eth1", "eth0", "dropped, stance forward closed, forward"},
	} {
		p := y.connection(c.from, c.to, c.port)
		require.Equal(t, c.want, y.says(y.sp.Outcome(y.Forwards(gate, c.in, c.out), p)), "%s", p)
	}
	forwarded := y.Forwarded("", "")
	require.Equal(t, "admitted, allow desk, forward", y.says(y.sp.Outcome(forwarded, y.connection("198.51.100.7", "10.60.7.7", 8443))))
	require.Equal(t, "admitted", y.says(y.sp.Outcome(forwarded, y.connection("198.51.100.7", "10.60.7.7", 22))), "no rule has it go there")

	// A router may refuse what both ends admit: it depends on whether it is on the way, unless it always is.
	ends := newYard(t, "allow tally: quayside -> hillside : tcp 443\n")
	pier, barn := ends.party("pier"), ends.party("barn")
	d := ends.Between(pier, barn)
	gates := ends.roles("gates")
	may, must := ends.Through(gates, d, false), ends.Through(gates, d, true)
	here := ends.sp.AndAll(ends.Addressed(pier, barn), ends.sp.Value(packet.Protocol, packet.TCP), ends.sp.Value(packet.DstPort, 443),
		ends.sp.Value(packet.State, packet.New), ends.Expected(pier, barn))
	refused := func(d packet.Decision) packet.Set { return ends.sp.And(here, ends.sp.Where(d, packet.Outcome.Refused)) }
	require.Equal(t, packet.Empty, refused(d))
	require.Equal(t, here, refused(may), "by whichever of its interfaces")
	require.NotEqual(t, packet.Empty, refused(must))
	require.NotEqual(t, here, refused(must), "it may not be on the way at all")
	none := ends.Through([]*policy.Role{{Name: "nobody"}}, d, false)
	require.Equal(t, d, none, "a role without hosts hinders nobody")
}

// TestWhoIsRedirected: a connection that a host gives to another is decided by that one, by the port it gets.
func TestWhoIsRedirected(t *testing.T) {
	y := newYard(t, "redirect door: office -> host pier : tcp 80 to host crane : tcp 8080\n"+
		"redirect catch: hill -> everywhere : tcp 25 through gates to tcp 2525\n"+
		"allow site: office -> quayside : tcp 80, 8080\nallow mail: hill -> gates : tcp 2525\n")
	redirects := y.Redirects()
	require.Len(t, redirects, 2)
	require.False(t, redirects[0].Intercepts())
	require.True(t, redirects[1].Intercepts())
	require.Equal(t, "crane", redirects[0].Targets[0].Hosts[0].Name)
	require.Empty(t, redirects[1].Targets, "the router itself takes them")
	visitor := y.party("198.51.100.7")
	require.True(t, y.sp.Has(redirects[0].Packets, y.connection("198.51.100.7", "pier", 80)))
	require.False(t, y.sp.Has(redirects[0].Packets, y.connection("198.51.100.7", "pier", 81)))
	for port, want := range map[int]string{80: "admitted, allow site, inbound", 81: "dropped, stance inbound closed, inbound"} {
		require.Equal(t, want, y.says(y.sp.Outcome(y.Between(visitor, y.party("pier")), y.connection("198.51.100.7", "pier", port))))
	}
	shut := newYard(t, "redirect door: office -> host pier : tcp 80 to host crane : tcp 8080\nallow site: office -> host pier : tcp 80\n")
	require.Equal(t, "dropped, stance inbound closed, inbound",
		shut.says(shut.sp.Outcome(shut.Between(visitor, shut.party("pier")), shut.connection("198.51.100.7", "pier", 80))),
		"crane does not take it")
	require.Equal(t, y.Reach, y.About(y.sp.Value(packet.DstPort, 80)), "who redirects gives packets another port than was asked about")
}

// TestByWhichInterfaces: between two hosts a packet goes by the interfaces on the segment that they share, if they do.
func TestByWhichInterfaces(t *testing.T) {
	y := newYard(t, "allow tally: quayside -> gates : tcp 443  on quay\n")
	pier, gate, barn := y.party("pier"), y.party("gate"), y.party("barn")
	expected := y.Expected(pier, gate)
	quay := y.pol.Segments()[0]
	require.Equal(t, "quay", quay.Name)
	onSegment := y.OnSegment(quay, pier, gate)
	for _, c := range []struct {
		in                  string
		expected, onSegment bool
	}{{"eth0", true, true}, {"eth1", false, false}, {"lo", false, false}} {
		p := y.connection("pier", "gate", 443)
		p.In = c.in
		require.Equal(t, c.expected, y.sp.Has(expected, p), c.in)
		require.Equal(t, c.onSegment, y.sp.Has(onSegment, p), c.in)
	}
	for _, in := range []string{"eth0", "eth1"} { // a stranger is on none of its segments
		p := y.connection("198.51.100.7", "gate", 443)
		p.In = in
		require.True(t, y.sp.Has(y.Expected(y.party("198.51.100.7"), gate), p), in)
	}
	require.False(t, y.sp.Has(onSegment, y.connection("barn", "gate", 443)), "barn is not on the quay")
	require.True(t, y.sp.Has(y.Addressed(barn, gate), y.connection("barn", "gate", 443)))
	require.False(t, y.sp.Has(y.Addressed(gate, barn), y.connection("barn", "gate", 443)))
}
