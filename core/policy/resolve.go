package policy

import (
	"cmp"
	"fmt"
	"net/netip"
	"net/url"
	"path"
	"slices"
	"sort"
	"strings"

	"go4.org/netipx"

	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/source"
)

// A Source is one file of a policy's folder.
type Source struct {
	Name string `json:"name"`
	Text string `json:"text"`
}

// Read parses a policy's .fence files; its other files are lists of addresses.
//
// A policy that is larger than anybody writes is not read: the one problem says so.
func Read(sources []Source, fl *fleet.Fleet) (Input, []source.Problem) {
	in := Input{Lists: map[string]string{}, Fleet: fl}
	var problems []source.Problem
	text, lines, statements := 0, 0, 0
	for _, s := range sources {
		if path.Ext(s.Name) == ".fence" {
			text += len(s.Text)
		} else {
			lines += strings.Count(s.Text, "\n") + 1
		}
	}
	if text > MaxText {
		return in, tooLarge(sources, "the policy has %d MiB of statements, more than the %d MiB that are read", (text+1<<20-1)>>20, MaxText>>20)
	}
	if lines > MaxListed {
		return in, tooLarge(sources, "the lists hold %d lines, more than the %d that are read", lines, MaxListed)
	}
	for _, s := range sources {
		if path.Ext(s.Name) != ".fence" {
			in.Lists[s.Name] = s.Text
			continue
		}
		file, found := fence.Parse(s.Name, s.Text)
		in.Files, problems = append(in.Files, file), append(problems, found...)
		statements += len(file.Stmts)
	}
	if statements > MaxStatements {
		return Input{Lists: map[string]string{}, Fleet: fl}, tooLarge(sources, "the policy has %d statements, more than the %d that are read", statements, MaxStatements)
	}
	return in, problems
}

// Bounds of a policy: several times what the largest has.
const (
	MaxText       = 4 << 20 // bytes of its statements
	MaxStatements = 10_000
	MaxListed     = 500_000 // lines of its lists of addresses
)

func tooLarge(sources []Source, format string, args ...any) []source.Problem {
	return []source.Problem{source.Errorf(source.Pos{File: sources[0].Name, Line: 1, Column: 1}, 1, "policy-size", format, args...).
		Hinted("split the policy, or keep long lists of addresses elsewhere in fewer, larger prefixes")}
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

	Budget packet.Budget // ends the work with a panic, see packet.Try
}

// Resolve looks up every name in a policy's files and holds them against a
// fleet. It always gives a policy, of what could be resolved, and every
// problem: names declared twice or not at all, cycles, rules that name hosts
// at no end, hosts with roles that nobody declared.
func Resolve(in Input) (*Policy, []source.Problem) {
	files, fl := in.Files, in.Fleet
	r := &resolver{
		budget:     in.Budget,
		lists:      in.Lists,
		groups:     map[string]*group{},
		both:       map[[2]*netipx.IPSet]*netipx.IPSet{},
		unshared:   map[string]*netipx.IPSet{},
		hosts:      make(map[string]*fleet.Host, len(fl.Hosts)),
		everything: packet.Everything(),
		pol:        &Policy{Fleet: fl},
		places:     map[string]source.Pos{},
		networks:   map[string]*fence.NetworkDecl{},
		services:   map[string]*fence.ServiceDecl{},
		peersDecls: map[string]*fence.PeersDecl{},
		peersOf:    map[string]*Peers{},
		roles:      map[string]*Role{},
		addrs:      map[string]*Network{},
		terms:      map[string][]Term{},
		busy:       map[string]bool{},
	}
	files = slices.Clone(files)
	slices.SortFunc(files, func(a, b *fence.File) int { return cmp.Compare(a.Name, b.Name) })
	r.parts(files)
	r.collect(files)
	for _, d := range r.networkOrder {
		in.Budget.Check()
		r.pol.Networks = append(r.pol.Networks, r.network(d))
	}
	for _, d := range r.serviceOrder {
		r.service(d)
	}
	r.members()
	r.strangersOf()
	for _, d := range r.peersOrder {
		r.pol.Peers = append(r.pol.Peers, r.peers(d))
	}
	for _, d := range r.joinOrder {
		r.join(d)
	}
	r.partsFor()
	r.rules()
	r.others()
	r.spoken()
	source.SortProblems(r.problems)
	r.pol.names = r
	return r.pol, r.problems
}

// Ask resolves the sides and services of a question in the policy's own names.
// It may be called at the same time by many.
func (p *Policy) Ask(q *fence.Question) (from, to Side, terms []Term, problems []source.Problem) {
	p.asking.Lock()
	defer p.asking.Unlock()
	r := p.names
	known := len(r.problems)
	r.hostsByName = true
	from, to, terms = r.side(q.From), r.side(q.To), r.serviceTerms(q.Services)
	r.hostsByName = false
	if len(r.problems) > known {
		problems = slices.Clone(r.problems[known:])
	}
	r.problems = r.problems[:known]
	return from, to, terms, problems
}

type resolver struct {
	pol *Policy

	// what the files declare
	places       map[string]source.Pos // of networks, segments, services and roles: one namespace
	networks     map[string]*fence.NetworkDecl
	services     map[string]*fence.ServiceDecl
	peersDecls   map[string]*fence.PeersDecl
	peersOf      map[string]*Peers
	peersOrder   []*fence.PeersDecl
	roles        map[string]*Role
	roleOrder    []*fence.RoleDecl
	joinOrder    []*fence.JoinDecl
	joined       int // ways from one network to another that joins say
	networkOrder []*fence.NetworkDecl
	serviceOrder []*fence.ServiceDecl
	ruleOrder    []*fence.Rule
	otherOrder   []fence.Stmt // ground, redirects, masquerades, leaves, expectations
	budget       packet.Budget
	lists        map[string]string
	strangers    *netipx.IPSet
	groups       map[string]*group // of roles, and "fleet"
	everything   *netipx.IPSet
	both         map[[2]*netipx.IPSet]*netipx.IPSet // see within
	unshared     map[string]*netipx.IPSet           // see known
	hosts        map[string]*fleet.Host
	hostsByName  bool // a host may be named without `host`: in a question

	// what is resolved so far
	addrs map[string]*Network
	terms map[string][]Term
	busy  map[string]bool // being resolved now: met again, it is a cycle

	problems []source.Problem
}

// width is how long a name is where it is written.
func (r *resolver) width(i fence.Ident) int {
	if p := partOf(r.pol.Parts, i.Pos.File); p != nil {
		return len(strings.TrimPrefix(i.Name, p.Name+"."))
	}
	return len(i.Name)
}

func (r *resolver) errorf(i fence.Ident, code, format string, args ...any) *source.Problem {
	r.problems = append(r.problems, source.Errorf(i.Pos, r.width(i), code, format, args...))
	return &r.problems[len(r.problems)-1]
}

// declare notes a name, and says whether it is new.
func (r *resolver) declare(i fence.Ident) bool {
	if before, twice := r.places[i.Name]; twice {
		r.errorf(i, "twice", "%q is declared twice", i.Name).Hint = fmt.Sprintf("the other declaration is at %s; networks, segments, services, roles and peers share their names", before)
		return false
	}
	r.places[i.Name] = i.Pos
	return true
}

func (r *resolver) collect(files []*fence.File) {
	var named *fence.PolicyDecl
	rules, expects := map[string]source.Pos{}, map[string]source.Pos{}
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
				for _, who := range d.By {
					r.pol.By = append(r.pol.By, who.Text)
				}
			case *fence.NetworkDecl:
				if r.declare(d.Declared()) {
					r.networks[d.Name] = d
					r.networkOrder = append(r.networkOrder, d)
				}
			case *fence.ServiceDecl:
				if r.declare(d.Declared()) {
					r.services[d.Name] = d
					r.serviceOrder = append(r.serviceOrder, d)
				}
			case *fence.PeersDecl:
				if r.declare(d.Declared()) {
					r.peersDecls[d.Name] = d
					r.peersOrder = append(r.peersOrder, d)
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
			case *fence.JoinDecl:
				r.joinOrder = append(r.joinOrder, d)
			case *fence.PartDecl: // see parts
			case *fence.Expectation:
				if before, twice := expects[d.Name]; twice {
					r.errorf(d.Declared(), "twice", "two expectations are named %q", d.Name).Hint = "the other is at " + before.String() + "; an expectation's name says which is meant"
					continue
				}
				expects[d.Name] = d.Pos
				r.otherOrder = append(r.otherOrder, d)
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
		r.errorf(fence.Ident{Pos: source.Pos{File: name, Line: 1, Column: 1}}, "unnamed", "the policy has no name").Hint =
			`begin one of its files with: policy NAME "description" language 1`
	}
}

func (r *resolver) role(d *fence.RoleDecl) {
	role := &Role{Name: d.Name, Description: d.Description, Closed: map[packet.Direction]bool{}, Trials: map[packet.Direction]*Trial{}, Pos: d.Pos}
	for _, s := range d.Stances {
		dir, _ := packet.DirectionNamed(s.Direction) // the parser takes no other
		role.Closed[dir] = s.Closed
		if s.Trial != nil {
			role.Trials[dir] = trial(s.Trial)
		}
	}
	if d.RefuseBy != nil {
		role.RefuseBy = refusal(d.RefuseBy)
	}
	role.LogRefused = logOf(d.LogRefused)
	r.roles[d.Name] = role
	r.roleOrder = append(r.roleOrder, d)
	r.pol.Roles = append(r.pol.Roles, role)
}

func trial(t *fence.Trial) *Trial {
	if t == nil {
		return nil
	}
	end, _ := t.Until.Instant()
	return &Trial{Until: end, Open: t.Open}
}

func refusal(c *fence.Choice) packet.Verdict {
	if c != nil && c.Word == "reject" {
		return packet.Reject
	}
	return packet.Drop
}

// otherNames are services by names that are common and not registered.
var otherNames = map[string]string{
	"dns": "domain", "rdp": "tcp 3389, udp 3389", "postgres": "postgresql", "smb": "tcp 445", "cifs": "tcp 445", "mongodb": "tcp 27017", "redis": "tcp 6379", "wireguard": "udp 51820",
	"tls": "https, or the port: tcp 443", "ssl": "https, or the port: tcp 443", "icmp6": "icmpv6", "all": "any", "dhcp": "udp 67", "vnc": "tcp 5900", "winrm": "tcp 5985-5986", "mssql": "ms-sql-s", "quic": "udp 443", "http3": "udp 443",
}

// unknown reports a name that is not declared, with the nearest that is.
func (r *resolver) unknown(i fence.Ident, what string, candidates ...string) {
	hint := ""
	if other := otherNames[i.Name]; other != "" && what == "service" {
		hint = "write " + other
	} else if near := source.Nearest(i.Name, candidates); near != "" {
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
		r.errorf(i, "cycle", "the %s %q is made of itself", what, i.Name).Hint = "one may name others, but not in a circle"
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
		n.List, n.Addrs = d.List.Text, r.list(d)
		if d.Fetch != nil {
			n.Fetch = r.fetch(d.Fetch)
		}
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

// fetch is from where a list is read anew, with what it does not say.
func (r *resolver) fetch(f *fence.Fetch) *Fetch {
	u, err := url.Parse(f.URL.Text)
	if err != nil || u.Scheme != "https" || u.Host == "" || u.User != nil || u.Fragment != "" {
		r.errorf(fence.Ident{Name: f.URL.Text + `""`, Pos: f.URL.Pos}, "list", "%q is no address that a list can be read from", f.URL.Text).Hint = "it is an https address, as https://lists.example/pests.txt"
		return nil
	}
	out := &Fetch{URL: f.URL.Text, Every: fetchEvery, UpTo: cmp.Or(f.UpTo, fetchUpTo), Changing: cmp.Or(f.Changing, fetchChanging)}
	if f.Every != nil {
		out.Every = f.Every.Seconds
	}
	return out
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
		item, problem := fence.ParseAddress(line, source.Pos{File: d.List.Text, Line: i + 1, Column: 1})
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
	terms := r.serviceTerms(d.Terms, d.Name)
	delete(r.busy, d.Name)
	r.terms[d.Name] = terms
	svc := &Service{Name: d.Name, Terms: terms, Pos: d.Pos}
	for _, u := range d.Units {
		svc.Units = append(svc.Units, u.Text)
	}
	r.pol.Services = append(r.pol.Services, svc)
	return terms
}

// serviceTerms looks up services: a declared one counts before a registered one of that name,
// but not in its own declaration.
func (r *resolver) serviceTerms(list []fence.ServiceTerm, within ...string) (terms []Term) {
	for _, t := range list {
		known, registered := registry()[t.Name]
		if t.Name == "" {
			of := plain(t)
			for i := range of {
				of[i].Not = r.serviceTerms(t.Except, within...)
				if slices.ContainsFunc(of[i].Not, func(n Term) bool { return n.Protocol == AnyProtocol }) {
					r.errorf(fence.Ident{Name: "any", Pos: t.Pos}, "syntax", "%q takes any away from any", t.Text).Hint = "name the services that are not meant: any except ping, ssh"
				}
			}
			terms = append(terms, of...)
		} else if d, ok := r.services[t.Name]; ok && !(registered && slices.Contains(within, t.Name)) {
			terms = append(terms, r.service(d)...)
			for _, s := range r.pol.Services {
				s.Used = s.Used || s.Name == t.Name
			}
		} else if registered {
			terms = append(terms, known...)
		} else {
			r.unknown(fence.Ident{Name: t.Name, Pos: t.Pos}, "service", append(keysOf(r.services), RegisteredNames()...)...)
		}
	}
	return terms
}

// peers is what declared peers are.
func (r *resolver) peers(d *fence.PeersDecl) *Peers {
	if p := r.peersOf[d.Name]; p != nil {
		return p
	}
	if !r.enter(d.Declared(), "peers") {
		p := &Peers{Name: d.Name, Side: Side{Addrs: &netipx.IPSet{}, own: &netipx.IPSet{}}}
		r.peersOf[d.Name] = p // it is told once
		return p
	}
	p := &Peers{Name: d.Name, Description: d.Description, Pos: d.Pos, Side: r.side(d.Peers), whole: true}
	for _, peer := range slices.Concat(d.Peers.Items, d.Peers.Except) {
		for at := &peer; at != nil; at = at.At {
			_, g := r.peerGroup(*at)
			p.whole = p.whole && g.named != nil && !g.mixed
		}
	}
	delete(r.busy, d.Name)
	r.peersOf[d.Name] = p
	return p
}

// members puts every host under its roles, and on its segments.
func (r *resolver) members() {
	segments := r.pol.Segments()
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
			r.attached(i, segments)
		}
	}
}

// attached looks at the segment that an interface is on: the one it names must
// hold an address of it, and where it names none no address may lie in two.
func (r *resolver) attached(i fleet.Interface, segments []*Network) {
	if i.Segment != "" {
		at := fence.Ident{Name: i.Segment, Pos: i.SegmentPos}
		seg := r.segment(at)
		if seg != nil && len(i.Addresses) > 0 && !slices.ContainsFunc(i.Addresses, func(p netip.Prefix) bool { return seg.Addrs.Contains(p.Addr()) }) {
			r.errorf(at, "fleet-segment", "no address of %s lies in the segment %q", i.Name, i.Segment).Hint = fmt.Sprintf("its addresses are %s; the segment is declared at %s", prefixes(i.Addresses), seg.Pos)
		}
		return
	}
	for _, p := range i.Addresses {
		var on []string
		for _, seg := range segments {
			if seg.Addrs.Contains(p.Addr()) {
				on = append(on, seg.Name)
			}
		}
		if len(on) > 1 {
			r.errorf(fence.Ident{Name: i.Name, Pos: i.Pos}, "fleet-segment", "%s lies in the segments %s, which overlap", p.Addr(), strings.Join(on, " and ")).Hint =
				fmt.Sprintf("say which of them %s is on: \"segment\": %q", i.Name, on[0])
			return
		}
	}
}

func prefixes(list []netip.Prefix) string {
	texts := make([]string, len(list))
	for i, p := range list {
		texts[i] = p.String()
	}
	return strings.Join(texts, ", ")
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
