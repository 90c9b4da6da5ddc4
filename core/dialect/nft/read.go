package nft

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
)

// A SyntaxError is a dump that could not be read at all.
type SyntaxError struct {
	Line    int // from 1
	Message string
}

func (e *SyntaxError) Error() string { return fmt.Sprintf("line %d: %s", e.Line, e.Message) }

// ReadJSON reads what `nft -j list ruleset` prints, ours and everybody else's.
// What it does not model becomes an unknown of the Space, named after it, so
// that an answer which depends on it is never certain. The error, a
// *SyntaxError, is for text that is no such listing, or half of one.
//
// A listing tells users by numbers of the host's own. What they stand for is
// said by names, which may be nil: then a match on one is not understood.
// Whom the host does not have is taken out of what is well formed in sp.
func ReadJSON(sp *packet.Space, data []byte, names *kernel.Names) (*kernel.Ruleset, error) {
	l, err := listed(data)
	if err != nil {
		return nil, err
	}
	return read(sp, l, names), nil
}

// read makes a ruleset of what a listing holds.
func read(sp *packet.Space, l *listing, names *kernel.Names) *kernel.Ruleset {
	names.Narrow(sp)
	r := &reader{sp: sp, out: &kernel.Ruleset{Chains: l.chains}, sets: map[place]*namedSet{}, chains: map[place]*kernel.Chain{}, early: map[place]bool{}, joined: map[place]bool{},
		limits: map[place]packet.Bucket{}, names: names, scopes: map[scope]packet.Set{}, seldom: kernel.Seldom{}}
	r.users, r.groups = names.ByNumber()
	if names != nil {
		r.out.Routes, r.out.Links = names.Routes, names.Links
	}
	r.out.Tracks = l.tracks()
	// Sets and chains first: rules refer to them, wherever they stand.
	for _, s := range l.sets {
		r.sets[s.place] = s
	}
	for _, l := range l.limits {
		switch b, over, ok := bucket(objectName(l.place), &l.limit); {
		case over:
		case ok:
			r.limits[l.place] = b
		default: // it counts bytes
			r.limits[l.place] = packet.Bucket{Name: objectName(l.place), What: l.limit.String()}
		}
	}
	r.zoned = slices.ContainsFunc(l.rules, func(rule listedRule) bool { return slices.ContainsFunc(rule.exprs, setsZone) })
	for _, c := range l.chains {
		r.chains[place{c.Family, c.Table, c.Name}] = c
		if runsEarly(c) {
			r.early[place{family: c.Family, table: c.Table}] = true
		}
		if c.SeesFragments() {
			r.joined[place{family: c.Family, table: c.Table}] = true
		}
		// An empty chain that accepts does nothing even outside.
		if c.Hook != "" && c.Policy == packet.Drop {
			r.setOutside(c)
		}
	}
	var c *kernel.Chain
	for i := range l.rules {
		listed := &l.rules[i]
		if i == 0 || listed.place != l.rules[i-1].place {
			c = r.chainOf(listed.place)
			n := 1
			for i+n < len(l.rules) && l.rules[i+n].place == listed.place {
				n++
			}
			c.Rules = slices.Grow(c.Rules, n)
		}
		before := len(c.Rules)
		r.rare = false
		c.Rules = r.statements(c, listed.exprs, listed.at, c.Rules)
		for k := range c.Rules[before:] {
			rule := &c.Rules[before+k]
			rule.At, rule.Comment, rule.Text, rule.Presumes = listed.at, listed.comment, &listed.exprs, r.rare
		}
	}
	r.out.AsUsual(sp, r.seldom)
	return r.out
}

type reader struct {
	sp     *packet.Space
	at     string // of the rule that is read
	out    *kernel.Ruleset
	sets   map[place]*namedSet
	chains map[place]*kernel.Chain
	limits map[place]packet.Bucket
	names  *kernel.Names
	users  map[int]string // nil: nobody says what they are called
	groups map[int]string // the same
	joined map[place]bool // tables (no name) with chains that run before fragments are put together
	early  map[place]bool // tables (no name) with chains that run before connections are tracked
	scopes map[scope]packet.Set
	seldom kernel.Seldom
	rare   bool // something of it stands in the rule that is read
	zoned  bool // some rule says in which zone a packet's connection is looked up
}

// setsZone says that a statement sets the zone in which a packet's connection is looked up. Before
// that is done the packet has a stand-in for it, which is new (nft_ct_set_zone_eval in the
// kernel's net/netfilter/nft_ct.c).
func setsZone(e expr) bool {
	return e.kind == kindMangle && e.arg(0).kind == kindCT && e.arg(0).text == "zone"
}

// outside are the families whose hooks we do not model.
var outside = []string{"netdev", "bridge", "arp"}

// chainOf gives the chain of a rule; a listing may lack it.
func (r *reader) chainOf(p place) *kernel.Chain {
	c := r.chains[p]
	if c == nil {
		c = newChain(p)
		r.chains[p] = c
		r.out.Chains = append(r.out.Chains, c)
	}
	r.setOutside(c)
	return c
}

// trackingPriority is where the kernel's connection tracker hangs (NF_IP_PRI_CONNTRACK).
const trackingPriority = -200

// runsEarly says that a base chain sees packets before their connection is looked up.
func runsEarly(c *kernel.Chain) bool {
	return c.Hook == "ingress" || (c.Hook == "prerouting" || c.Hook == "output") && c.Priority <= trackingPriority
}

// setOutside marks a base chain that stands on a hook we do not model.
func (r *reader) setOutside(c *kernel.Chain) {
	if c.Family == "arp" { // nothing of IP gets there
		c.Hook = ""
		return
	}
	if c.Hook == "ingress" && c.Devices != nil && (c.Family == "netdev" || c.Family == "inet") {
		return
	}
	if c.Hook != "" && (slices.Contains(outside, c.Family) || c.Hook == "ingress" || c.Hook == "egress") {
		c.Outside = "chain " + c.Place() + ", which stands before or behind what we read"
	}
}

// Branches that most rules have; nobody changes them.
var (
	accepting = []kernel.Branch{{Match: packet.All, Action: kernel.Accept}}
	dropping  = []kernel.Branch{{Match: packet.All, Action: kernel.Drop}}
	returning = []kernel.Branch{{Match: packet.All, Action: kernel.Return}}
)

// statements reads a rule's expressions and adds it to out. It is more than one
// rule where a log stands before further matches: the line is written for all it matched.
func (r *reader) statements(c *kernel.Chain, exprs []expr, at string, out []kernel.Rule) []kernel.Rule {
	r.at = at
	cur := kernel.Rule{Match: packet.All}
	before := packet.All // cur.Match without the latest match
	flush := func() {
		out = append(out, cur)
		cur = kernel.Rule{Match: cur.Match}
	}
	for i := range exprs {
		e := &exprs[i]
		kind := e.kind
		if k, ok := verdictWords[e.text]; ok && kind == kindWord { // some verdicts may stand as bare words
			kind = k
		}
		if cur.Log && (kind == kindMatch || kind == kindLimit || kind == kindLimitNamed || kind == kindSetWrite || kind == kindVmap) {
			flush()
		}
		switch kind {
		case kindMatch:
			after := r.sp.And(cur.Match, r.compare(c, e.arg(0), e.text, e.arg(1)))
			if i > 0 && runTogether(&exprs[i-1], e) {
				after = r.sp.Or(after, r.sp.And(before, r.loaded(c, &exprs[i-1], e)))
			}
			before, cur.Match = cur.Match, after
		case kindAccept:
			cur.Branches = accepting
		case kindDrop:
			cur.Branches = dropping
		case kindReturn:
			cur.Branches = returning
		case kindCounter, kindPassing:
		case kindLog:
			cur.Log = e.part != "audit"
		case kindJump:
			cur.Branches = []kernel.Branch{{Match: packet.All, Action: kernel.Jump, Target: e.text}}
		case kindGoto:
			cur.Branches = []kernel.Branch{{Match: packet.All, Action: kernel.Goto, Target: e.text}}
		case kindReject:
			match, with := r.reject(e)
			cur.Match = r.sp.And(cur.Match, match)
			cur.Branches = []kernel.Branch{{Match: packet.All, Action: kernel.Reject, With: with}}
			if answered := r.answered(c); answered != packet.All {
				cur.Branches = []kernel.Branch{{Match: answered, Action: kernel.Reject, With: with}, {Match: packet.All, Action: kernel.Drop}}
			}
		case kindRedirect:
			cur.Branches = r.redirects(c, e)
		case kindSourceNAT:
			cur.Branches = []kernel.Branch{{Match: packet.All, Action: kernel.SourceNAT}}
		case kindTargetNAT:
			cur.Branches = r.targets(c, e)
		case kindUntrack:
			switch {
			case runsEarly(c) && c.Priority < trackingPriority:
				cur.Branches = []kernel.Branch{{Match: packet.All, Action: kernel.Pass, Untracks: true}}
				flush()
			case c.Hook == "" || runsEarly(c):
				cur.Branches = unmodelled(e)
				flush()
			}
		case kindFlow: // from then on what else stands here is spared to the connection's packets, when the kernel gets to it
			offloaded := r.sp.And(r.sp.Value(packet.State, packet.Established), r.sp.Not(r.happens(e, "not handed over by "+e.String()+" yet")))
			cur.Branches = []kernel.Branch{{Match: offloaded, Action: kernel.Bypass}}
			flush()
		case kindVmap:
			cur.Branches = r.vmap(c, e, at)
		case kindMangle:
			if rules, ok := r.markings(c, cur, e, exprs[i+1:], at, out); ok {
				return rules
			}
			switch m, ok := r.marking(e, at); {
			case ok:
				return r.marks(c, cur, m, exprs[i+1:], at, out)
			case !harmless(e.arg(0)):
				cur.Branches = unmodelled(e)
				flush()
			case e.arg(0).kind == kindPayload: // what does not have the header goes no further in the rule
				cur.Match = r.sp.And(cur.Match, r.scope(c, aField{header: e.arg(0).text}))
			case e.arg(0).kind == kindExthdr && i < len(exprs)-1: // nor what does not have the option
				cur.Match = r.sp.AndAll(cur.Match, r.scope(c, aField{header: "tcp"}), r.sp.Unknown(e.arg(0).String()))
			}
		case kindLimit, kindLimitNamed, kindSetWrite, kindCounted:
			cur.Match = r.sp.And(cur.Match, r.slowed(c, e, at))
		default:
			// It may decide the packet's fate, or be a match, or both.
			cur.Branches = unmodelled(e)
			flush()
			cur.Match = r.sp.And(cur.Match, r.sp.Unknown(e.String()+" ("+at+")"))
		}
	}
	return append(out, cur)
}

// runTogether says that nft (1.0.6 at least) loads two matches as one: it joins
// neighbouring fields of a header into one comparison, with != too, and then
// `tcp sport != 22 tcp dport != 80` refuses only packets with both ports. It
// lists them as they were written, so which of the two a kernel holds is
// not to be seen.
func runTogether(a, b *expr) bool {
	if a.kind != kindMatch || b.kind != kindMatch || a.text != "!=" || b.text != "!=" {
		return false
	}
	_, plainA := a.arg(1).int()
	_, plainB := b.arg(1).int()
	f, okF := fieldOf(a.arg(0))
	g, okG := fieldOf(b.arg(0))
	neighbours := f.field == packet.SrcPort && g.field == packet.DstPort || f.field == packet.ICMPType && g.field == packet.ICMPCode
	return okF && okG && f.header == g.header && neighbours && plainA && (plainB || f.names != nil)
}

// loaded is the packets that two matches run together let by, if they were.
func (r *reader) loaded(c *kernel.Chain, a, b *expr) packet.Set {
	equal := func(e *expr) packet.Set { return r.compare(c, e.arg(0), "==", e.arg(1)) }
	f, _ := fieldOf(a.arg(0))
	why := r.sp.Unknown(a.String() + " " + b.String() + ", which nft may have loaded as one comparison")
	return r.sp.AndAll(r.scope(c, f), why, r.sp.Not(r.sp.And(equal(a), equal(b))))
}

func unmodelled(e *expr) []kernel.Branch {
	return []kernel.Branch{{Match: packet.All, Action: kernel.Unmodelled, Why: e.String()}}
}

// harmless says that a mangle statement sets what no match that we model asks for.
func harmless(target *expr) bool {
	switch target.kind {
	case kindMeta:
		return slices.Contains([]string{"priority", "nftrace"}, target.text)
	case kindCT:
		// By zones the tracker tells connections apart: a packet's state is what it is in its own.
		return slices.Contains([]string{"label", "event", "helper", "timeout", "zone"}, target.text)
	case kindPayload:
		return slices.Contains([]string{"ip dscp", "ip ecn", "ip ttl", "ip6 dscp", "ip6 ecn", "ip6 hoplimit", "ip6 flowlabel"}, target.text+" "+target.part)
	case kindExthdr:
		return target.text == "tcp option maxseg"
	}
	return false
}

// reject gives what a reject statement asks of a packet by itself, and its answer.
func (r *reader) reject(e *expr) (packet.Set, string) {
	switch e.text {
	case "tcp reset":
		return r.sp.Value(packet.Protocol, packet.TCP), "tcp-reset"
	case "icmp":
		return r.sp.Value(packet.Family, packet.IPv4), answer(e.part)
	case "icmpv6":
		return r.sp.Value(packet.Family, packet.IPv6), answer(e.part)
	}
	return packet.All, answer(e.part)
}

// answer gives ICMP errors the one name that both families use.
func answer(expr string) string {
	switch expr {
	case "":
		return "port-unreachable"
	case "net-unreachable":
		return "no-route"
	case "addr-unreachable":
		return "host-unreachable"
	}
	return expr
}

// vmap reads a verdict map: the branches of its elements.
func (r *reader) vmap(c *kernel.Chain, e *expr, at string) (out []kernel.Branch) {
	elements, unknown := r.elements(c, e.arg(1))
	for i := range elements {
		pair := &elements[i]
		if pair.kind != kindList || len(pair.args) != 2 {
			unknown = true
			continue
		}
		verdict := r.statements(c, pair.args[1:], at, nil)
		match := r.compare(c, e.arg(0), "==", pair.args[0].value())
		for _, b := range verdict[0].Branches {
			b.Match = match
			out = append(out, b)
		}
	}
	if unknown {
		out = append(out, kernel.Branch{Match: packet.All, Action: kernel.Unmodelled, Why: "vmap " + e.arg(1).String()})
	}
	return out
}

// targets reads a change of the destination: to an address, or to those of a map.
func (r *reader) targets(c *kernel.Chain, e *expr) (out []kernel.Branch) {
	target := func(match packet.Set, address, port string) bool {
		a, err := netip.ParseAddr(address)
		n, errPort := strconv.Atoi(cmp.Or(port, "0"))
		if err != nil || errPort != nil {
			return false
		}
		family := packet.IPv4 // the others no such rule is for
		if a.Is6() {
			family = packet.IPv6
		}
		out = append(out, kernel.Branch{Match: r.sp.And(match, r.sp.Value(packet.Family, family)), Action: kernel.DestinationNAT, To: a, Port: n})
		return true
	}
	if len(e.args) == 1 {
		return r.spread(e)
	}
	if e.args == nil && e.text == "" {
		if port, err := strconv.Atoi(e.part); err == nil {
			return []kernel.Branch{{Match: packet.All, Action: kernel.DestinationNAT, Port: port}}
		}
		return unmodelled(e)
	}
	if e.args == nil {
		if !target(packet.All, e.text, e.part) {
			return unmodelled(e)
		}
		return out
	}
	elements, unknown := r.elements(c, e.arg(1))
	for i := range elements {
		pair := &elements[i]
		if pair.kind != kindList || len(pair.args) != 2 {
			return unmodelled(e)
		}
		address, port := pair.args[1].text, ""
		if to := pair.args[1]; to.kind == kindJoined && len(to.args) == 2 {
			address, port = to.args[0].text, to.args[1].text
		}
		if !target(r.compare(c, e.arg(0), "==", pair.args[0].value()), address, port) {
			return unmodelled(e)
		}
	}
	if unknown {
		return unmodelled(e)
	}
	return out
}

// spread is a change of the destination to one of a few addresses, nobody knows which.
func (r *reader) spread(e *expr) []kernel.Branch {
	from, errFrom := netip.ParseAddr(e.arg(0).arg(0).text)
	to, errTo := netip.ParseAddr(e.arg(0).arg(1).text)
	port, errPort := strconv.Atoi(cmp.Or(e.part, "0"))
	if errFrom != nil || errTo != nil || errPort != nil || from.Is4() != to.Is4() {
		return unmodelled(e)
	}
	out, ok := kernel.Spread(r.sp, e.String(), from, to, port)
	if !ok {
		return unmodelled(e)
	}
	return out
}

// redirects reads a change of the destination to the host itself: at a port, or at those of a map.
func (r *reader) redirects(c *kernel.Chain, e *expr) (out []kernel.Branch) {
	if e.args == nil {
		port, _ := e.int()
		return []kernel.Branch{{Match: packet.All, Action: kernel.Redirect, Port: port}}
	}
	elements, unknown := r.elements(c, e.arg(1))
	for i := range elements {
		pair := &elements[i]
		port, ok := pair.arg(1).int()
		if unknown || pair.kind != kindList || len(pair.args) != 2 || !ok {
			return unmodelled(e)
		}
		out = append(out, kernel.Branch{Match: r.compare(c, e.arg(0), "==", pair.args[0].value()), Action: kernel.Redirect, Port: port})
	}
	return out // of what is not in the map the rule does nothing
}

// elements gives the elements of an anonymous or named set or map; unknown says there may be others, or fewer.
func (r *reader) elements(c *kernel.Chain, e *expr) (elements []expr, unknown bool) {
	if name, ok := strings.CutPrefix(e.text, "@"); ok && e.kind == kindWord {
		s := r.sets[place{c.Family, c.Table, name}]
		if s == nil {
			return nil, true
		}
		return s.elements, s.changing
	}
	return e.args, e.kind != kindSet
}
