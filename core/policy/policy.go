package policy

import (
	"fmt"
	"slices"
	"strings"
	"sync"

	"go4.org/netipx"

	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/source"
)

// A Policy is all statements, resolved.
type Policy struct {
	Name        string
	Description string
	Fleet       *fleet.Fleet
	Networks    []*Network // and segments
	Roles       []*Role
	Rules       []*Rule // in the order of their places
	Ground      []GroundChange
	Expects     []*Expectation
	Leaves      []Leave
	Joins       []*Join
	Parts       []*Part
	By          []string // who may change what is of no part; nil is whoever may change the policy
	Redirects   []*Redirect
	Masquerades []*Masquerade
	Pos         source.Pos
	Services    []*Service
	Peers       []*Peers
	Strangers   *netipx.IPSet // whom `strangers` stands for

	asking sync.Mutex
	names  *resolver // knows what they stand for
}

// WaysIn is the policy with no rules but those that keep a way in: the ground, the
// stances and what is left to other programs stay as they are.
func (p *Policy) WaysIn() *Policy {
	bare := &Policy{Name: p.Name, Description: p.Description, Fleet: p.Fleet, Networks: p.Networks, Roles: p.Roles, Ground: p.Ground,
		Leaves: p.Leaves, Joins: p.Joins, Parts: p.Parts, By: p.By, Peers: p.Peers,
		Pos: p.Pos, Services: p.Services, Strangers: p.Strangers, names: p.names}
	for _, r := range p.Rules {
		if r.Guard {
			bare.Rules = append(bare.Rules, r)
		}
	}
	return bare
}

// A Service is a declared service.
type Service struct {
	Name  string
	Terms []Term
	Units []string // that serve it
	Pos   source.Pos
	Used  bool // a rule or another service names it
}

// Peers are declared peers.
type Peers struct {
	Name        string
	Description string
	Side        Side
	Pos         source.Pos
	Used        bool // something names it
	whole       bool // it is hosts of ours and nothing else
}

// A GroundChange turns a part of the ground off in a direction, or narrows it to peers.
type GroundChange struct {
	Role      *Role // on whose hosts; nil is all
	Part      string
	Direction packet.Direction
	Off       bool
	From      *netipx.IPSet // nil if it is off
}

// An Expectation is what must hold of all packets.
type Expectation struct {
	Name     string
	Kind     fence.Promise
	From, To Side
	Terms    []Term
	Services string // as a message says them
	Within   string
	On       []*Network // none if it says none
	Spans    []Span     // each within one of those it says; On is not looked at
	Through  []*Role    // whose hosts must let it pass, or may not, too
	BySteps  bool       // whoever may log in somewhere may go on from there
	Off      bool
	Pos      source.Pos
	Decl     *fence.Expectation
}

// A Leave is traffic of some hosts that other programs rule: what comes in, goes
// out or is forwarded by interfaces of those names, where * ends a prefix.
type Leave struct {
	Name       string
	hosts      map[*fleet.Host]bool // nobody while it is off
	Refs       []string             // the names it is made of
	Direction  packet.Direction
	Interfaces []string
	Pos        source.Pos
}

// Hosts are those whose traffic it leaves, or would if it were not off.
func (l *Leave) Hosts() (out []*fleet.Host) {
	for h := range l.hosts {
		out = append(out, h)
	}
	return out
}

// Concerns says that it leaves traffic of this host.
func (l *Leave) Concerns(h *fleet.Host) bool { return l.hosts[h] }

// A Network is a declared network or segment.
type Network struct {
	Name        string
	Segment     bool
	Shared      bool // strangers are on it too
	Local       bool // its addresses come only by interfaces on it
	Addrs       *netipx.IPSet
	List        string // the file that its addresses stand in; "" if they stand here
	Fetch       *Fetch // from where that is read anew; nil if it is not
	Description string
	Pos         source.Pos
	Used        bool // something names it
}

// Fetch is from where a list is read anew: how often, how long it may be, and how many per
// cent of its lines may be others than before for it to be taken without a person.
type Fetch struct {
	URL      string
	Every    int // seconds
	UpTo     int // lines
	Changing int
}

// What holds of a list that does not say it.
const (
	fetchEvery    = 3600
	fetchUpTo     = 20_000
	fetchChanging = 20
)

// A Role is a declared role with its hosts.
type Role struct {
	Name        string
	Description string
	Hosts       []*fleet.Host
	Closed      map[packet.Direction]bool // what it says; what it does not say is missing
	Trials      map[packet.Direction]*Trial
	RefuseBy    packet.Verdict // Drop or Reject; NoVerdict if it does not say
	LogRefused  *Log           // nil if it does not say
	Pos         source.Pos
}

// A Side is one side of a rule.
type Side struct {
	Text  string // as a message says it
	Pos   source.Pos
	Named bool          // it names hosts of ours, be there any or not
	Hosts []*fleet.Host // the hosts it names, in the fleet's order
	Addrs *netipx.IPSet // all addresses it stands for, its hosts' included

	// At is the addresses of a host's that are meant, where the side says which: none of one
	// that it names and takes away.
	At map[*fleet.Host]*netipx.IPSet
	// Refs are the names it is made of, Everywhere and Strangers that it says so.
	Refs       []string
	Everywhere bool
	Strangers  bool

	named map[*fleet.Host]bool // Hosts, to look up
	own   *netipx.IPSet        // all addresses of Hosts
}

// HostAddrs is all addresses of the hosts that the side names, whichever of them the side means
// (At says these).
func (s *Side) HostAddrs() *netipx.IPSet { return s.own }

// Names says that the side names this host.
func (s *Side) Names(h *fleet.Host) bool { return s.named[h] }

// a group is hosts with their addresses, worked out once for all sides that name them.
type group struct {
	hosts []*fleet.Host
	named map[*fleet.Host]bool
	addrs *netipx.IPSet

	mixed bool                          // it is not hosts of ours alone, whole
	part  map[*fleet.Host]*netipx.IPSet // what of a host of which it is not all
}

// newGroup is some hosts with all their addresses.
func newGroup(hosts []*fleet.Host) *group {
	g := &group{hosts: hosts, named: make(map[*fleet.Host]bool, len(hosts))}
	var b netipx.IPSetBuilder
	for _, h := range hosts {
		g.named[h] = true
		h.AddAddresses(&b)
	}
	g.addrs, _ = b.IPSet()
	return g
}

// Outside is the side's addresses that are not given by naming hosts: what is nobody's of ours,
// or is not meant as ours.
func (s *Side) Outside() *netipx.IPSet { return packet.Without(s.Addrs, s.own) }

// A Term is what a service admits, one protocol and run of ports at a time.
type Term struct {
	Family   int // packet.IPv4, packet.IPv6 or AnyFamily
	Protocol int // a protocol's number, or AnyProtocol
	Ports    packet.PortRange
	Type     int    // an ICMP type, or AnyType
	Code     int    // an ICMP code, or AnyType
	Not      []Term // what is taken away, of what is anything otherwise
}

// What a term leaves open.
const (
	AnyFamily   = -1
	AnyProtocol = -1
	AnyType     = -1
)

// Has says that the term speaks of a port of a protocol, in some family. Terms of any protocol
// do.
func (t Term) Has(protocol, port int) bool {
	return (t.Protocol == protocol || t.Protocol == AnyProtocol) && t.Ports.Lo <= port && port <= t.Ports.Hi &&
		!slices.ContainsFunc(t.Not, func(n Term) bool { return n.Family == AnyFamily && n.Has(protocol, port) })
}

// HasPorts says that the term is about ports.
func (t Term) HasPorts() bool { return slices.Contains(packet.PortProtocols, t.Protocol) }

// NextTurn is when the next rule of the policy begins or ends by itself, in seconds since 1970;
// 0 if none does. Until then what was worked out for now stays right.
func (p *Policy) NextTurn(now int64) (next int64) {
	for _, r := range p.Rules {
		if at := r.Turn(now); at != 0 && (next == 0 || at < next) {
			next = at
		}
	}
	for _, role := range p.Roles {
		for _, t := range role.Trials {
			if t.Until > now && (next == 0 || t.Until < next) {
				next = t.Until
			}
		}
	}
	return next
}

// Segments are the declared segments.
func (p *Policy) Segments() (out []*Network) {
	for _, n := range p.Networks {
		if n.Segment {
			out = append(out, n)
		}
	}
	return out
}

// Rule finds a rule by its name, nil if there is none. It looks at all rules.
func (p *Policy) Rule(name string) *Rule {
	for _, r := range p.Rules {
		if r.Name == name {
			return r
		}
	}
	return nil
}

// TermsOf says what a declared or registered service admits, nil if there is none of that name.
func (p *Policy) TermsOf(name string) (out []string) {
	for _, s := range p.Services {
		if s.Name == name {
			return texts(s.Terms)
		}
	}
	return Registered(name)
}

// Registered says what a registered service admits, nil if there is none of that name.
func Registered(name string) []string { return texts(registry()[name]) }

// texts are terms as answers write them.
func texts(terms []Term) (out []string) {
	for _, t := range terms {
		out = append(out, t.String())
	}
	return out
}

// TermsFor is what a service as a rule names it admits.
func (p *Policy) TermsFor(t fence.ServiceTerm) []Term {
	if t.Name == "" {
		of := plain(t)
		for _, e := range t.Except {
			for i := range of {
				of[i].Not = append(of[i].Not, p.TermsFor(e)...)
			}
		}
		return of
	}
	for _, s := range p.Services {
		if s.Name == t.Name {
			return s.Terms
		}
	}
	return registry()[t.Name]
}

// String is a term as a policy writes it.
func (t Term) String() string {
	if t.Protocol == AnyProtocol {
		if t.Not != nil {
			return "any except " + strings.Join(texts(t.Not), ", ")
		}
		return "any"
	}
	name := packet.ProtocolName(t.Protocol)
	switch {
	case t.HasPorts() && t.Ports.Lo == t.Ports.Hi:
		return fmt.Sprintf("%s %d", name, t.Ports.Lo)
	case t.HasPorts():
		return fmt.Sprintf("%s %d-%d", name, t.Ports.Lo, t.Ports.Hi)
	case t.Type != AnyType && t.Code != AnyType:
		return fmt.Sprintf("%s %d/%d", name, t.Type, t.Code)
	case t.Type != AnyType:
		return fmt.Sprintf("%s %d", name, t.Type)
	case name == "icmp" || name == "icmpv6":
		return name
	}
	return fmt.Sprintf("protocol %d", t.Protocol)
}

// SameAt says that the policy says the same at two instants, in seconds since 1970: nothing begins or ends by itself after
// the earlier and up to the later.
func (p *Policy) SameAt(a, b int64) bool {
	next := p.NextTurn(min(a, b))
	return next == 0 || next > max(a, b)
}
