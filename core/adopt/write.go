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
	networks []string             // declarations
	known    map[string]string    // addresses that have a name as a network
	used     map[string]bool      // segments that are spoken of
	lines    []line
	left     []Left
}

// line is a rule of the policy.
type line struct {
	head, name    string
	role          string
	roles         []string // all that it is about
	at            []string // of whose addresses; none is all
	peers, far    string
	service, mods string
	direction     packet.Direction
}

// rest is a line without its name, with these roles for its own.
func (l line) rest(roles []string) string {
	sides := roles
	if l.at != nil {
		sides = nil
		for _, r := range roles {
			for _, at := range l.at {
				sides = append(sides, r+" at "+at)
			}
		}
	}
	mine := strings.Join(sides, ", ")
	switch l.direction {
	case packet.In:
		return fmt.Sprintf("%s -> %s : %s%s", l.peers, mine, l.service, l.mods)
	case packet.Out:
		return fmt.Sprintf("%s -> %s : %s%s", mine, l.peers, l.service, l.mods)
	}
	return fmt.Sprintf("%s -> %s : %s  through %s%s", l.peers, l.far, l.service, strings.Join(roles, ", "), l.mods)
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
		segmentOf := func(iface string) string { return w.segmentOf(s.host, iface) }
		placeOf := func(a netip.Addr) string {
			for _, g := range w.segments {
				if g.addrs.Contains(a) {
					return g.name
				}
			}
			return a.String()
		}
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
			if name := w.segmentOf(s.host, iface); name != "" && !slices.Contains(arriving, "  arriving "+name) {
				arriving = append(arriving, "  arriving "+name)
				w.used[name] = true
			}
		}
	}
	service := strings.Join(of.services, ", ")
	peers := w.peers(role, of, of.peers, service)
	if peers == "" || len(arriving) == 0 {
		return
	}
	if i := slices.Index(of.services, "ssh"); i >= 0 && len(of.services) > 1 { // a way in is a line of its own
		login, others := of, of
		login.services, others.services = []string{"ssh"}, slices.Delete(slices.Clone(of.services), i, i+1)
		w.say(role, s, login)
		w.say(role, s, others)
		return
	}
	guard := of.direction == packet.Inbound && !of.block && of.rate == "" && slices.Equal(of.services, []string{"ssh"})
	for _, mods := range arriving {
		l := line{role: role, at: of.at, peers: peers, service: service, direction: of.direction}
		if of.direction == packet.Forward {
			if l.far = w.peers(role, of, of.far, service+"-to"); l.far == "" {
				return
			}
		}
		if of.rate != "" {
			mods += "  at most " + of.rate
		}
		mods += senders("user", of.users) + senders("unit", of.units)
		if of.encrypted {
			mods += "  encrypted"
		}
		if of.log != "" {
			mods += "  " + of.log
		}
		if guard {
			mods += "  guard"
		}
		head := "allow"
		if of.block {
			if head = "block"; of.reject {
				mods += "  by reject"
			}
		}
		comment := ours.ReplaceAllString(strings.TrimSpace(of.comment), "")
		name := slug(comment)
		if comment != "" && len(comment) > 24 {
			mods += "  because " + quoted(comment)
		}
		if name == "" || len(comment) > 24 {
			if name = slug(of.services[0]); name == "any" {
				name = "anything"
			}
			if len(of.services) > 1 {
				name += "-and-more"
			}
			if of.block {
				name = "no-" + name
			}
		}
		l.head, l.name, l.mods = head, name, mods
		w.lines = append(w.lines, l)
	}
}

// ours is how rules of ours say what they come from.
var ours = regexp.MustCompile(`^(allow|block|ground) `)

// unite makes one line of those that say the same of several roles, and leaves one of those
// that say the same at both ends; then it names them.
func (w *writer) unite() {
	var out []line
	index := map[string]int{}
	for _, l := range w.lines {
		key := l.head + " " + l.rest([]string{"-"})
		if l.direction == packet.Forward { // a rule goes through one role
			key = l.head + " " + l.rest([]string{l.role})
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
		if key := l.head + " " + l.rest(l.roles); !seen[key] {
			seen[key] = true
			l.name = w.fresh(l.name, w.rules)
			w.lines = append(w.lines, l)
		}
	}
}
