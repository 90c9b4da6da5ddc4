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
		return in, tooLarge(sources, "the policy has %d MiB of statements, more than the %d MiB that are read", (text+1<<20-1)>>20,
			MaxText>>20)
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
		return Input{Lists: map[string]string{}, Fleet: fl},
			tooLarge(sources, "the policy has %d statements, more than the %d that are read", statements, MaxStatements)
	}
	return in, problems
}

// Bounds of a policy: several times what the largest has.
const (
	MaxText       = 4 << 20 // bytes of its statements
	MaxStatements = 10_000
	MaxListed     = 500_000 // lines of its lists of addresses
)

// tooLarge is the problem of a policy that is beyond a bound.
func tooLarge(sources []Source, format string, args ...any) []source.Problem {
	return []source.Problem{source.Errorf(source.Pos{File: sources[0].Name, Line: 1, Column: 1}, 1, "policy-size", format, args...).
		Hinted("split the policy, or keep long lists of addresses elsewhere in fewer, larger prefixes")}
}

// ListsOf names the files of addresses that a policy file refers to, as it writes them:
// relative to the policy's folder.
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
	// The order of the files decides nothing, but messages and tables are to come out the same.
	files = slices.Clone(files)
	slices.SortFunc(files, func(a, b *fence.File) int { return cmp.Compare(a.Name, b.Name) })
	// Names first: those of other teams' folders, then everything that is declared. What a name
	// stands for is worked out when it is first meant.
	r.parts(files)
	r.collect(files)
	for _, d := range r.networkOrder {
		in.Budget.Check()
		r.pol.Networks = append(r.pol.Networks, r.network(d))
	}
	for _, d := range r.serviceOrder {
		r.service(d)
	}
	// Strangers are known once all hosts and networks are; peers may name them, rules name all of it.
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

// resolver looks names up and makes the policy. What files declare is collected first, so that
// a name may be meant before the line that declares it; each is worked out once.
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

// errorf notes a problem at a name, and gives it back to be given a hint.
func (r *resolver) errorf(i fence.Ident, code, format string, args ...any) *source.Problem {
	r.problems = append(r.problems, source.Errorf(i.Pos, r.width(i), code, format, args...))
	return &r.problems[len(r.problems)-1]
}

// declare notes a name, and says whether it is new.
func (r *resolver) declare(i fence.Ident) bool {
	if before, twice := r.places[i.Name]; twice {
		r.errorf(i, "twice", "%q is declared twice",
			i.Name).Hint = fmt.Sprintf("the other declaration is at %s; networks, segments, services, roles and peers share their names",
			before)
		return false
	}
	r.places[i.Name] = i.Pos
	return true
}

// collect notes what all files declare, and tells what is declared twice.
func (r *resolver) collect(files []*fence.File) {
	var named *fence.PolicyDecl
	rules, expects := map[string]source.Pos{}, map[string]source.Pos{}
	for _, f := range files {
		for _, stmt := range f.Stmts {
			switch d := stmt.(type) {
			case *fence.PolicyDecl:
				if named != nil {
					r.errorf(d.Declared(), "twice", "the policy is named twice").Hint = "the other name is at " + named.Pos.String() +
						"; leave one"
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
					r.errorf(d.Declared(), "twice", "two rules are named %q", d.Name).Hint = "the other is at " + before.String() +
						"; a rule's name says which rule is meant"
					continue
				}
				rules[d.Name] = d.Pos
				r.ruleOrder = append(r.ruleOrder, d)
			case *fence.JoinDecl:
				r.joinOrder = append(r.joinOrder, d)
			case *fence.PartDecl: // see parts
			case *fence.Expectation:
				if before, twice := expects[d.Name]; twice {
					r.errorf(d.Declared(), "twice", "two expectations are named %q", d.Name).Hint = "the other is at " + before.String() +
						"; an expectation's name says which is meant"
					continue
				}
				expects[d.Name] = d.Pos
				r.otherOrder = append(r.otherOrder, d)
			case *fence.GroundDecl:
				r.otherOrder = append(r.otherOrder, d)
			default: // redirects and the like share the rules' names
				i := stmt.Declared()
				if before, twice := rules[i.Name]; twice {
					r.errorf(i, "twice", "two rules are named %q", i.Name).Hint = "the other is at " + before.String() +
						"; a rule's name says which rule is meant"
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

// otherNames are services by names that are common and not registered.
var otherNames = map[string]string{
	"dns": "domain", "rdp": "tcp 3389, udp 3389", "postgres": "postgresql", "smb": "tcp 445", "cifs": "tcp 445", "mongodb": "tcp 27017",
	"redis": "tcp 6379", "wireguard": "udp 51820",
	"tls": "https, or the port: tcp 443", "ssl": "https, or the port: tcp 443", "icmp6": "icmpv6", "all": "any", "dhcp": "udp 67",
	"vnc": "tcp 5900", "winrm": "tcp 5985-5986", "mssql": "ms-sql-s", "quic": "udp 443", "http3": "udp 443",
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

// keysOf are all names in some tables, in order, for a hint to find the nearest among.
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
