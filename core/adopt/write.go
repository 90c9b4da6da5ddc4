package adopt

import (
	"fmt"
	"maps"
	"net/netip"
	"regexp"
	"slices"
	"strings"

	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
)

// writer makes the text of a policy.
type writer struct {
	// what it is made of
	name     string
	fleet    *fleet.Fleet // of the adopted hosts; roles are changed
	sketches []*sketch

	// worked out
	segments []segment
	told     []Role
	members  map[string][]*sketch // by role
	off      []string             // parts of the ground that are not as hosts have them, with the direction
	taken    map[string]bool      // names of networks, segments, services and roles
	rules    map[string]bool      // names of rules
	networks []*fence.NetworkDecl
	known    map[string]string // addresses that have a name as a network
	used     map[string]bool   // segments that are spoken of
	lines    []line
	left     []Left
}

// line is a rule of the policy, before it is known which roles say the same.
type line struct {
	rule      fence.Rule // without its own side, and the routers that it goes through
	role      string
	roles     []string // all that it is about
	at        []string // of whose addresses; none is all
	direction packet.Direction
}

// of is the rule with these roles for its own.
func (l line) of(roles []string) *fence.Rule {
	rule, mine := l.rule, peersOf(roles...)
	if l.at != nil {
		mine = fence.Peers{}
		for _, r := range roles {
			for _, at := range l.at {
				mine.Items = append(mine.Items, fence.Peer{Text: r + " at " + at})
			}
		}
	}
	switch l.direction {
	case packet.In:
		rule.To = mine
	case packet.Out:
		rule.From, rule.To = mine, rule.From
	default:
		for _, r := range roles {
			rule.Through = append(rule.Through, fence.Ident{Name: r})
		}
	}
	return &rule
}

// key is the same for lines that say the same of these roles, whatever they are called.
func (l line) key(roles ...string) string {
	rule := l.of(roles)
	rule.Name = "-"
	return fence.Line(rule)
}

// nobody is the role of all hosts before they have one.
const nobody = "nobody-yet"

// newWriter begins with the hosts that are adopted, all in one role until it is known which are
// alike. It tells of hosts that the fleet does not have, and of such as have no filter.
func newWriter(fl *fleet.Fleet, name string, hosts []Host) (*writer, error) {
	w := &writer{name: name, fleet: &fleet.Fleet{Service: fl.Service}, members: map[string][]*sketch{}, taken: map[string]bool{},
		rules: map[string]bool{}, known: map[string]string{}, used: map[string]bool{}}
	for _, of := range hosts {
		h := fl.Host(of.Name)
		if h == nil {
			return nil, fmt.Errorf("the fleet has no host %q", of.Name)
		}
		if w.fleet.Host(of.Name) != nil {
			return nil, fmt.Errorf("the dumps of %s are given twice", of.Name)
		}
		own := *h
		if own.Roles = []string{nobody}; own.Dialect == fleet.NoFilter {
			return nil, fmt.Errorf("%s has no filter of its own, by the fleet file: its groups are not adopted", of.Name)
		}
		w.fleet.Hosts = append(w.fleet.Hosts, &own)
	}
	w.attached()
	return w, nil
}

// roles gives hosts with like rules a role.
func (w *writer) roles() {
	before := w.fleet
	classes := map[string][]*sketch{}
	var order []string
	for _, s := range w.sketches {
		// Hosts are alike though their addresses are not: an interface stands for the segment it is on, and an
		// address for the segment that holds it.
		segmentOf := func(iface string) string { return w.segmentOf(s.host, iface) }
		placeOf := func(a netip.Addr) string {
			for _, g := range w.segments {
				if g.addrs.Contains(a) {
					return g.name
				}
			}
			return a.String()
		}
		// The key is all that the host does, in an order that does not depend on how its rules were written.
		key := ""
		for hook, e := range s.ends {
			key += fmt.Sprintf("%d %v %v %v\n", hook, e.filtered, e.open, e.reject)
			var keys []string
			for _, of := range e.statements {
				keys = append(keys, of.key(segmentOf, placeOf))
			}
			slices.Sort(keys)
			key += strings.Join(keys, "\n") + "\n"
		}
		for _, part := range slices.Sorted(maps.Keys(s.ground)) {
			key += fmt.Sprintf("%s %v\n", part, s.ground[part])
		}
		if classes[key] == nil {
			order = append(order, key)
		}
		classes[key] = append(classes[key], s)
	}
	for _, key := range order {
		class := classes[key]
		name := w.fresh(roleName(class), w.taken)
		role := Role{Name: name}
		for _, s := range class {
			role.Hosts = append(role.Hosts, s.host.Name)
			before.Host(s.host.Name).Roles = []string{name}
		}
		w.told = append(w.told, role)
		w.members[name] = class
	}
}

// write makes the lines.
func (w *writer) write() {
	w.ground()
	for _, all := range w.members {
		for _, s := range all {
			for hook := range s.ends {
				s.ends[hook].statements = w.placed(s, s.ends[hook].statements)
			}
			s.extra = w.placed(s, s.extra)
		}
	}
	for _, role := range w.told {
		s := w.members[role.Name][0]
		for hook := range s.ends {
			for _, of := range s.ends[hook].statements {
				w.say(role.Name, s, of)
			}
		}
		for _, of := range s.extra {
			if slices.Contains(w.off, w.groundKey(of)) {
				w.say(role.Name, s, of)
			}
		}
	}
	w.unite()
}

// groundKey is the part of the ground that a statement says, with its direction.
func (w *writer) groundKey(of statement) string {
	return of.direction.String() + " " + of.part
}

// ground works out which of its parts are to be off: those that half of the hosts or more have
// otherwise. Rules say them where they are had.
func (w *writer) ground() {
	lack, all := map[string]int{}, map[string]int{}
	for _, s := range w.sketches {
		for key, has := range s.ground {
			word, _, _ := strings.Cut(key, " ")
			dir, _ := packet.DirectionNamed(word)
			e := s.ends[dir]
			if !e.filtered && !strings.HasSuffix(key, " invalid") {
				continue // it is admitted, like all else
			}
			if all[key]++; !has {
				lack[key]++
			}
		}
	}
	for _, key := range slices.Sorted(maps.Keys(lack)) {
		dir, part, _ := strings.Cut(key, " ")
		if dir == "forward" {
			continue // what holds for inbound holds there
		}
		if part != fence.PartService && 2*lack[key] >= all[key] { // else the few that lack it are told of
			w.off = append(w.off, key)
		}
	}
}

// say makes a line, or several where one cannot say it.
func (w *writer) say(role string, s *sketch, of statement) {
	arriving := []string{""}
	if of.over != nil {
		arriving = nil
		for _, iface := range of.over {
			if name := w.segmentOf(s.host, iface); name != "" && !slices.Contains(arriving, name) {
				arriving = append(arriving, name)
				w.used[name] = true
			}
		}
	}
	service := strings.Join(of.services, ", ")
	peers := w.peers(role, of, of.peers, service)
	if peers.Items == nil || len(arriving) == 0 {
		return
	}
	if i := slices.Index(of.services, "ssh"); i >= 0 && len(of.services) > 1 { // a way in is a line of its own
		login, others := of, of
		login.services, others.services = []string{"ssh"}, slices.Delete(slices.Clone(of.services), i, i+1)
		w.say(role, s, login)
		w.say(role, s, others)
		return
	}
	for _, segment := range arriving {
		l := line{rule: of.rule(), role: role, at: of.at, direction: of.direction}
		if l.rule.From = peers; of.direction == packet.Forward {
			if l.rule.To = w.peers(role, of, of.far, service+"-to"); l.rule.To.Items == nil {
				return
			}
		}
		if segment != "" {
			l.rule.Arriving = []fence.Ident{{Name: segment}}
		}
		w.lines = append(w.lines, l)
	}
}

// rule is a statement as a rule whose sides are still to be named.
func (s *statement) rule() fence.Rule {
	r := fence.Rule{Block: s.block, Encrypted: s.encrypted}
	for _, service := range s.services {
		r.Services = append(r.Services, fence.ServiceTerm{Text: service})
	}
	if s.rate.set() {
		r.AtMost = &fence.AtMost{Rate: fence.RateOf(s.rate.Rate), PerSource: s.rate.perSource}
	}
	for _, from := range []fence.Sender{{Kind: packet.ByUser, Names: s.users}, {Kind: packet.ByUnit, Names: s.units}} {
		if from.Names != nil {
			r.Senders = append(r.Senders, from)
		}
	}
	r.Log = s.log.written()
	r.Guard = s.direction == packet.Inbound && !s.block && !s.rate.set() && slices.Equal(s.services, []string{"ssh"})
	if s.block && s.reject {
		r.By = &fence.Choice{Word: "reject"}
	}
	comment := ours.ReplaceAllString(strings.TrimSpace(s.comment), "")
	name := slug(comment)
	if len(comment) > 24 {
		r.Because = plain(comment)
	}
	if name == "" || len(comment) > 24 {
		if name = slug(s.services[0]); name == "any" {
			name = "anything"
		}
		if len(s.services) > 1 {
			name += "-and-more"
		}
		if s.block {
			name = "no-" + name
		}
	}
	r.Name = name
	return r
}

// written is how logging is written in a policy; nil where nothing is logged.
func (l logging) written() *fence.Log {
	switch {
	case !l.set():
		return nil
	case l.all:
		return &fence.Log{}
	}
	rate := fence.RateOf(l.upTo)
	return &fence.Log{UpTo: &rate}
}

// ours is how rules of ours say what they come from.
var ours = regexp.MustCompile(`^(allow|block|ground) `)

// unite makes one line of those that say the same of several roles, and leaves one of those
// that say the same at both ends; then it names them.
func (w *writer) unite() {
	var out []line
	index := map[string]int{}
	for _, l := range w.lines {
		key := l.key("-")
		if l.direction == packet.Forward { // a rule goes through one role
			key = l.key(l.role)
		}
		if i, known := index[key]; known {
			if !slices.Contains(out[i].roles, l.role) {
				out[i].roles = append(out[i].roles, l.role)
			}
			continue
		}
		index[key] = len(out)
		l.roles = []string{l.role}
		out = append(out, l)
	}
	seen := map[string]bool{}
	w.lines = nil
	for _, l := range out {
		if len(l.roles) == len(w.told) && len(w.told) > 1 && l.at == nil {
			l.roles = []string{"fleet"}
		}
		if key := l.key(l.roles...); !seen[key] {
			seen[key] = true
			l.rule.Name = w.fresh(l.rule.Name, w.rules)
			w.lines = append(w.lines, l)
		}
	}
}
