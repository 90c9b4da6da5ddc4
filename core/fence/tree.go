package fence

import (
	"net/netip"
	"strings"

	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/source"
)

// A File is the syntax tree of one policy file.
type File struct {
	Name  string
	Stmts []Stmt
	// How the file is laid out, for the printer: for each statement the line of
	// its first token and of its last, and all comments in order.
	Lines    [][2]int
	Comments []Comment
}

// A Stmt is one statement: *PolicyDecl, *NetworkDecl, *ServiceDecl, *RoleDecl,
// *PeersDecl, *PartDecl, *JoinDecl, *GroundDecl, *Rule, *Redirect, *Masquerade, *Leave or *Expectation.
type Stmt interface{ Declared() Ident }

// An Ident is a name where it stands. The zero Ident is one that is missing.
type Ident struct {
	Name string
	Pos  source.Pos
}

// Declared makes every node with an embedded Ident a Stmt.
func (i Ident) Declared() Ident { return i }

// A PolicyDecl names the policy and the language it is written in.
type PolicyDecl struct {
	Ident
	By          []Label // who may change what is of no part; nil is whoever may change the policy
	Description string
	Language    int
}

// A NetworkDecl declares a network, or a segment if Segment is set.
type NetworkDecl struct {
	Ident
	Segment     bool
	Addrs       Addresses
	List        *Text  // the file its addresses stand in; Addrs is then empty
	Fetch       *Fetch // from where the service reads that file anew; nil if it does not
	Shared      bool
	Local       bool
	Description string
	Accepted
}

// Addresses is a list with what is taken away from it.
type Addresses struct {
	Items  []AddrItem
	Except []AddrItem
}

// An AddrItem is an address, a prefix, a range, or a name to look up.
type AddrItem struct {
	Pos      source.Pos
	Text     string
	Name     string // of a network or segment, if From is not valid
	From, To netip.Addr
}

// A ServiceDecl declares a service.
type ServiceDecl struct {
	Ident
	Terms       []ServiceTerm
	Units       []Label // that serve it
	Description string
	Accepted
}

// A PeersDecl gives peers a name.
type PeersDecl struct {
	Ident
	Peers       Peers
	Description string
	Accepted
}

// A ServiceTerm is one item of a list of services: ports of protocols, an ICMP
// type, an IP protocol, or a name to look up.
type ServiceTerm struct {
	Pos       source.Pos
	Text      string
	Name      string // of a service, if Protocols is empty and Any is not set
	Any       bool
	Except    []ServiceTerm // what any does not mean
	Protocols []int         // numbers
	Ports     *packet.PortRange
	Family    int  // packet.IPv4 or packet.IPv6 where OneFamily is set
	OneFamily bool // ICMP and ICMPv6 are of one family
	Type      *int // ICMP type
	Code      *int // ICMP code
}

// A RoleDecl declares a role and its stances.
type RoleDecl struct {
	Ident
	Description string
	Stances     []Stance
	RefuseBy    *Choice // drop or reject
	LogRefused  *Log
	Ground      []GroundPart // changes to it on the role's hosts
	Accepted
}

// A Text is a quoted text where it stands.
type Text struct {
	Pos  source.Pos
	Text string
}

// A Log says that packets are logged, and how many at most.
type Log struct {
	Pos  source.Pos
	UpTo *Rate // nil is all
}

// A Rate is a number per time: `4 per 1m`.
type Rate struct {
	Pos source.Pos
	N   int
	Per Duration
}

// Fetch is from where a list is read anew, and how much is taken without a person.
type Fetch struct {
	URL      Text
	Every    *Duration // nil if it is not said
	UpTo     int       // lines; 0 if it is not said
	Changing int       // per cent of its lines; 0 if it is not said
}

// A Duration is a time as it is written: a number and s, m, h or d.
type Duration struct {
	Text    string
	Seconds int
}

// A GroundDecl turns parts of the ground off, or narrows them.
type GroundDecl struct {
	Ident // "ground", where it stands
	Parts []GroundPart
}

// A GroundPart is one change to the ground.
type GroundPart struct {
	Pos       source.Pos
	Direction string // inbound, outbound, forward or "" for all
	Name      string
	Off       bool
	From      Peers // if it is not off
}

// A Stance is what happens to packets that no rule speaks of, in one direction.
type Stance struct {
	Pos       source.Pos
	Direction string // inbound, outbound or forward
	Closed    bool
	Trial     *Trial // of one that is closed
}

// A Trial is until when something does not refuse yet: what it would refuse is admitted, and noted.
type Trial struct {
	Pos   source.Pos
	Until Until
	Open  bool // from then on it does not refuse either
}

// A Choice is a word out of a few, where it stands.
type Choice struct {
	Pos  source.Pos
	Word string
}

// A Rule is an allow or a block.
type Rule struct {
	Ident
	Block    bool
	From, To Peers
	Services []ServiceTerm

	Within    []Peer  // both ends are of one of these
	On        []Ident // segments
	Arriving  []Ident // segments
	AtMost    *AtMost // a token bucket
	Over      []Ident // blocks
	By        *Choice // drop or reject
	Senders   []Sender
	Encrypted bool
	Log       *Log
	Guard     bool
	Trial     *Trial // of a block
	Since     *Until // its `from`
	Until     *Until
	Through   []Ident // roles
	Common
}

// Common is what is for people, and holds for all rules, redirects and the like.
type Common struct {
	With    *With       // nil if the statement stands alone
	Off     *source.Pos // where it says so
	Because string
	Owner   string
	Ref     string
	Accepted
}

// Accepted is the warnings that a statement accepts: where it stands, or of those that name what
// it declares.
type Accepted struct{ Knowingly []Knowingly }

// accepts makes what is embedded in a statement one that accepts warnings.
func (a *Accepted) accepts() []Knowingly { return a.Knowingly }

// AcceptedBy are the warnings that a statement accepts.
func AcceptedBy(s Stmt) []Knowingly {
	if a, ok := s.(interface{ accepts() []Knowingly }); ok {
		return a.accepts()
	}
	return nil
}

// common makes what is embedded in a statement one with modifiers.
func (c *Common) common() *Common { return c }

// An AtMost is a token bucket of N, refilled at N per time.
type AtMost struct {
	Rate
	PerSource bool
}

// A Sender is who sends, at the sending end: a user, a unit or a program.
type Sender struct {
	Pos   source.Pos
	Kind  packet.SenderKind
	Names []string
}

// An Until is when a rule ends: a day, whose end is meant, or an instant (UTC). When it begins
// is said in the same way, and the beginning of the day is meant.
type Until struct {
	Pos  source.Pos
	Text string
}

// A Knowingly accepts a warning in place.
type Knowingly struct {
	Pos  source.Pos
	Code string
	Why  string
}

// A Redirect changes where connections go.
type Redirect struct {
	Ident
	From, To Peers
	Service  ServiceTerm // the port before
	Through  []Ident     // roles of the routers that do it; none: the right side's hosts
	Target   *Peer       // another host; nil: the same
	Port     ServiceTerm // the port behind
	Common
}

// A Masquerade makes peers seen as the router.
type Masquerade struct {
	Ident
	From, To Peers
	Through  []Ident // roles of the routers that do it
	Via      []Label // where they leave by one of these; none: by any
	Common
}

// A Leave sets traffic aside that other programs rule.
type Leave struct {
	Ident
	Peers      Peers
	Direction  string // inbound, outbound or forwarded
	Interfaces []Label
	Common
}

// A Label is a single word or quoted text where it stands.
type Label struct {
	Pos  source.Pos
	Text string
}

// A Promise is what an Expectation says of packets between its peers.
type Promise string

// The promises.
const (
	Never  Promise = "never"  // none of them passes
	Always Promise = "always" // all of them do
	Only   Promise = "only"   // no others do to the right side
)

// An Expectation is a statement about all packets that must hold.
type Expectation struct {
	Ident
	Kind     Promise
	From, To Peers
	Services []ServiceTerm
	Within   []Peer
	On       []Ident
	Through  []Ident     // routers whose part is counted, too
	BySteps  *source.Pos // of whoever may log in somewhere, too
	Common
}

// asRule is the modifiers of an expectation, as a rule has them.
func (e *Expectation) asRule() *Rule {
	r := &Rule{Within: e.Within, On: e.On, Through: e.Through}
	if e.BySteps != nil {
		r.By = &Choice{*e.BySteps, "steps"}
	}
	return r
}

// Peers is one side of a rule.
type Peers struct {
	Pos    source.Pos
	Items  []Peer
	Except []Peer
}

// PeerKind says what a Peer is.
type PeerKind uint8

// The kinds of peer.
const (
	NamedPeer      PeerKind = iota // a role, network or segment
	HostPeer                       // host NAME
	AddressPeer                    // an address, prefix or range
	FleetPeer                      // fleet
	EverywherePeer                 // everywhere
	StrangersPeer                  // strangers
	BroadcastPeer                  // broadcast
	MulticastPeer                  // multicast
)

// A Peer is one item of a side.
type Peer struct {
	Kind PeerKind
	Name string    // of a NamedPeer or HostPeer
	Addr *AddrItem // of an AddressPeer
	At   *Peer     // only what is that peer's too; nil is all
	Pos  source.Pos
	Text string // as a message says it
}

// text is a peer as it is written.
func (p *Peer) text() string {
	text := p.Text
	switch {
	case p.Kind == NamedPeer:
		text = p.Name
	case p.Kind == HostPeer:
		text = "host " + p.Name
	case p.Kind == AddressPeer && p.Addr != nil:
		text = p.Addr.Text
	default:
		text, _, _ = strings.Cut(text, " at ")
	}
	if p.At != nil {
		text += " at " + p.At.text()
	}
	return text
}
