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

// Error says on which line what was expected.
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
	r := &reader{sp: sp, out: &kernel.Ruleset{Chains: l.chains}, sets: map[place]*namedSet{}, chains: map[place]*kernel.Chain{},
		early: map[place]bool{}, joined: map[place]bool{},
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

// reader makes a ruleset of a listing. Chains and sets are collected first, since rules name
// them before they are listed.
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
