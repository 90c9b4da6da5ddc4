package dialect

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"yellowfence.example/yfence/core/packet"
)

// hooks are those that packets pass, in order, by the way they cross the host: decide
// goes over them from the last to the first.
var hooks = [][]string{
	packet.In:      {"prerouting", "input"},
	packet.Out:     {"output", "postrouting"},
	packet.Through: {"prerouting", "forward", "postrouting"},
}

// Decision is what the kernel does with every packet that crosses the host.
func (rs *Ruleset) Decision(sp *packet.Space) packet.Decision {
	return rs.Sharing(sp, Shared{})
}

// Shared is what is known of chains that several rulesets have in common.
type Shared map[call]packet.Decision

// Sharing is Decision for one of several rulesets that have chains in common:
// what one chain does is worked out once. They must all be of one Space.
func (rs *Ruleset) Sharing(sp *packet.Space, known Shared) packet.Decision {
	d, _ := rs.decide(sp, known)
	return d
}

// Attributed is Decision with the decider of each outcome: Outcome.By counts the deciders from 1.
func (rs *Ruleset) Attributed(sp *packet.Space) (packet.Decision, []Decider) {
	return rs.decide(sp, nil)
}

// decide is the decision by what is known already, or with deciders where known is nil.
func (rs *Ruleset) decide(sp *packet.Space, known Shared) (packet.Decision, []Decider) {
	e := &evaluation{sp: sp, attributed: known == nil, chains: map[chainKey]*Chain{}, done: known, open: map[*Chain]bool{}, plains: map[*Chain]bool{}, routes: rs.Routes, links: rs.Links, originals: rs.Originals}
	if known == nil {
		e.done = Shared{}
	}
	for _, c := range rs.Chains {
		e.chains[chainKey{c.Family, c.Table, c.Name}] = c
	}
	admit := sp.Leaf(packet.Outcome{Verdict: packet.Admit, By: e.by(Decider{})})
	next := ways{admit, admit, admit}
	next = e.hook(rs, "postrouting", next, packet.Out, packet.Through)
	next = e.hook(rs, "input", next, packet.In)
	next = e.hook(rs, "forward", next, packet.Through)
	e.sent = next[packet.Out]
	next = e.hook(rs, "prerouting", next, packet.In, packet.Through)
	next = e.hook(rs, "ingress", next, packet.In, packet.Through)
	next = e.hook(rs, "output", next, packet.Out)
	all := packet.Void
	for way, d := range next {
		for _, c := range rs.Chains {
			if sent := slices.Contains([]string{"egress", "output", "postrouting"}, c.Hook); c.Outside != "" && (way == packet.Through || sent == (way == packet.Out)) {
				d = e.outside(c, way, d)
			}
		}
		all = sp.Choose(sp.Value(packet.Hook, way), d, all)
	}
	// Of what no rule here translated nothing says that it was: but for a new
	// connection's first packet nobody knows what was done with those before.
	fresh := sp.Not(sp.Values(packet.State, packet.Established, packet.Related))
	all = e.original(sp.Choose(fresh, sp.Answered(all, Translated, false), all))
	return sp.Only(all, sp.WellFormed()), e.deciders
}

// Translated is the unknown whether a connection's destination was changed.
const Translated = "whether the connection's destination was changed"

// ways is what becomes of packets from some hook on, by the way they cross the host.
type ways [3]packet.Decision

// on lists the base chains of a hook by priority; early are those that run
// before the kernel puts fragments together.
func (rs *Ruleset) on(hook string) (early, late []*Chain) {
	for _, c := range rs.Chains {
		switch {
		case c.Hook != hook || c.Outside != "":
		case c.SeesFragments():
			early = append(early, c)
		default:
			late = append(late, c)
		}
	}
	for _, chains := range [][]*Chain{early, late} {
		slices.SortStableFunc(chains, func(a, b *Chain) int { return a.Priority - b.Priority })
	}
	return early, late
}

// joinPriority is where the kernel puts fragments together (NF_IP_PRI_CONNTRACK_DEFRAG).
const joinPriority = -400

// LaterPorts is the unknown whether a kernel looks for ports in later fragments
// (where it finds whatever stands there: nft of 6.18 does) or lets no match on ports hold.
const LaterPorts = "whether the kernel looks for ports in later fragments"

// SeesFragments says that a base chain runs before fragments are put together,
// where they are.
func (c *Chain) SeesFragments() bool {
	return c.Hook == "ingress" || c.Hook == "prerouting" && c.Priority < joinPriority
}

// whole is d where fragments of families are put together before: they fare as
// the whole packet does.
func (e *evaluation) whole(d packet.Decision, families [2]bool) packet.Decision {
	for family, join := range families {
		if join {
			d = e.sp.Choose(e.sp.Value(packet.Family, family), e.sp.Restrict(d, packet.Fragment, packet.Num(packet.Whole)), d)
		}
	}
	return d
}

type chainKey struct{ family, table, name string }

type call struct {
	chain            *Chain
	unrouted         bool
	way              int
	next             ways // see evaluation
	after, accepting packet.Decision
}

// evaluation works through chains from their ends: each rule is a choice
// between what it does and what comes after it, so that a whole chain is a
// function from what happens when it is left to what happens to a packet.
type evaluation struct {
	sp         *packet.Space
	attributed bool
	chains     map[chainKey]*Chain
	done       Shared
	open       map[*Chain]bool // being evaluated: met again, the chains are a loop
	plains     map[*Chain]bool // see plain
	unrouted   bool            // on a hook before routing, where no packet has an outbound interface yet
	way        int             // of the packets that are being followed, as their Hook
	next       ways            // what happens behind the base chain that is being evaluated, before routing
	sent       packet.Decision // what happens to what the host sends once it is routed
	routes     *Routes
	links      Links
	originals  map[string]packet.Set
	deciders   []Decider
}

func (e *evaluation) by(d Decider) int32 {
	if !e.attributed {
		return 0
	}
	e.deciders = append(e.deciders, d)
	return int32(len(e.deciders))
}

// hook is what happens to packets that reach a hook by some ways; next is what
// happens to those that all its chains accept.
func (e *evaluation) hook(rs *Ruleset, name string, next ways, by ...int) ways {
	early, late := rs.on(name)
	next = e.chainsOf(late, name, next, by)
	for _, way := range by {
		switch {
		case !rs.Fragments:
		case hooks[way][0] == name: // it begins to be handled here
			next[way] = e.whole(next[way], rs.Tracks)
		case name == "input": // what is for the host itself is put together before
			next[way] = e.whole(next[way], [2]bool{packet.IPv4: true})
		}
	}
	return e.chainsOf(early, name, next, by)
}

// chainsOf goes over chains of a hook. Those of one priority run in an order that
// no dump records: where it matters, the order is an unknown.
func (e *evaluation) chainsOf(chains []*Chain, name string, next ways, by []int) ways {
	for end := len(chains); end > 0; {
		start := end - 1
		for start > 0 && chains[start-1].Priority == chains[start].Priority {
			start--
		}
		next = e.tied(chains[start:end], name, next, by)
		end = start
	}
	return next
}

// maxTied bounds how many chains of one priority are tried in every order.
const maxTied = 4

func (e *evaluation) tied(chains []*Chain, hook string, next ways, by []int) ways {
	d := e.inOrder(chains, next, by)
	// Which of two chains comes first shows only in how a packet is refused or
	// logged: one that is admitted passed them all.
	if len(chains) > 1 && len(chains) <= maxTied && !apart(chains) {
		for i, order := range permutations(chains)[1:] {
			if e.attributed {
				break // the orders differ in who decides; the first is as good as any
			}
			other := e.inOrder(order, next, by)
			first := e.sp.Unknown(fmt.Sprintf("which of the %s chains of priority %d runs first (%d)", hook, chains[0].Priority, i+1))
			for _, way := range by {
				d[way] = e.sp.Choose(first, other[way], d[way])
			}
		}
	}
	return d
}

// apart says that no packet is seen by two of some chains.
func apart(chains []*Chain) bool {
	return len(chains) == 2 && chains[0].Family != chains[1].Family && chains[0].Family != "inet" && chains[1].Family != "inet"
}

// inOrder goes over chains that run one after the other.
func (e *evaluation) inOrder(chains []*Chain, next ways, by []int) ways {
	for _, c := range slices.Backward(chains) {
		behind := next
		for _, way := range by {
			e.way, e.next = way, ways{}
			if e.unrouted = c.Hook == "prerouting"; e.unrouted {
				e.next = behind
			}
			next[way] = e.base(c, behind[way])
		}
	}
	return next
}

func permutations(chains []*Chain) (out [][]*Chain) {
	if len(chains) <= 1 {
		return [][]*Chain{chains}
	}
	for i := range chains {
		rest := slices.Concat(chains[:i], chains[i+1:])
		for _, p := range permutations(rest) {
			out = append(out, append([]*Chain{chains[i]}, p...))
		}
	}
	return out
}

// outside is a chain that we do not model: it may drop what would fare as in next.
func (e *evaluation) outside(c *Chain, hook int, next packet.Decision) packet.Decision {
	may := e.sp.Unknown(c.Outside)
	if c.Family == "bridge" && e.links != nil { // which has what bridges carry, and nothing else
		bridges := e.links.Bridges()
		may = e.sp.And(may, e.sp.Or(e.sp.Interfaces(packet.InIface, bridges...), e.sp.Interfaces(packet.OutIface, bridges...)))
	} else if c.Devices != nil {
		field := packet.InIface
		if hook == packet.Out {
			field = packet.OutIface
		}
		may = e.sp.And(may, e.sp.Interfaces(field, c.Devices...))
	}
	return e.sp.Choose(may, e.sp.Leaf(packet.Outcome{Verdict: packet.Drop, By: e.by(Decider{Chain: c})}), next)
}

// base is a base chain before next, for the packets of its family.
func (e *evaluation) base(c *Chain, next packet.Decision) packet.Decision {
	by := e.by(Decider{Chain: c})
	end := next
	if c.Policy == packet.Drop {
		end = e.sp.Leaf(packet.Outcome{Verdict: packet.Drop, By: by})
	} else if e.attributed {
		end = e.owe(next, by, false)
	}
	d := e.chain(c, end, next)
	if c.Type == "nat" {
		d = e.first(c, d, next)
	}
	if c.Hook == "ingress" {
		return e.sp.Choose(e.arrives(c), d, next)
	}
	return e.sp.Choose(c.sees(e.sp), d, next)
}

// arrives is the packets that come over the devices of a chain at ingress: those of the
// interfaces of that name. What comes by another interface may have come over one of them, as
// what a bridge or a VLAN gives on; nothing that a host says to itself has.
func (e *evaluation) arrives(c *Chain) packet.Set {
	own := e.sp.Interfaces(packet.InIface, c.Devices...)
	if slices.Contains(c.Devices, "lo") {
		return own
	}
	if e.links != nil {
		upper := e.links.Over(c.Devices)
		return e.sp.Or(own, e.sp.And(e.sp.Interfaces(packet.InIface, upper...), e.sp.Unknown("whether packets of "+strings.Join(upper, ", ")+" come over "+strings.Join(c.Devices, ", "))))
	}
	over := e.sp.Unknown("whether packets of other interfaces come over " + strings.Join(c.Devices, ", ") + ", as those of a bridge or a VLAN do")
	return e.sp.Or(own, e.sp.Minus(over, e.sp.Interfaces(packet.InIface, "lo")))
}

// sees is the packets of the chain's family.
func (c *Chain) sees(sp *packet.Space) packet.Set {
	switch c.Family {
	case "ip":
		return sp.Value(packet.Family, packet.IPv4)
	case "ip6":
		return sp.Value(packet.Family, packet.IPv6)
	}
	return packet.All
}

// first is d for the packets that a nat chain sees: the first of a connection.
// What comes after it fares as it did, which nobody knows of a connection that stands.
func (e *evaluation) first(c *Chain, d, next packet.Decision) packet.Decision {
	sp := e.sp
	seen := sp.Value(packet.State, packet.New)
	if c.Hook == "prerouting" {
		was := sp.Unknown("whether chain " + c.Place() + " changed the target of a connection that stands")
		seen = sp.Or(seen, sp.And(sp.Values(packet.State, packet.Established, packet.Related), was))
	}
	if own, known := e.routes.Kind("local"); known && e.way == packet.Through { // what is for the host itself never goes through
		seen = sp.Minus(seen, sp.Addrs(packet.Dst, own))
	} else if here, known := e.routes.Arriving(); known && e.way == packet.In { // nor does what is not arrive there
		seen = sp.And(seen, sp.Addrs(packet.Dst, here))
	}
	// Of what is not the first it is the connection that was translated.
	plain := sp.Map(d, func(o packet.Outcome) packet.Outcome {
		if o.Verdict == packet.Admit {
			o.With = ""
		}
		return o
	})
	return sp.Choose(seen, sp.Choose(sp.Value(packet.State, packet.New), d, plain), next)
}

// said is how a branch that translates is said to do it.
func (b *Branch) said() string {
	switch b.Action {
	case Redirect:
		return packet.Redirected(b.Port)
	case DestinationNAT:
		if !b.To.IsValid() {
			return packet.Redirected(b.Port)
		}
		return packet.SentOn(b.To, b.Port)
	}
	return cmp.Or(b.With, packet.Masqueraded)
}

// redirected is what becomes of packets that are given to the host itself instead.
func (e *evaluation) redirected(c *Chain, r *Rule, b *Branch, next, accepting packet.Decision) packet.Decision {
	sp := e.sp
	if !e.unrouted {
		local := func(to string) packet.Decision { return e.resent(r, b, netip.MustParseAddr(to), next, accepting) }
		return sp.Choose(sp.Value(packet.Family, packet.IPv6), local("::1"), local("127.0.0.1"))
	}
	d := e.changed(e.delivered(), b)
	if d, ok := e.taken(d, sp.And(e.seen(sp.And(r.Match, b.Match)), c.sees(sp)), e.asked(d)); ok {
		return d
	}
	return e.unmodelled("which of the host's addresses a redirect gives a packet ("+r.At+")", next)
}

// taken is what becomes of packets that the host takes to itself: they came as they
// are in a set, and get one of the host's addresses, which must not matter. What rules
// ask of how they came is told apart by names.
func (e *evaluation) taken(d packet.Decision, came packet.Set, names []string) (packet.Decision, bool) {
	sp := e.sp
	if came == packet.Empty {
		return d, true
	}
	if len(names) > 0 {
		name, had := names[0], e.originals[names[0]]
		with, ok := e.taken(sp.Answered(d, name, true), sp.And(came, had), names[1:])
		if !ok {
			return d, false
		}
		without, ok := e.taken(sp.Answered(d, name, false), sp.Minus(came, had), names[1:])
		return sp.Choose(had, with, without), ok
	}
	// Translation is for what has a connection.
	if !sp.DependsOn(d, packet.DstPort) { // they have another
		came = sp.Forget(came, packet.DstPort)
	}
	care := sp.AndAll(sp.Forget(came, append([]packet.Field{packet.Hook, packet.Dst}, packet.MarkFields...)...), e.as(packet.In),
		sp.Values(packet.State, packet.New, packet.Established, packet.Related))
	for family, some := range []string{packet.IPv4: "127.0.0.1", packet.IPv6: "::1"} {
		of := sp.Value(packet.Family, family)
		same, ok := e.indifferent(d, packet.Dst, packet.Addr(netip.MustParseAddr(some)), sp.And(care, of))
		if !ok {
			return d, false
		}
		d = sp.Choose(of, same, d)
	}
	return d, true
}

// as is what packets can be that cross the host by a way, said of those of any.
func (e *evaluation) as(way int) packet.Set {
	return packet.Set(e.sp.Restrict(packet.Decision(e.sp.WellFormed()), packet.Hook, packet.Num(way)))
}

// indifferent is d with one value of a field for all; ok says that it is the same for
// each that packets of a set can have there.
func (e *evaluation) indifferent(d packet.Decision, field packet.Field, one packet.Value, of packet.Set) (packet.Decision, bool) {
	some := e.sp.Restrict(d, field, one)
	return some, e.sp.Only(some, of) == e.sp.Only(d, of)
}

// anySource says that d does not depend on where packets of a set come from.
func (e *evaluation) anySource(d packet.Decision, of packet.Set) bool {
	care := e.sp.And(e.sp.Forget(of, packet.Src, packet.SrcPort), e.as(e.way))
	for family, some := range []string{packet.IPv4: "127.0.0.1", packet.IPv6: "::1"} {
		among := e.sp.And(care, e.sp.Value(packet.Family, family))
		if _, ok := e.indifferent(d, packet.Src, packet.Addr(netip.MustParseAddr(some)), among); !ok {
			return false
		}
		if _, ok := e.indifferent(d, packet.SrcPort, packet.Num(0), e.sp.And(among, e.sp.Values(packet.Protocol, packet.PortProtocols...))); !ok {
			return false
		}
	}
	return true
}

// delivered is what becomes of packets that turn out to be for the host itself.
func (e *evaluation) delivered() packet.Decision {
	return e.sp.Restrict(e.sp.Restrict(e.next[packet.In], packet.Hook, packet.Num(packet.In)), packet.OutIface, packet.Value{})
}

// changed is d for packets whose connection's destination a branch has changed; the
// address is still theirs.
func (e *evaluation) changed(d packet.Decision, b *Branch) packet.Decision {
	if b.Port != 0 {
		d = e.sp.Restrict(d, packet.DstPort, packet.Num(b.Port))
	}
	return e.sp.Answered(d, Translated, true)
}

// to is changed with the address, for packets as they came.
func (e *evaluation) to(d packet.Decision, b *Branch, to netip.Addr) packet.Decision {
	return e.original(e.sp.Restrict(e.changed(d, b), packet.Dst, packet.Addr(to)))
}

// original answers what rules ask of the destination that packets came with.
func (e *evaluation) original(d packet.Decision) packet.Decision {
	for _, name := range e.asked(d) {
		d = e.sp.Choose(e.originals[name], e.sp.Answered(d, name, true), e.sp.Answered(d, name, false))
	}
	return d
}

// asked is what d asks of how packets came.
func (e *evaluation) asked(d packet.Decision) (names []string) {
	if e.originals == nil {
		return nil
	}
	for _, name := range e.sp.UnknownsOf(packet.Set(d)) {
		if _, ok := e.originals[name]; ok {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	return names
}

// resent is what becomes of what the host sends, sent elsewhere instead. The hook
// it is on still sees the interface that it was to leave by.
func (e *evaluation) resent(r *Rule, b *Branch, to netip.Addr, next, accepting packet.Decision) packet.Decision {
	if e.sp.DependsOn(e.sent, packet.OutIface) {
		iface, ok := e.routes.Leaves(to)
		if !ok || e.sending() {
			return e.unmodelled("by which interface what is sent to "+to.String()+" instead leaves ("+r.At+")", next)
		}
		accepting = e.sp.Restrict(accepting, packet.OutIface, packet.InterfaceRange(iface).Lo)
	}
	return e.to(accepting, b, to)
}

// sending says that a chain of the output hook asks for the interface that a packet leaves by.
func (e *evaluation) sending() bool {
	seen := map[*Chain]bool{}
	var asks func(c *Chain) bool
	asks = func(c *Chain) bool {
		if c == nil || seen[c] {
			return false
		}
		seen[c] = true
		return slices.ContainsFunc(c.Rules, func(r Rule) bool {
			return e.sp.DependsOn(packet.Decision(r.Match), packet.OutIface) || slices.ContainsFunc(r.Branches, func(b Branch) bool {
				return e.sp.DependsOn(packet.Decision(b.Match), packet.OutIface) || asks(e.chains[chainKey{c.Family, c.Table, b.Target}])
			})
		})
	}
	for _, c := range e.chains {
		if c.Hook == "output" && asks(c) {
			return true
		}
	}
	return false
}

// elsewhere is what becomes of packets that are given another destination.
func (e *evaluation) elsewhere(r *Rule, b *Branch, next, accepting packet.Decision) packet.Decision {
	sp, to := e.sp, b.To
	if !to.IsValid() { // to another port of where it goes anyway
		return e.original(e.changed(accepting, b))
	}
	if !e.unrouted {
		return e.resent(r, b, to, next, accepting)
	}
	own, known := e.routes.Own(to)
	in, through := e.to(e.delivered(), b, to), packet.Void
	if !own {
		through = e.to(sp.Restrict(e.next[packet.Through], packet.Hook, packet.Num(packet.Through)), b, to)
		if iface, ok := e.routes.Leaves(to); ok {
			through = sp.Restrict(through, packet.OutIface, packet.InterfaceRange(iface).Lo)
		} else if some, ok := e.indifferent(through, packet.OutIface, packet.InterfaceRange("lo").Lo, e.sentOn(r, b)); ok {
			through = some // any will do for what is sent there
		} else {
			return e.unmodelled("by which interface what goes to "+to.String()+" leaves ("+r.At+")", next)
		}
	}
	switch {
	case own:
		through = in
	case known:
		in = through
	}
	if in == through {
		return in
	}
	return sp.Choose(sp.Unknown("whether "+to.String()+" is an address of the host itself"), in, through)
}

// sentOn is the packets that a branch sends elsewhere, as they are when they go through: those
// of new connections, since only they are translated anew.
func (e *evaluation) sentOn(r *Rule, b *Branch) packet.Set {
	here := packet.Decision(e.sp.And(r.Match, b.Match))
	return e.sp.AndAll(e.as(packet.Through), e.sp.Value(packet.State, packet.New), packet.Set(e.sp.Restrict(e.sp.Restrict(here, packet.Hook, packet.Num(e.way)), packet.OutIface, packet.Value{})))
}

// owe puts down what is admitted later to a decider of now: to a rule unless a
// later rule admits it too, to a policy unless anything later does.
func (e *evaluation) owe(d packet.Decision, by int32, rule bool) packet.Decision {
	return e.sp.Map(d, func(o packet.Outcome) packet.Outcome {
		if later := e.deciders[max(o.By-1, 0)]; o.Verdict == packet.Admit && (later.Chain == nil || rule && later.Rule == nil) {
			o.By = by
		}
		return o
	})
}

// admits is d, what happens to packets that a rule accepts, put down to the rule.
func (e *evaluation) admits(c *Chain, r *Rule, d packet.Decision) packet.Decision {
	if !e.attributed {
		return d
	}
	return e.owe(d, e.by(Decider{c, r}), true)
}

// chain is what happens to packets that enter c: after is what happens to those
// that fall off its end or return, accepting to those that a rule accepts.
func (e *evaluation) chain(c *Chain, after, accepting packet.Decision) packet.Decision {
	key := call{c, e.unrouted, e.way, e.next, after, accepting}
	if d, ok := e.done[key]; ok {
		return d
	}
	if e.open[c] {
		return e.unmodelled("the chains of table "+c.Table+" jump in a circle", after)
	}
	e.open[c] = true
	d := after
	// Rules that do the same whatever comes after them are collected and put over
	// it at once: one by one, each would copy all that is known so far.
	var run []packet.Choice
	for i := range slices.Backward(c.Rules) {
		r := &c.Rules[i]
		if e.alone(c, r) {
			run = append(run, packet.Choice{Match: e.seen(r.Match), Then: e.rule(c, r, packet.Void, packet.Void, accepting)})
			continue
		}
		d, run = e.under(run, d), nil
		d = e.sp.Choose(e.seen(r.Match), e.rule(c, r, d, after, accepting), d)
	}
	d = e.under(run, d)
	e.open[c] = false
	e.done[key] = d
	return d
}

func logged(o packet.Outcome) packet.Outcome {
	o.Logged = true
	return o
}

// ends says that nothing comes after the branch in its chain.
func (b *Branch) ends() bool {
	return slices.Contains([]Action{Accept, Drop, Reject, Bypass, Redirect, DestinationNAT, SourceNAT}, b.Action)
}

// rule is what happens to packets that a rule matches; next is what comes after it.
func (e *evaluation) rule(c *Chain, r *Rule, next, after, accepting packet.Decision) packet.Decision {
	then := next
	for _, b := range slices.Backward(r.Branches) {
		does := e.branch(c, r, b, next, after, accepting)
		for _, m := range slices.Backward(b.Marks) {
			does = e.sp.Marking(does, m)
		}
		if b.Untracks {
			does = e.sp.Answered(e.sp.Restrict(does, packet.State, packet.Num(packet.Untracked)), Translated, false)
		}
		if b.Log {
			does = e.sp.Map(does, logged)
		}
		then = e.sp.Choose(e.seen(b.Match), does, then)
	}
	if r.Log {
		then = e.sp.Map(then, logged)
	}
	return then
}

// under puts a run of rules, the last first, over what comes after them.
func (e *evaluation) under(run []packet.Choice, d packet.Decision) packet.Decision {
	slices.Reverse(run)
	return e.sp.FirstMatch(append(run, packet.Choice{Match: packet.All, Then: d}))
}

// alone says that what a rule does with what it matches does not depend on what
// comes after it, but for passing some of it on.
func (e *evaluation) alone(c *Chain, r *Rule) bool {
	ends := false
	for _, b := range r.Branches {
		if b.Action == Return || b.Action == Goto || b.Action == Pass || (b.Marks != nil || b.Untracks || b.Log) && !b.ends() {
			return false
		}
		switch b.Action {
		case Jump:
			if target := e.chains[chainKey{c.Family, c.Table, b.Target}]; r.Log || target != nil && !e.plain(target) {
				return false
			}
		case Unmodelled:
			if r.Log {
				return false
			}
		case Accept, Drop, Reject, Bypass, Redirect, DestinationNAT, SourceNAT:
			ends = ends || b.Match == packet.All
		}
	}
	return !r.Log || ends // a line about what goes on is owed wherever that ends
}

// plain says that no rule of a chain, or of one it jumps to, marks or writes a
// line about packets that go on, and that the chains are no loop.
func (e *evaluation) plain(c *Chain) bool {
	if known, ok := e.plains[c]; ok {
		return known
	}
	e.plains[c] = false // met again while it is looked at, it is a loop
	for i := range c.Rules {
		r := &c.Rules[i]
		goesOn := r.Log
		for _, b := range r.Branches {
			if (b.Marks != nil || b.Untracks || b.Log) && !b.ends() {
				return false // what is on it is owed too
			}
			if b.Match == packet.All && b.ends() {
				goesOn = false
			}
			if b.Action == Jump || b.Action == Goto {
				if target := e.chains[chainKey{c.Family, c.Table, b.Target}]; target != nil && !e.plain(target) {
					return false
				}
			}
		}
		if goesOn {
			return false
		}
	}
	e.plains[c] = true
	return true
}

// seen is a match as it turns out on the hook that is being evaluated.
func (e *evaluation) seen(match packet.Set) packet.Set {
	if !e.unrouted {
		return match
	}
	return e.sp.Forget(e.sp.And(match, e.sp.Interfaces(packet.OutIface, "")), packet.OutIface)
}

// branch is what happens to packets that take b; next is the rule below.
func (e *evaluation) branch(c *Chain, r *Rule, b Branch, next, after, accepting packet.Decision) packet.Decision {
	switch b.Action {
	case Accept:
		return e.admits(c, r, accepting)
	case Drop:
		return e.sp.Leaf(packet.Outcome{Verdict: packet.Drop, By: e.by(Decider{c, r})})
	case Reject:
		return e.sp.Leaf(packet.Outcome{Verdict: packet.Reject, With: b.With, By: e.by(Decider{c, r})})
	case Redirect:
		return e.admits(c, r, packet.Translation(e.sp, e.redirected(c, r, &b, next, accepting), b.said()))
	case DestinationNAT:
		return e.admits(c, r, packet.Translation(e.sp, e.elsewhere(r, &b, next, accepting), b.said()))
	case SourceNAT:
		if !e.anySource(accepting, e.sp.AndAll(r.Match, b.Match, c.sees(e.sp))) {
			return e.unmodelled("the source that it is given ("+r.At+")", next)
		}
		return e.admits(c, r, packet.Translation(e.sp, accepting, b.said()))
	case Bypass:
		return e.sp.Leaf(packet.Outcome{Verdict: packet.Admit, By: e.by(Decider{c, r})})
	case Return:
		return after
	case Pass:
		return next
	case Unmodelled:
		return e.unmodelled(b.Why+" ("+r.At+")", next)
	}
	target := e.chains[chainKey{c.Family, c.Table, b.Target}]
	if target == nil {
		return e.unmodelled("chain "+b.Target+", which the dump does not hold", next)
	}
	if b.Action == Goto {
		next = after
	}
	return e.chain(target, next, accepting)
}

// unmodelled is a decision that could be anything, what goes on without the thing included.
func (e *evaluation) unmodelled(what string, without packet.Decision) packet.Decision {
	by := e.by(Decider{})
	either := e.sp.Choose(e.sp.Unknown(what+", and its packets pass"),
		e.sp.Leaf(packet.Outcome{Verdict: packet.Admit, By: by}), e.sp.Leaf(packet.Outcome{Verdict: packet.Drop, By: by}))
	return e.sp.Choose(e.sp.Unknown(what), either, without)
}
