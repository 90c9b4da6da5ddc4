package traffic

import (
	"cmp"
	"fmt"
	"iter"
	"net/netip"
	"slices"
	"strings"

	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
)

// A Group is flows that are told as one: from one end to another, to one port.
type Group struct {
	Direction string   `json:"direction" enum:"in,out,through"`
	From      End      `json:"from"`
	To        End      `json:"to"`
	Service   string   `json:"service" doc:"as a policy writes it; many ports is a search for open ones"`
	Times     int64    `json:"times" doc:"packets that were refused, of those that the kernel told; or connections"`
	First     int64    `json:"first" doc:"in seconds since 1970"`
	Last      int64    `json:"last"`
	Senders   []Sender `json:"senders" nullable:"false" doc:"the most frequent, by address"`
	SendersOf int      `json:"senders_of" doc:"how many there are"`
	Hosts     []string `json:"hosts" nullable:"false" doc:"that told it, the first few"`
	HostsOf   int      `json:"hosts_of" doc:"how many there are"`

	protocol, port int
	flow           Flow // the latest of them
	host           *fleet.Host
	senders        map[netip.Prefix]int64
	receivers      map[netip.Prefix]bool
	hosts          map[string]bool
}

// A Sender is an address and how often it sent.
type Sender struct {
	Address netip.Prefix `json:"address"`
	Times   int64        `json:"times"`
}

// A span is since when flows of a fleet's hosts are looked at, and in whose records.
type span struct {
	pol     *policy.Policy
	records map[string]*Record // by host
	since   int64
}

// A timed flow is one with how often it was in a span.
type timed struct {
	Sum
	times int64
}

// refused and seen are the flows of each kind that there were in the span, by the hosts that told them,
// in the fleet's order.
func (s span) refused() iter.Seq2[*fleet.Host, timed] {
	return s.each(func(r *Record) *Sums { return r.Refused })
}

func (s span) seen() iter.Seq2[*fleet.Host, timed] {
	return s.each(func(r *Record) *Sums { return r.Seen })
}

// each goes over one kind of flows.
func (s span) each(kind func(*Record) *Sums) iter.Seq2[*fleet.Host, timed] {
	return func(yield func(*fleet.Host, timed) bool) {
		for _, h := range s.pol.Fleet.Hosts {
			r := s.records[h.Name]
			if r == nil {
				continue
			}
			for _, sum := range kind(r).All() {
				if n := sum.Since(Day(s.since)); n > 0 && sum.Last >= s.since && !yield(h, timed{sum, n}) {
					return
				}
			}
		}
	}
}

// mostShown is how many senders, and hosts, of a group are named.
const mostShown = 5

// group is the group that a flow is of, at a host that told it.
func (e *ends) group(h *fleet.Host, f Flow) Group {
	g := Group{Direction: f.Direction, protocol: f.Protocol, port: f.Port, senders: map[netip.Prefix]int64{},
		receivers: map[netip.Prefix]bool{}, hosts: map[string]bool{}}
	g.From, _ = e.of(f.Src)
	g.To, _ = e.of(f.Dst)
	switch f.Direction { // what is sent to all on a segment is sent to this host too
	case packet.Inbound.Word():
		g.To = End{Ours, e.role(h)}
	case packet.Outbound.Word():
		g.From = End{Ours, e.role(h)}
	}
	return g
}

// String is the group as a question has it: "watch -> depot : tcp 9443".
func (g *Group) String() string { return g.From.Name + " -> " + g.To.Name + " : " + g.Service }

// key is what tells a group from others.
func (g *Group) key() string {
	return fmt.Sprint(g.Direction, "\n", g.From.Name, "\n", g.To.Name, "\n", g.protocol, " ", g.port)
}

// add adds a flow that a host told.
func (g *Group) add(h *fleet.Host, s timed) {
	if g.Times == 0 || s.First < g.First {
		g.First = s.First
	}
	if g.Times += s.times; s.Last >= g.Last {
		g.Last, g.flow, g.host = s.Last, s.Flow, h
	}
	g.senders[s.Src] += s.times
	g.receivers[s.Dst] = true
	g.hosts[h.Name] = true
}

// finish says what is known of a group only once all of it is there, and gives all senders.
func (g *Group) finish(pol *policy.Policy) (every []Sender) {
	for at, n := range g.senders {
		every = append(every, Sender{at, n})
	}
	slices.SortFunc(every, func(a, b Sender) int { return cmp.Or(cmp.Compare(b.Times, a.Times), a.Address.Compare(b.Address)) })
	for name := range g.hosts {
		g.Hosts = append(g.Hosts, name)
	}
	slices.Sort(g.Hosts)
	g.SendersOf, g.HostsOf = len(every), len(g.Hosts)
	g.Senders, g.Hosts = every[:min(len(every), mostShown)], g.Hosts[:min(len(g.Hosts), mostShown)]
	if g.port == ManyPorts {
		g.Service = "many ports of " + packet.ProtocolName(g.protocol)
	} else {
		g.Service = serviceOf(pol, g.protocol, g.port).Text
	}
	return every
}

// rule is the allow that admits a group, with a name that says which it is.
func (g *Group) rule(senders []Sender, pol *policy.Policy) *fence.Rule {
	var sources, targets []netip.Prefix
	for _, s := range senders {
		sources = append(sources, s.Address)
	}
	for at := range g.receivers {
		targets = append(targets, at)
	}
	slices.SortFunc(targets, netip.Prefix.Compare)
	term := serviceOf(pol, g.protocol, g.port)
	plain := strings.NewReplacer("host ", "", " ", "-", ".", "-")
	rule := &fence.Rule{Ident: fence.Ident{Name: plain.Replace(g.From.Name + "-to-" + g.To.Name + "-" + term.Text)},
		From: peersOf(g.From, sources), To: peersOf(g.To, targets), Services: []fence.ServiceTerm{term}}
	if g.Direction == packet.Forward.Word() && len(g.host.Roles) > 0 {
		rule.Through = []fence.Ident{{Name: g.host.Roles[0]}}
	}
	return rule
}

// serviceOf is a service as a policy writes it.
func serviceOf(pol *policy.Policy, protocol, port int) fence.ServiceTerm {
	for _, s := range pol.Services { // its own name for it before what others call it
		if len(s.Terms) != 1 || s.Terms[0].Not != nil || !slices.Contains(packet.PortProtocols, protocol) {
			continue
		}
		if t := s.Terms[0]; t.Protocol == protocol && t.Ports == (packet.PortRange{Lo: port, Hi: port}) {
			return fence.ServiceTerm{Name: s.Name, Text: s.Name}
		}
	}
	if name := pol.ServiceFor(protocol, port); name != "" && slices.Contains(packet.PortProtocols, protocol) {
		return fence.ServiceTerm{Name: name, Text: name}
	}
	switch {
	case slices.Contains(packet.PortProtocols, protocol):
		return fence.PortTerm(protocol, port)
	case protocol == packet.ICMP || protocol == packet.ICMPv6:
		return fence.ServiceTerm{Text: fmt.Sprint(packet.ProtocolName(protocol), " ", port)}
	}
	return fence.ServiceTerm{Text: fmt.Sprint("protocol ", protocol)}
}

// fewStrangers is how many addresses a rule lists before it names all strangers.
const fewStrangers = 5

// peersOf is an end as a rule writes it; of strangers, few are listed.
func peersOf(end End, addresses []netip.Prefix) fence.Peers {
	peer := func(kind fence.PeerKind, name string) fence.Peers {
		return fence.Peers{Items: []fence.Peer{{Kind: kind, Name: name, Text: end.Name}}}
	}
	host, isHost := strings.CutPrefix(end.Name, "host ")
	switch {
	case isHost:
		return peer(fence.HostPeer, host)
	case end.Who != Stranger:
		return peer(fence.NamedPeer, end.Name)
	case (len(addresses) == 0 || len(addresses) > fewStrangers) && end.Name != strangers:
		return peer(fence.NamedPeer, end.Name)
	case len(addresses) == 0 || len(addresses) > fewStrangers:
		return peer(fence.StrangersPeer, "")
	}
	var out fence.Peers
	for _, at := range addresses {
		text := at.String()
		if at.IsSingleIP() {
			text = at.Addr().String()
		}
		out.Items = append(out.Items, fence.Peer{Kind: fence.AddressPeer, Addr: &fence.AddrItem{Text: text}, Text: text})
	}
	return out
}

// opens says what a rule opens besides what the group is of.
func (g *Group) opens(e *ends, rule *fence.Rule) string {
	var more []string
	side := func(end End, peers fence.Peers, seen int, toOrFrom string) {
		switch total := e.sizes[end.Name]; {
		case end.Who == Ours && total > seen:
			more = append(more, fmt.Sprintf("%s %d more of the %d hosts of %s", toOrFrom, total-seen, total, end.Name))
		case end.Who != Ours && peers.Items[0].Kind == fence.NamedPeer:
			more = append(more, fmt.Sprintf("%s all of %s", toOrFrom, end.Name))
		case end.Who == Stranger && peers.Items[0].Kind == fence.StrangersPeer:
			more = append(more, toOrFrom+" everybody else who is a stranger")
		}
	}
	ours := func(of map[netip.Prefix]bool) int {
		hosts := map[*fleet.Host]bool{}
		for at := range of {
			if _, h := e.of(at); h != nil {
				hosts[h] = true
			}
		}
		return len(hosts)
	}
	senders := map[netip.Prefix]bool{}
	for at := range g.senders {
		senders[at] = true
	}
	from, to := ours(senders), ours(g.receivers)
	if g.Direction == packet.Inbound.Word() {
		to = g.HostsOf
	}
	if g.Direction == packet.Outbound.Word() {
		from = g.HostsOf
	}
	side(g.From, rule.From, from, "from")
	side(g.To, rule.To, to, "to")
	return strings.Join(more, ", and ")
}
