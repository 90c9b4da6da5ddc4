package ask

import (
	"cmp"
	"slices"
	"strings"

	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/core/reach"
	"yellowfence.example/yfence/core/say"
)

// MostEnds is how many ends a matrix has: a larger one is asked for in parts.
const MostEnds = 120

// A ReachEnd is a row and a column of a matrix: a role, or whoever on a network is not ours.
type ReachEnd struct {
	Name    string   `json:"name"`
	Kind    string   `json:"kind" enum:"role,network,everywhere" doc:"of a network, and of everywhere, those that are no hosts of the fleet"`
	Hosts   int      `json:"hosts,omitempty" doc:"of a role: how many it has"`
	On      []string `json:"on,omitempty" nullable:"false" doc:"of a role: the segments that its hosts are on"`
	Shared  bool     `json:"shared,omitempty" doc:"strangers are on the network too"`
	Segment bool     `json:"segment,omitempty" doc:"the network is a segment"`
}

// A ReachCell is which new connections pass from one end to another, but for those that every host's ground admits. A
// cell that is left out lets none.
type ReachCell struct {
	From string    `json:"from"`
	To   string    `json:"to"`
	All  []string  `json:"all" nullable:"false" doc:"services that pass between any two of them"`
	Some []string  `json:"some" nullable:"false" doc:"services that pass between some of them and not between others"`
	By   []Decides `json:"by" nullable:"false" doc:"what admits them, at either end"`
}

// Decides is a statement that decides, and where it stands.
type Decides struct {
	By string `json:"by"`
	At string `json:"at,omitempty"`
}

// A Matrix is which services pass between all ends of a policy, for one instant.
type Matrix struct {
	Ends   []ReachEnd  `json:"ends" nullable:"false"`
	Cells  []ReachCell `json:"cells" nullable:"false"`
	More   int         `json:"more,omitempty" doc:"ends that are left out, for there are too many"`
	Unread []string    `json:"unread,omitempty" nullable:"false" doc:"what is not known and could change it"`
}

// MatrixOf works out which services pass between all roles and networks of a policy, at an instant in seconds
// since 1970, exactly: each cell is decided over all addresses of both ends. The error says that the budget did
// not suffice, or why the work was to end.
func MatrixOf(b packet.Budget, pol *policy.Policy, now int64) (m *Matrix, err error) {
	k := NewAsker(pol)
	err = packet.Try(func() {
		k.fresh(now)
		if b.Edges > 0 {
			k.sp.Bound(b.Edges)
		}
		k.sp.Halt(b.Halt)
		m = k.matrix(now)
	})
	return m, err
}

// matrix works out all cells within the Asker's Space.
func (k *Asker) matrix(now int64) *Matrix {
	m := &Matrix{Ends: endsOf(k.pol), Cells: []ReachCell{}}
	if m.More = max(len(m.Ends)-MostEnds, 0); m.More > 0 {
		m.Ends = m.Ends[:MostEnds]
	}
	q, _ := fence.ParseQuestion(everywhere + " -> " + everywhere + " : any") // which is well formed
	anything, _ := resolve(k.sp, k.pol, k.names, q, now)
	spoken := anything.spoken(k.r)
	parties := make([][]endParty, len(m.Ends))
	for i, e := range m.Ends {
		for _, p := range k.partiesOf(e) {
			parties[i] = append(parties[i], endParty{p, k.byGround(p, packet.Outbound), k.byGround(p, packet.Inbound)})
		}
	}
	for i, from := range m.Ends {
		for j, to := range m.Ends {
			if from.Kind != "role" && to.Kind != "role" {
				continue // no host of ours decides
			}
			cell, unread := k.cell(anything, spoken, parties[i], parties[j])
			for _, what := range unread {
				if !slices.Contains(m.Unread, what) {
					m.Unread = append(m.Unread, what)
				}
			}
			if len(cell.All)+len(cell.Some) > 0 {
				cell.From, cell.To = from.Name, to.Name
				m.Cells = append(m.Cells, cell)
			}
		}
	}
	return m
}

// everywhere is the end that is all addresses.
const everywhere = "everywhere"

// endsOf are the roles of a policy that have hosts, its networks, and everybody else.
func endsOf(pol *policy.Policy) (out []ReachEnd) {
	for _, role := range pol.Roles {
		if len(role.Hosts) == 0 {
			continue
		}
		e := ReachEnd{Name: role.Name, Kind: "role", Hosts: len(role.Hosts)}
		for _, seg := range pol.Segments() {
			if slices.ContainsFunc(role.Hosts, func(h *fleet.Host) bool { return h.On(seg.Name, seg.Addrs) != nil }) {
				e.On = append(e.On, seg.Name)
			}
		}
		out = append(out, e)
	}
	for _, n := range pol.Networks {
		out = append(out, ReachEnd{Name: n.Name, Kind: "network", Shared: n.Shared, Segment: n.Segment})
	}
	return append(out, ReachEnd{Name: everywhere, Kind: everywhere})
}

// partiesOf are the hosts of a role by how they are treated, or of a network what is not ours: its hosts have roles.
func (k *Asker) partiesOf(e ReachEnd) (out []reach.Party) {
	q, problems := fence.ParseQuestion(e.Name + " -> " + e.Name + " : any")
	if problems != nil {
		return nil // a name that a policy has can be asked about
	}
	side, _, _, _ := k.pol.Ask(q)
	for _, p := range k.r.Parties(side) {
		if p.Ours() == (e.Kind == "role") {
			out = append(out, p)
		}
	}
	return out
}

// endParty is a party with what its ground admits of what it sends, and of what it gets.
type endParty struct {
	reach.Party
	out, in packet.Set
}

// cell works out what passes between the parties of two ends. anything is the question about all packets, of which
// nothing is answered yet, and spoken what it speaks of.
func (k *Asker) cell(anything *asked, spoken packet.Set, senders, receivers []endParty) (c ReachCell, unread []string) {
	c = ReachCell{All: []string{}, Some: []string{}, By: []Decides{}}
	fresh := *anything
	fresh.fares = map[packet.Verdict]packet.Set{}
	a := &fresh
	for _, from := range senders {
		for _, to := range receivers {
			if !itself(from.Party, to.Party) {
				a.between(k.r, from.Party, to.Party, k.sp.Minus(spoken, k.sp.Or(from.out, to.in)))
			}
		}
	}
	sp := k.sp
	services := func(s packet.Set) packet.Set {
		return sp.ProjectOnto(s, packet.Protocol, packet.DstPort, packet.ICMPType)
	}
	passes := services(a.fares[packet.Admit])
	refused := services(sp.Or(sp.Or(a.fares[packet.Drop], a.fares[packet.Reject]), a.unsure))
	c.All = servicesIn(sp, k.names, sp.Minus(passes, refused))
	c.Some = servicesIn(sp, k.names, sp.And(passes, refused))
	for _, s := range a.steps {
		one := Decides{By: s.By, At: s.At}
		if s.Verdict == packet.Admit.String() && !slices.Contains(c.By, one) {
			c.By = append(c.By, one)
		}
	}
	slices.SortFunc(c.By, func(x, y Decides) int { return cmp.Or(strings.Compare(x.At, y.At), strings.Compare(x.By, y.By)) })
	return c, a.unread
}

// byGround is the packets that a party admits by its ground: they pass between all hosts, and say nothing of a policy.
func (k *Asker) byGround(p reach.Party, dir packet.Direction) packet.Set {
	if !p.Ours() {
		return packet.Empty
	}
	return k.sp.Certain(k.sp.Where(k.r.End(p, dir), func(o packet.Outcome) bool {
		by, ok := k.r.Decider(o.By)
		return ok && by.Kind == compile.ByGround && o.Verdict == packet.Admit
	}))
}

// servicesIn names the services of a set of which addresses are no part any more.
func servicesIn(sp *packet.Space, names *say.Names, s packet.Set) []string {
	out := []string{}
	if s == packet.Empty {
		return out
	}
	for _, p := range names.Traffic(sp, s, packet.In).Phrases {
		for _, service := range p.Services {
			out = append(out, service.String())
		}
		if p.Unnamed > 0 {
			out = append(out, "more")
		}
	}
	return out
}
