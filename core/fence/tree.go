package fence

import "net/netip"

// A File is the syntax tree of one policy file.
type File struct {
	Name  string
	Stmts []Stmt
}

// A Stmt is one statement: *PolicyDecl, *NetworkDecl, *ServiceDecl, *RoleDecl or *Rule.
type Stmt interface{ Declared() Ident }

// An Ident is a name where it stands. The zero Ident is one that is missing.
type Ident struct {
	Name string
	Pos  Pos
}

// Declared makes every node with an embedded Ident a Stmt.
func (i Ident) Declared() Ident { return i }

// A PolicyDecl names the policy and the language it is written in.
type PolicyDecl struct {
	Ident
	Description string
	Language    int
}

// A NetworkDecl declares a network, or a segment if Segment is set.
type NetworkDecl struct {
	Ident
	Segment     bool
	Addrs       Addresses
	Shared      bool
	Local       bool
	Description string
}

// Addresses is a list with what is taken away from it.
type Addresses struct {
	Items  []AddrItem
	Except []AddrItem
}

// An AddrItem is an address, a prefix, a range, or a name to look up.
type AddrItem struct {
	Pos      Pos
	Text     string
	Name     string // of a network or segment, if From is not valid
	From, To netip.Addr
}

// A ServiceDecl declares a service.
type ServiceDecl struct {
	Ident
	Terms       []ServiceTerm
	Description string
}

// A ServiceTerm is one item of a list of services: ports of protocols, an ICMP
// type, an IP protocol, or a name to look up.
type ServiceTerm struct {
	Pos       Pos
	Text      string
	Name      string // of a service, if Protocols is empty and Any is not set
	Any       bool
	Protocols []int // numbers
	Ports     *PortRange
	Family    int  // packet.IPv4 or packet.IPv6 where OneFamily is set
	OneFamily bool // ICMP and ICMPv6 are of one family
	Type      *int // ICMP type
	Code      *int // ICMP code
}

// A PortRange is a run of ports, both ends included.
type PortRange struct{ Lo, Hi int }

// A RoleDecl declares a role and its stances.
type RoleDecl struct {
	Ident
	Description string
	Stances     []Stance
	RefuseBy    *Choice // drop or reject
}

// A Stance is what happens to packets that no rule speaks of, in one direction.
type Stance struct {
	Pos       Pos
	Direction string // inbound, outbound or forward
	Closed    bool
}

// A Choice is a word out of a few, where it stands.
type Choice struct {
	Pos  Pos
	Word string
}

// A Rule is an allow or a block.
type Rule struct {
	Ident
	Block    bool
	From, To Peers
	Services []ServiceTerm

	On      []Ident // segments; at most one is meant
	Over    []Ident // blocks
	By      *Choice // drop or reject
	Log     bool
	Guard   bool
	Because string
}

// Peers is one side of a rule.
type Peers struct {
	Pos    Pos
	Items  []Peer
	Except []Peer
}

// PeerKind says what a Peer is.
type PeerKind uint8

// The kinds of peer.
const (
	NamedPeer   PeerKind = iota // a role, network or segment
	HostPeer                    // host NAME
	AddressPeer                 // an address, prefix or range
	FleetPeer                   // fleet
	EverywherePeer
)

// A Peer is one item of a side.
type Peer struct {
	Kind PeerKind
	Name string   // of a NamedPeer or HostPeer
	Addr AddrItem // of an AddressPeer
	Pos  Pos
	Text string // as a message says it
}
