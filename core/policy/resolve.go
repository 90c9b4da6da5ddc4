package policy

import (
	"cmp"
	"fmt"
	"path"
	"slices"
	"sort"
	"strings"

	"go4.org/netipx"

	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
)

// A Source is one file of a policy's folder.
type Source struct {
	Name string `json:"name"`
	Text string `json:"text"`
}

// Read parses a policy's .fence files; its other files are lists of addresses.
func Read(sources []Source, fl *fleet.Fleet) (Input, []fence.Problem) {
	in := Input{Lists: map[string]string{}, Fleet: fl}
	var problems []fence.Problem
	for _, s := range sources {
		if path.Ext(s.Name) != ".fence" {
			in.Lists[s.Name] = s.Text
			continue
		}
		file, found := fence.Parse(s.Name, s.Text)
		in.Files, problems = append(in.Files, file), append(problems, found...)
	}
	return in, problems
}

// ListsOf names the files of addresses that a policy file refers to.
func ListsOf(file *fence.File) (names []string) {
	for _, stmt := range file.Stmts {
		if d, ok := stmt.(*fence.NetworkDecl); ok && d.List != nil {
			names = append(names, d.List.Text)
		}
	}
	return names
}

// An Input is what a policy is resolved from.
type Input struct {
	Files []*fence.File
	Lists map[string]string // the text of each list of addresses, by its file's name
	Fleet *fleet.Fleet
}

// Resolve looks up every name in a policy's files and holds them against a
// fleet. It always gives a policy, of what could be resolved, and every
// problem: names declared twice or not at all, cycles, rules that name hosts
// at no end, hosts with roles that nobody declared.
func Resolve(in Input) (*Policy, []fence.Problem) {
	files, fl := in.Files, in.Fleet
	r := &resolver{
		lists:      in.Lists,
		groups:     map[string]*group{},
		hosts:      make(map[string]*fleet.Host, len(fl.Hosts)),
		everything: packet.Everything(),
		pol:        &Policy{Fleet: fl},
		places:     map[string]fence.Pos{},
		networks:   map[string]*fence.NetworkDecl{},
		services:   map[string]*fence.ServiceDecl{},
		roles:      map[string]*Role{},
		addrs:      map[string]*Network{},
		terms:      map[string][]Term{},
		busy:       map[string]bool{},
	}
	files = slices.Clone(files)
	slices.SortFunc(files, func(a, b *fence.File) int { return cmp.Compare(a.Name, b.Name) })
	r.collect(files)
	for _, d := range r.networkOrder {
		r.pol.Networks = append(r.pol.Networks, r.network(d))
	}
	for _, d := range r.serviceOrder {
		r.service(d)
	}
	r.members()
	r.strangersOf()
	r.rules()
	r.others()
	fence.SortProblems(r.problems)
	return r.pol, r.problems
}

type resolver struct {
	pol *Policy

	// what the files declare
	places       map[string]fence.Pos // of networks, segments, services and roles: one namespace
	networks     map[string]*fence.NetworkDecl
	services     map[string]*fence.ServiceDecl
	roles        map[string]*Role
	networkOrder []*fence.NetworkDecl
	serviceOrder []*fence.ServiceDecl
	ruleOrder    []*fence.Rule
	otherOrder   []fence.Stmt // ground, redirects, masquerades, leaves, expectations
	lists        map[string]string
	strangers    *netipx.IPSet
	groups       map[string]*group // of roles, and "fleet"
	everything   *netipx.IPSet
	hosts        map[string]*fleet.Host

	// what is resolved so far
	addrs map[string]*Network
	terms map[string][]Term
	busy  map[string]bool // being resolved now: met again, it is a cycle

	problems []fence.Problem
}

func (r *resolver) errorf(i fence.Ident, code, format string, args ...any) *fence.Problem {
	r.problems = append(r.problems, fence.Errorf(i.Pos, len(i.Name), code, format, args...))
	return &r.problems[len(r.problems)-1]
}

// declare notes a name, and says whether it is new.
func (r *resolver) declare(i fence.Ident) bool {
	if before, twice := r.places[i.Name]; twice {
		r.errorf(i, "twice", "%q is declared twice", i.Name).Hint = fmt.Sprintf("the other declaration is at %s; networks, segments, services and roles share their names", before)
		return false
	}
	r.places[i.Name] = i.Pos
	return true
}

func (r *resolver) collect(files []*fence.File) {
	var named *fence.PolicyDecl
	rules := map[string]fence.Pos{}
	for _, f := range files {
		for _, stmt := range f.Stmts {
			switch d := stmt.(type) {
			case *fence.PolicyDecl:
				if named != nil {
					r.errorf(d.Declared(), "twice", "the policy is named twice").Hint = "the other name is at " + named.Pos.String() + "; leave one"
					continue
				}
				named = d
				r.pol.Name, r.pol.Description, r.pol.Pos = d.Name, d.Description, d.Pos
			case *fence.NetworkDecl:
				if r.declare(d.Declared()) {
					r.networks[d.Name] = d
					r.networkOrder = append(r.networkOrder, d)
				}
			case *fence.ServiceDecl:
				if _, known := registry()[d.Name]; known {
					r.errorf(d.Declared(), "registered", "%q is a registered service and needs no declaration", d.Name).Hint =
						"take the declaration away, or choose another name"
					continue
				}
				if r.declare(d.Declared()) {
					r.services[d.Name] = d
					r.serviceOrder = append(r.serviceOrder, d)
				}
			case *fence.RoleDecl:
				if r.declare(d.Declared()) {
					r.role(d)
				}
			case *fence.Rule:
				if before, twice := rules[d.Name]; twice {
					r.errorf(d.Declared(), "twice", "two rules are named %q", d.Name).Hint = "the other is at " + before.String() + "; a rule's name says which rule is meant"
					continue
				}
				rules[d.Name] = d.Pos
				r.ruleOrder = append(r.ruleOrder, d)
			case *fence.GroundDecl:
				r.otherOrder = append(r.otherOrder, d)
			default: // redirects and the like share the rules' names
				i := stmt.Declared()
				if before, twice := rules[i.Name]; twice {
					r.errorf(i, "twice", "two rules are named %q", i.Name).Hint = "the other is at " + before.String() + "; a rule's name says which rule is meant"
					continue
				}
				rules[i.Name] = i.Pos
				r.otherOrder = append(r.otherOrder, stmt)
			}
		}
	}
	if named == nil {
		name := ""
		if len(files) > 0 {
			name = files[0].Name
		}
		r.errorf(fence.Ident{Pos: fence.Pos{File: name, Line: 1, Column: 1}}, "unnamed", "the policy has no name").Hint =
			`begin one of its files with: policy NAME "description" language 1`
	}
}

func (r *resolver) role(d *fence.RoleDecl) {
	role := &Role{Name: d.Name, Description: d.Description, Closed: map[Direction]bool{}, Pos: d.Pos}
	for _, s := range d.Stances {
		role.Closed[Direction(slices.Index(DirectionNames, s.Direction))] = s.Closed
	}
	if d.RefuseBy != nil {
		role.RefuseBy = refusal(d.RefuseBy)
	}
	role.LogRefused = d.LogRefused
	r.roles[d.Name] = role
	r.pol.Roles = append(r.pol.Roles, role)
}

func refusal(c *fence.Choice) packet.Verdict {
	if c != nil && c.Word == "reject" {
		return packet.Reject
	}
	return packet.Drop
}

// unknown reports a name that is not declared, with the nearest that is.
func (r *resolver) unknown(i fence.Ident, what string, candidates ...string) {
	hint := ""
	if near := fence.Nearest(i.Name, candidates); near != "" {
		hint = fmt.Sprintf("did you mean %q?", near)
	} else if pos, declared := r.places[i.Name]; declared {
		hint = fmt.Sprintf("%q is declared at %s as something else", i.Name, pos)
	}
	r.errorf(i, "unknown", "no %s is named %q", what, i.Name).Hint = hint
}

func keysOf[V any](maps ...map[string]V) (keys []string) {
	for _, m := range maps {
		for k := range m {
			keys = append(keys, k)
		}
	}
	sort.Strings(keys)
	return keys
}

// enter guards against cycles: it is false, with the problem told, where name is being resolved already.
func (r *resolver) enter(i fence.Ident, what string) bool {
	if r.busy[i.Name] {
		r.errorf(i, "cycle", "the %s %q is made of itself", what, i.Name).Hint = "a " + what + " may name others, but not in a circle"
		return false
	}
	r.busy[i.Name] = true
	return true
}

func (r *resolver) network(d *fence.NetworkDecl) *Network {
	if n := r.addrs[d.Name]; n != nil {
		return n
	}
	n := &Network{Name: d.Name, Segment: d.Segment, Shared: d.Shared, Local: d.Local, Description: d.Description, Pos: d.Pos}
	if !r.enter(d.Declared(), "network") {
		n.Addrs = &netipx.IPSet{}
		return n
	}
	if d.List != nil {
		n.Addrs = r.list(d)
	} else {
		n.Addrs = r.minus(d.Addrs.Items, d.Addrs.Except)
	}
	delete(r.busy, d.Name)
	r.addrs[d.Name] = n
	return n
}

// minus is the addresses of items without those of except.
func (r *resolver) minus(items, except []fence.AddrItem) *netipx.IPSet {
	var b netipx.IPSetBuilder
	for _, item := range items {
		b.AddSet(r.addrItem(item))
	}
	for _, item := range except {
		b.RemoveSet(r.addrItem(item))
	}
	set, _ := b.IPSet()
	return set
}

func (r *resolver) addrItem(item fence.AddrItem) *netipx.IPSet {
	if item.Name == "" {
		var b netipx.IPSetBuilder
		if item.From.IsValid() {
			b.AddRange(netipx.IPRangeFrom(item.From, item.To))
		}
		set, _ := b.IPSet()
		return set
	}
	d, ok := r.networks[item.Name]
	if !ok {
		r.unknown(fence.Ident{Name: item.Name, Pos: item.Pos}, "network or segment", keysOf(r.networks)...)
		return &netipx.IPSet{}
	}
	n := r.network(d)
	n.Used = true
	return n.Addrs
}

// list reads a list of addresses from its file: one a line, # begins a comment.
func (r *resolver) list(d *fence.NetworkDecl) *netipx.IPSet {
	text, ok := r.lists[d.List.Text]
	at := fence.Ident{Name: d.List.Text + `""`, Pos: d.List.Pos}
	if !ok {
		hint := "the file lies in the policy's folder; its name is written as from there"
		if strings.HasPrefix(d.List.Text, "/") || strings.HasPrefix(path.Clean(d.List.Text), "..") {
			hint = "a list must lie in the policy's folder, which this leaves"
		}
		r.errorf(at, "list", "there is no list %q", d.List.Text).Hint = hint
		return &netipx.IPSet{}
	}
	var b netipx.IPSetBuilder
	for i, line := range strings.Split(text, "\n") {
		line, _, _ = strings.Cut(line, "#")
		if line = strings.TrimSpace(line); line == "" {
			continue
		}
		item, problem := fence.ParseAddress(line, fence.Pos{File: d.List.Text, Line: i + 1, Column: 1})
		if problem != nil {
			r.problems = append(r.problems, *problem)
			continue
		}
		b.AddRange(netipx.IPRangeFrom(item.From, item.To))
	}
	set, _ := b.IPSet()
	return set
}

func (r *resolver) service(d *fence.ServiceDecl) []Term {
	if terms, done := r.terms[d.Name]; done {
		return terms
	}
	if !r.enter(d.Declared(), "service") {
		return nil
	}
	terms := r.serviceTerms(d.Terms)
	delete(r.busy, d.Name)
	r.terms[d.Name] = terms
	r.pol.Services = append(r.pol.Services, &Service{Name: d.Name, Terms: terms, Pos: d.Pos})
	return terms
}

func (r *resolver) serviceTerms(list []fence.ServiceTerm) (terms []Term) {
	for _, t := range list {
		if t.Name == "" {
			terms = append(terms, plain(t)...)
		} else if known, ok := registry()[t.Name]; ok {
			terms = append(terms, known...)
		} else if d, ok := r.services[t.Name]; ok {
			terms = append(terms, r.service(d)...)
			for _, s := range r.pol.Services {
				s.Used = s.Used || s.Name == t.Name
			}
		} else {
			r.unknown(fence.Ident{Name: t.Name, Pos: t.Pos}, "service", append(keysOf(r.services), RegisteredNames()...)...)
		}
	}
	return terms
}

// members puts every host under its roles.
func (r *resolver) members() {
	for _, h := range r.pol.Fleet.Hosts {
		for i, name := range h.Roles {
			role, ok := r.roles[name]
			if !ok {
				r.unknown(fence.Ident{Name: name, Pos: h.RolePos[i]}, "role", keysOf(r.roles)...)
				continue
			}
			role.Hosts = append(role.Hosts, h)
		}
		r.hosts[h.Name] = h
		for _, i := range h.Interfaces {
			if i.Segment != "" {
				r.segment(fence.Ident{Name: i.Segment, Pos: i.SegmentPos})
			}
		}
	}
}

func (r *resolver) rules() {
	byName := map[string]*Rule{}
	for _, d := range r.ruleOrder {
		rule := &Rule{Name: d.Name, Block: d.Block, Log: d.Log != nil, Guard: d.Guard, Off: d.Off != nil, Pos: d.Pos, Decl: d, Verdict: packet.Admit,
			From: r.side(d.From), To: r.side(d.To), Terms: r.serviceTerms(d.Services)}
		if d.Block {
			rule.Verdict = refusal(d.By)
		}
		rule.Services = textOf(d.Services)
		if d.On != nil {
			rule.On = r.segment(*d.On)
		}
		if d.Arriving != nil {
			rule.Arriving = r.segment(*d.Arriving)
		}
		if d.Until != nil {
			rule.Until, _ = d.Until.Instant()
		}
		r.guardTakesNo(d)
		rule.Later = r.later(d)
		if !rule.From.Named && !rule.To.Named {
			r.errorf(d.Declared(), "no-end", "the rule %q names hosts of ours at neither end", d.Name).Hint =
				"name a role, host NAME or fleet on one side, so that there is a host to put the rule on"
		}
		byName[d.Name] = rule
		r.pol.Rules = append(r.pol.Rules, rule)
	}
	r.exceptions(byName)
}

func textOf(terms []fence.ServiceTerm) string {
	texts := make([]string, len(terms))
	for i, t := range terms {
		texts[i] = t.Text
	}
	return strings.Join(texts, ", ")
}

// guardTakesNo: a guard is sure, so nothing may end, stop or slow it.
func (r *resolver) guardTakesNo(d *fence.Rule) {
	if !d.Guard {
		return
	}
	for word, pos := range map[string]*fence.Pos{"until": untilPos(d), "off": d.Off, "at most": atMostPos(d)} {
		if pos != nil {
			r.errorf(fence.Ident{Name: word, Pos: *pos}, "guard", "a guard takes no %q: the way in must be sure", word).Hint = "take it away, or take guard away"
		}
	}
}

func untilPos(d *fence.Rule) *fence.Pos {
	if d.Until == nil {
		return nil
	}
	return &d.Until.Pos
}

func atMostPos(d *fence.Rule) *fence.Pos {
	if d.AtMost == nil {
		return nil
	}
	return &d.AtMost.Pos
}

// later lists the modifiers of a rule that no dialect writes yet.
func (r *resolver) later(d *fence.Rule) (out []string) {
	if d.AtMost != nil {
		out = append(out, "at most")
	}
	if d.Log != nil && d.Log.UpTo != nil {
		out = append(out, "log up to")
	}
	for _, s := range d.Senders {
		out = append(out, "from "+s.Kind)
	}
	if d.Encrypted {
		out = append(out, "encrypted")
	}
	if d.Until != nil {
		out = append(out, "until")
	}
	if d.Through != nil {
		if _, ok := r.roles[d.Through.Name]; !ok {
			r.unknown(*d.Through, "role", keysOf(r.roles)...)
		}
		out = append(out, "through")
	}
	return out
}

// others resolves the statements that are no allow and no block.
func (r *resolver) others() {
	for _, stmt := range r.otherOrder {
		later := Later{Title: "", Pos: stmt.Declared().Pos, Stmt: stmt}
		var sides []Side
		switch d := stmt.(type) {
		case *fence.GroundDecl:
			r.ground(d)
			continue
		case *fence.Redirect:
			later.Title = "redirect " + d.Name
			if sides = append(sides, r.side(d.From), r.side(d.To)); d.At != nil {
				sides = append(sides, r.roleSide(*d.At))
			}
			if d.Target != nil {
				sides = append(sides, r.side(fence.Peers{Items: []fence.Peer{*d.Target}}))
			}
		case *fence.Masquerade:
			later.Title = "masquerade " + d.Name
			r.side(d.From)
			r.side(d.To)
			sides = append(sides, r.roleSide(d.Via))
		case *fence.Leave:
			later.Title = "leave " + d.Name
			sides = append(sides, r.side(d.Peers))
		case *fence.Expectation:
			later.Title = "expect " + d.Name
			r.side(d.From)
			r.side(d.To)
			r.serviceTerms(d.Services)
			if d.On != nil {
				r.segment(*d.On)
			}
		}
		hosts := map[*fleet.Host]bool{}
		for _, s := range sides {
			for _, h := range s.Hosts {
				if !hosts[h] {
					hosts[h] = true
					later.Hosts = append(later.Hosts, h)
				}
			}
		}
		r.pol.Later = append(r.pol.Later, later)
	}
}

func (r *resolver) roleSide(i fence.Ident) Side {
	return r.side(fence.Peers{Items: []fence.Peer{{Kind: fence.NamedPeer, Name: i.Name, Pos: i.Pos, Text: i.Name}}})
}

func (r *resolver) ground(d *fence.GroundDecl) {
	for _, p := range d.Parts {
		for _, dir := range []Direction{Inbound, Outbound} {
			if p.Direction != "" && p.Direction != DirectionNames[dir] {
				continue
			}
			change := GroundChange{Part: p.Name, Direction: dir, Off: p.Off}
			if !p.Off {
				change.From = r.side(p.From).Addrs
			}
			r.pol.Ground = append(r.pol.Ground, change)
		}
	}
}

// strangersOf works out who the strangers are: every address but our hosts' and
// those in networks and segments that are not shared. A network that only
// blocks name is one of strangers.
func (r *resolver) strangersOf() {
	allowed, blocked := map[string]bool{}, map[string]bool{}
	for _, d := range r.ruleOrder {
		for _, p := range slices.Concat(d.From.Items, d.From.Except, d.To.Items, d.To.Except) {
			if d.Block {
				blocked[p.Name] = true
			} else {
				allowed[p.Name] = true
			}
		}
	}
	b := netipx.IPSetBuilder{}
	b.AddSet(packet.Everything())
	for _, n := range r.pol.Networks {
		if !n.Shared && (allowed[n.Name] || !blocked[n.Name]) {
			b.RemoveSet(n.Addrs)
		}
	}
	b.RemoveSet(r.group("fleet", r.pol.Fleet.Hosts).addrs)
	r.strangers, _ = b.IPSet()
}

// exceptions resolves what the allows are exceptions to.
func (r *resolver) exceptions(byName map[string]*Rule) {
	var blocks []string
	for _, rule := range r.pol.Rules {
		if rule.Block {
			blocks = append(blocks, rule.Name)
		}
	}
	for _, d := range r.ruleOrder {
		for _, i := range d.Over {
			if b := byName[i.Name]; b == nil {
				r.unknown(i, "block", blocks...)
			} else if !b.Block {
				r.errorf(i, "over", "%q is an allow; an exception is made to a block", i.Name).Hint = "name the block that stands in the way"
			} else {
				byName[d.Name].Over = append(byName[d.Name].Over, b)
			}
		}
	}
}

func (r *resolver) segment(i fence.Ident) *Network {
	d, ok := r.networks[i.Name]
	if !ok || !d.Segment {
		var segments []string
		for name, n := range r.networks {
			if n.Segment {
				segments = append(segments, name)
			}
		}
		sort.Strings(segments)
		r.unknown(i, "segment", segments...)
		return nil
	}
	n := r.network(d)
	n.Used = true
	return n
}

func (r *resolver) side(p fence.Peers) Side {
	if s, ok := r.plainSide(p); ok {
		return s
	}
	s := Side{Pos: p.Pos, At: map[*fleet.Host]*netipx.IPSet{}}
	hosts := map[*fleet.Host]bool{}
	whole := map[*fleet.Host]bool{} // named without saying which address
	var b netipx.IPSetBuilder
	var texts, exceptions []string
	for _, peer := range p.Items {
		texts = append(texts, peer.Text)
		if peer.Name != "" {
			s.Refs = append(s.Refs, peer.Name)
		}
		s.Everywhere = s.Everywhere || peer.Kind == fence.EverywherePeer
		named, members, addrs := r.peer(peer)
		s.Named = s.Named || named
		var where *netipx.IPSet
		if peer.At != nil {
			where = r.addrItem(*peer.At)
			addrs = intersect(addrs, where)
			if !named {
				r.errorf(fence.Ident{Name: peer.At.Text, Pos: peer.At.Pos}, "at", "`at` says which address of a host of ours is meant; %s names none", peer.Text).Hint = "write the addresses themselves"
			}
		}
		for _, h := range members {
			hosts[h] = true
			if where == nil {
				whole[h] = true
				continue
			}
			both := intersect(h.Addresses(), where)
			if before := s.At[h]; before != nil {
				both = union(both, before)
			}
			s.At[h] = both
		}
		b.AddSet(addrs)
	}
	for h := range whole {
		delete(s.At, h)
	}
	for _, peer := range p.Except {
		exceptions = append(exceptions, peer.Text)
		_, members, addrs := r.peer(peer)
		for _, h := range members {
			delete(hosts, h)
		}
		b.RemoveSet(addrs)
	}
	s.Text = strings.Join(texts, ", ")
	if exceptions != nil {
		s.Text += " except " + strings.Join(exceptions, ", ")
	}
	for _, h := range r.pol.Fleet.Hosts {
		if hosts[h] {
			s.Hosts = append(s.Hosts, h)
		}
	}
	s.Addrs, _ = b.IPSet()
	s.named = hosts
	return s
}

// plainSide is side for what most sides are: one role, network or the like. It
// shares what was worked out for others that name the same.
func (r *resolver) plainSide(p fence.Peers) (s Side, ok bool) {
	if len(p.Items) != 1 || p.Except != nil || p.Items[0].At != nil {
		return s, false
	}
	peer := p.Items[0]
	s = Side{Text: peer.Text, Pos: p.Pos, Everywhere: peer.Kind == fence.EverywherePeer}
	if peer.Name != "" {
		s.Refs = []string{peer.Name}
	}
	named, g := r.peerGroup(peer)
	if s.Named, s.Addrs = named, g.addrs; named {
		s.Hosts, s.named = g.hosts, g.named
	}
	return s, true
}

// group gives the group of a role or of the fleet, made once.
func (r *resolver) group(name string, hosts []*fleet.Host) *group {
	g := r.groups[name]
	if g == nil {
		g = newGroup(hosts)
		r.groups[name] = g
	}
	return g
}

func intersect(a, b *netipx.IPSet) *netipx.IPSet {
	var builder netipx.IPSetBuilder
	builder.AddSet(a)
	builder.Intersect(b)
	set, _ := builder.IPSet()
	return set
}

func union(a, b *netipx.IPSet) *netipx.IPSet {
	var builder netipx.IPSetBuilder
	builder.AddSet(a)
	builder.AddSet(b)
	set, _ := builder.IPSet()
	return set
}

// peer gives the hosts and addresses a peer stands for, and whether it names hosts of ours.
func (r *resolver) peer(p fence.Peer) (named bool, hosts []*fleet.Host, addrs *netipx.IPSet) {
	named, g := r.peerGroup(p)
	return named, g.hosts, g.addrs
}

func (r *resolver) peerGroup(p fence.Peer) (named bool, g *group) {
	at := fence.Ident{Name: p.Name, Pos: p.Pos}
	switch p.Kind {
	case fence.EverywherePeer:
		return false, &group{addrs: r.everything}
	case fence.StrangersPeer:
		return false, &group{addrs: r.strangers}
	case fence.AddressPeer:
		return false, &group{addrs: r.addrItem(*p.Addr)}
	case fence.FleetPeer:
		return true, r.group("fleet", r.pol.Fleet.Hosts)
	case fence.HostPeer:
		h := r.hosts[p.Name]
		if h == nil {
			r.unknown(at, "host", r.pol.Fleet.Names()...)
			return true, newGroup(nil)
		}
		return true, r.group("host "+p.Name, []*fleet.Host{h})
	}
	if role, ok := r.roles[p.Name]; ok {
		return true, r.group("role "+p.Name, role.Hosts)
	}
	if d, ok := r.networks[p.Name]; ok {
		n := r.network(d)
		n.Used = true
		return false, &group{addrs: n.Addrs}
	}
	r.unknown(at, "role, network or segment", append(keysOf(r.roles), keysOf(r.networks)...)...)
	return true, newGroup(nil)
}
