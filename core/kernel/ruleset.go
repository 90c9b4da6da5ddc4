package kernel

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"yellowfence.example/yfence/core/packet"
)

// A Ruleset is everything one kernel has in force.
type Ruleset struct {
	Chains []*Chain
	// Tracks says of each family that the kernel tracks connections for these
	// rules. It then puts fragments together before most chains see them.
	Tracks [2]bool
	// Routes are the host's, where they are known.
	Routes *Routes
	// Links are the host's interfaces that carry others', where they are known.
	Links Links
	// Originals are what rules ask of the destination that a packet came with: unknowns
	// of these names, true of the packets that came so.
	Originals map[string]packet.Set
	// Presumed is what rules were read by that their text leaves open.
	Presumed []Presumption
	// Fragments says that some rule tells fragments from whole packets.
	Fragments bool
}

// Add adds what else is in force on the same host: another table, another family, or its
// routes.
func (rs *Ruleset) Add(more *Ruleset) {
	rs.Chains = append(rs.Chains, more.Chains...)
	rs.Fragments = rs.Fragments || more.Fragments
	if rs.Routes == nil {
		rs.Routes = more.Routes
	}
	if rs.Links == nil {
		rs.Links = more.Links
	}
	rs.Presumed = append(rs.Presumed, more.Presumed...)
	for name, had := range more.Originals {
		rs.remember(name, had)
	}
	for family, tracks := range more.Tracks {
		rs.Tracks[family] = rs.Tracks[family] || tracks
	}
}

// remember notes which packets had, when they came, what rules ask for behind a translation by
// that name.
func (rs *Ruleset) remember(name string, had packet.Set) {
	if rs.Originals == nil {
		rs.Originals = map[string]packet.Set{}
	}
	rs.Originals[name] = had
}

// OriginalDst is the packets that came to one of some ports (DstPort) or addresses
// (Dst), whatever they have now. Two that ask the same are the same.
func (rs *Ruleset) OriginalDst(sp *packet.Space, field packet.Field, runs []packet.Range) packet.Set {
	had := sp.Ranges(field, runs)
	what := map[packet.Field]string{packet.Dst: "destination", packet.DstPort: "port"}[field]
	name := fmt.Sprintf("whether the %s that it came with is asked for (%d)", what, had)
	rs.remember(name, had)
	return sp.Unknown(name)
}

// About is the rules as far as they concern some packets: right for those, and
// for no others. It takes far less to work through where those are few. What
// changes on a packet's way (its marks, the interface it will leave by, whether
// it is in pieces, what address translation changes) does not narrow it.
func (rs *Ruleset) About(sp *packet.Space, packets packet.Set) *Ruleset {
	return rs.simplified(sp, rs.Underway(sp, packets))
}

// simplified is a ruleset whose matches are the same for the packets of fixed, and as simple as
// may be for all others.
func (rs *Ruleset) simplified(sp *packet.Space, fixed packet.Set) *Ruleset {
	out := *rs
	out.Chains = make([]*Chain, len(rs.Chains))
	for i, c := range rs.Chains {
		narrow := *c
		narrow.Rules = slices.Clone(c.Rules)
		for k := range narrow.Rules {
			match := &narrow.Rules[k].Match
			*match = sp.Simplify(*match, fixed)
		}
		out.Chains[i] = &narrow
	}
	return &out
}

// Underway is packets as they may be anywhere on their way through the rules: with the marks
// and the destinations that rules may have given them.
func (rs *Ruleset) Underway(sp *packet.Space, packets packet.Set) packet.Set {
	changing := append([]packet.Field{packet.OutIface, packet.Fragment}, packet.MarkFields...)
	if slices.ContainsFunc(rs.Chains, func(c *Chain) bool { return c.Type == "nat" }) {
		changing = append(changing, packet.Hook, packet.Src, packet.SrcPort, packet.Dst, packet.DstPort, packet.State)
	} else if slices.ContainsFunc(rs.Chains, (*Chain).untracks) {
		changing = append(changing, packet.State)
	}
	return sp.Exists(packets, changing...)
}

// Concerning is the rules that some packets can meet, as they may be anywhere on their way (see
// Underway); origin tells which rule of rs each of these is.
func (rs *Ruleset) Concerning(sp *packet.Space, fixed packet.Set) (narrow *Ruleset, origin map[*Rule]*Rule) {
	narrow, origin = rs.simplified(sp, fixed), map[*Rule]*Rule{}
	for i, c := range narrow.Chains {
		var kept []int
		for k := range c.Rules {
			if sp.And(c.Rules[k].Match, fixed) != packet.Empty {
				kept = append(kept, k)
			}
		}
		rules := make([]Rule, len(kept))
		for at, k := range kept {
			rules[at] = c.Rules[k]
			origin[&rules[at]] = &rs.Chains[i].Rules[k]
		}
		c.Rules = rules
	}
	return narrow, origin
}

// A Chain is a list of rules. A base chain hangs on a hook, the others are jumped to.
type Chain struct {
	Family   string // ip, ip6 or inet; netdev and bridge stand outside, see Outside
	Table    string
	Name     string
	Hook     string // prerouting, input, forward, output or postrouting; "" if it is no base chain
	Type     string // filter, nat or route
	Priority int
	Policy   packet.Verdict // of a base chain: Admit or Drop
	Rules    []Rule
	// Outside names what this base chain is where we do not model it at all
	// (a netdev or bridge chain): it may drop any packet, of its Devices if it names some.
	Outside string
	Devices []string
}

// HookOf is the hook at which a filter sees what crosses a host in one direction.
func HookOf(d packet.Direction) string {
	return []string{packet.Inbound: "input", packet.Outbound: "output", packet.Forward: "forward"}[d]
}

// untracks says that some rule of the chain has connections not tracked.
func (c *Chain) untracks() bool {
	return slices.ContainsFunc(c.Rules, func(r Rule) bool {
		return slices.ContainsFunc(r.Branches, func(b Branch) bool { return b.Untracks })
	})
}

// Untracked is the packets that have one of some states where connections have not been
// looked up yet: all are invalid there, but for those that a rule has taken out of it.
func Untracked(sp *packet.Space, states packet.Set) packet.Set {
	out, tracked := sp.Value(packet.State, packet.Untracked), packet.Empty
	if sp.Within(sp.Value(packet.State, packet.Invalid), states) {
		tracked = packet.All
	}
	return sp.Or(sp.And(states, out), sp.Minus(tracked, out))
}

// Place says a chain as findings name it: "inet yellowfence/inbound".
func (c *Chain) Place() string { return c.Family + " " + c.Table + "/" + c.Name }

// A Rule is one step of a chain.
type Rule struct {
	Match    packet.Set
	Log      bool     // writes a line about what matches, before the branches
	Branches []Branch // the first whose packets match decides; where none does the rule is passed
	Comment  string
	Text     fmt.Stringer // as the dump writes it, or would
	At       string       // where it stands in the dump
	Presumes bool         // it asks for something that is seldom so, see AsUsual
}

// Words are a Rule's Text.
type Words string

// String is the text as the dump has it.
func (w Words) String() string { return string(w) }

// A Branch is what a rule does with packets. Most rules have one, for all of them.
type Branch struct {
	Match    packet.Set
	Marks    []packet.Marking // what it writes on the packet before it acts
	Untracks bool             // its connection is not tracked from here on
	Log      bool             // writes a line about what takes it
	Action   Action
	Target   string       // of Jump and Goto: a chain of the same table
	Port     int          // of Redirect and DestinationNAT; 0 is the same port
	To       netip.Addr   // of DestinationNAT; none where only the port is another
	Reply    packet.Reply // of Reject
	Why      string       // of Unmodelled: what it is
}

// An Action is what a branch does.
type Action uint8

// The actions.
const (
	Accept Action = iota
	Drop
	Reject
	Jump
	Goto
	Return
	Pass           // goes on with the next rule
	Redirect       // accepts, and gives it to the host itself, at another port if Port says one
	DestinationNAT // accepts, and gives it another destination, with another port if Port says one
	SourceNAT      // accepts, and changes its source when all else is decided
	Bypass         // accepts for all chains that come after, too
	Unmodelled     // something that may change the packet's fate in a way we do not model
)

// actionNames are the actions as signatures and tests write them.
var actionNames = []string{Accept: "accept", Drop: "drop", Reject: "reject", Jump: "jump", Goto: "goto", Return: "return", Pass: "pass",
	Redirect: "redirect", SourceNAT: "source nat", DestinationNAT: "destination nat", Bypass: "bypass", Unmodelled: "unmodelled"}

// String is the action's name: "source nat".
func (a Action) String() string { return actionNames[a] }

// Bare says that no filter is in force: there is no base chain of type filter on any hook.
// Chains that translate, or that nothing jumps to, are no filter.
func (rs *Ruleset) Bare() bool {
	return !slices.ContainsFunc(rs.Chains, func(c *Chain) bool { return c.Hook != "" && c.Type == "filter" })
}

// A Decider is what a kernel's outcome is owed to: a rule, or the policy of a base chain.
type Decider struct {
	Chain *Chain // nil where no filter spoke
	Rule  *Rule  // nil where the chain's policy decided
}

// Text says the decider as the dump does.
func (d Decider) Text() string {
	switch {
	case d.Chain == nil:
		return "no filter"
	case d.Rule == nil && d.Chain.Outside != "":
		return d.Chain.Outside
	case d.Rule == nil:
		policy := "accept"
		if d.Chain.Policy == packet.Drop {
			policy = "drop"
		}
		if len(d.Chain.Rules) == 0 {
			return fmt.Sprintf("policy %s of the chain, which has no rules", policy)
		}
		return fmt.Sprintf("policy %s of the chain", policy)
	}
	return d.Rule.Text.String()
}

// At says where the decider stands.
func (d Decider) At() string {
	switch {
	case d.Chain == nil:
		return ""
	case d.Rule == nil:
		return d.Chain.Place()
	}
	return d.Rule.At
}

// Signature says the chains that are ours so that two rulesets have the same signature
// exactly when they have the same rules in the same order with the same
// comments, however their sets are named and their values spelled. Handles are
// those of sp, so signatures of one Space can be compared.
func (rs *Ruleset) Signature(sp *packet.Space, ours func(*Chain) bool) string {
	var lines []string
	meanings := rs.Meanings(sp)
	for _, c := range rs.Chains {
		if !ours(c) {
			continue
		}
		var b strings.Builder
		fmt.Fprintf(&b, "chain %s", c.Place())
		if c.Hook != "" {
			fmt.Fprintf(&b, " %s %s %d %s", c.Type, c.Hook, c.Priority, c.Policy)
		}
		for i, r := range c.Rules {
			fmt.Fprintf(&b, "\n %s %q", meanings[c][i], r.Comment)
		}
		lines = append(lines, b.String())
	}
	slices.Sort(lines)
	return strings.Join(lines, "\n")
}

// Meanings says for each rule what it asks and does, in a form that is the same
// for two rules of one Space exactly when they do the same where they stand. A
// rule of a chain that hangs on one hook means the same with or without saying
// so: what counts is its match among packets that can get there.
func (rs *Ruleset) Meanings(sp *packet.Space) map[*Chain][]string {
	byName := map[chainKey]*Chain{}
	for _, c := range rs.Chains {
		byName[chainKey{c.Family, c.Table, c.Name}] = c
	}
	// What can come to a chain at all: a rule means the same as another if they do the same for that.
	reach := map[*Chain]packet.Set{}
	var mark func(c *Chain, from packet.Set)
	mark = func(c *Chain, from packet.Set) {
		if c == nil || sp.Within(from, reach[c]) {
			return
		}
		reach[c] = sp.Or(reach[c], from)
		for _, r := range c.Rules {
			for _, b := range r.Branches {
				mark(byName[chainKey{c.Family, c.Table, b.Target}], from)
			}
		}
	}
	for _, c := range rs.Chains {
		for hook, names := range hooks {
			if slices.Contains(names, c.Hook) {
				mark(c, sp.AndAll(sp.Value(packet.Hook, hook), c.sees(sp), sp.WellFormed()))
			}
		}
	}
	out := map[*Chain][]string{}
	for _, c := range rs.Chains {
		// Handles stand for sets, so that rules of one meaning are one text, however they are written.
		for _, r := range c.Rules {
			var b strings.Builder
			asked := sp.And(r.Match, reach[c])
			fmt.Fprintf(&b, "%d %v", asked, r.Log)
			for _, br := range r.Branches {
				fmt.Fprintf(&b, " %d %v %v %v %s %s %d %v %s", sp.And(br.Match, asked), br.Marks, br.Untracks, br.Log, br.Action,
					br.Target, br.Port, br.To, br.Reply)
			}
			out[c] = append(out[c], b.String())
		}
	}
	return out
}
