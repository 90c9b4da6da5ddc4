package adopt

import (
	"cmp"
	"fmt"
	"maps"
	"net/netip"
	"regexp"
	"slices"
	"strings"

	"go4.org/netipx"

	"yellowfence.example/yfence/core/dialect"
	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
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

// segment is a network that hosts are attached to.
type segment struct {
	name     string
	prefixes []netip.Prefix
	addrs    *netipx.IPSet
	text     string
	local    bool // whoever has an interface on it drops what comes from its addresses by another
}

func (s segment) mark() string {
	if s.local {
		return " local"
	}
	return ""
}

// line is a rule of the policy.
type line struct {
	head, name    string
	role          string
	roles         []string // all that it is about
	at            []string // of whose addresses; none is all
	peers, far    string
	service, mods string
	direction     int
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

func newWriter(fl *fleet.Fleet, name string, hosts []Host) (*writer, error) {
	w := &writer{name: name, fleet: &fleet.Fleet{Service: fl.Service}, members: map[string][]*sketch{}, taken: map[string]bool{}, rules: map[string]bool{}, known: map[string]string{}, used: map[string]bool{}}
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

// attached works the segments out: those that the fleet file names, and for the other
// interfaces the networks of their addresses.
func (w *writer) attached() {
	named := map[string][]netip.Prefix{}
	var order []string
	add := func(name string, p netip.Prefix) {
		if named[name] == nil {
			order = append(order, name)
		}
		if p = p.Masked(); !slices.Contains(named[name], p) {
			named[name] = append(named[name], p)
		}
	}
	nets := map[netip.Prefix]string{} // of the first prefix that an interface has
	for _, h := range w.fleet.Hosts {
		for k := range h.Interfaces {
			i := &h.Interfaces[k]
			if len(i.Addresses) == 0 {
				continue
			}
			name := i.Segment
			w.used[name] = true // the fleet file speaks of it
			for _, p := range i.Addresses {
				name = cmp.Or(name, nets[p.Masked()])
			}
			if name == "" {
				name = "net-" + slug(i.Addresses[0].Masked().Addr().String())
			}
			for _, p := range i.Addresses {
				nets[p.Masked()] = name
				add(name, p)
			}
		}
	}
	for _, name := range order {
		one := segment{name: name}
		one.is(named[name])
		w.segments = append(w.segments, one)
		w.taken[name] = true
	}
}

// segmentOf is the segment that a host's interface is on; "" if it is on none.
func (w *writer) segmentOf(h *fleet.Host, iface string) string {
	for _, i := range h.Interfaces {
		if i.Name != iface {
			continue
		}
		for _, s := range w.segments {
			if i.Segment == s.name || i.Segment == "" && slices.ContainsFunc(i.Addresses, func(p netip.Prefix) bool { return s.addrs.Contains(p.Addr()) }) {
				return s.name
			}
		}
	}
	return ""
}

// refusesForged tells of the segments that a host is on the widest prefixes around theirs
// from which it drops all that comes by another interface: nil where it does not.
func (w *writer) refusesForged(sp *packet.Space, h *fleet.Host, rs *dialect.Ruleset) map[string][]netip.Prefix {
	drops := sp.Certain(sp.Where(rs.Decision(sp), func(o packet.Outcome) bool { return o.Verdict == packet.Drop }))
	out := map[string][]netip.Prefix{}
	for _, s := range w.segments {
		on := []string{"lo"}
		for _, i := range h.Interfaces {
			if w.segmentOf(h, i.Name) == s.name {
				on = append(on, i.Name)
			}
		}
		if len(on) == 1 {
			continue
		}
		passes := sp.Minus(sp.AndAll(sp.WellFormed(), sp.Value(packet.Hook, packet.In), sp.Not(sp.Interfaces(packet.InIface, on...))), drops)
		refused := func(p netip.Prefix) bool {
			return sp.And(passes, sp.Addrs(packet.Src, packet.Prefixes(p))) == packet.Empty
		}
		var wide []netip.Prefix
		for _, p := range s.prefixes {
			if !refused(p) {
				wide = nil
				break
			}
			for p.Bits() > map[bool]int{true: 8, false: 32}[p.Addr().Is4()] { // nobody means more by it
				next := netip.PrefixFrom(p.Addr(), p.Bits()-1).Masked()
				if !refused(next) {
					break
				}
				p = next
			}
			wide = append(wide, p)
		}
		out[s.name] = wide
	}
	return out
}

// local marks the segments that all hosts on them protect so, as wide as all do.
func (w *writer) local(forged []map[string][]netip.Prefix) {
	for i := range w.segments {
		s := &w.segments[i]
		var wide []netip.Prefix
		all := true
		for _, f := range forged {
			protects, on := f[s.name]
			switch {
			case !on:
				continue
			case protects == nil:
				all = false
			case wide == nil:
				wide = slices.Clone(protects)
			default:
				for k := range wide {
					if protects[k].Bits() > wide[k].Bits() {
						wide[k] = protects[k]
					}
				}
			}
		}
		if wide == nil || !all {
			continue
		}
		s.local, w.used[s.name] = true, true
		s.is(wide)
	}
}

// is gives a segment its addresses.
func (s *segment) is(prefixes []netip.Prefix) {
	var texts []string
	for _, p := range prefixes {
		texts = append(texts, p.String())
	}
	s.prefixes, s.text, s.addrs = prefixes, strings.Join(texts, ", "), packet.Prefixes(prefixes...)
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

var numbered = regexp.MustCompile(`[-.]?[0-9]+$`)

// roleName is what a class of hosts may be called: what their names have in common.
func roleName(class []*sketch) string {
	name := slug(class[0].host.Name)
	for _, s := range class[1:] {
		other := slug(s.host.Name)
		n := 0
		for n < len(name) && n < len(other) && name[n] == other[n] {
			n++
		}
		name = name[:n]
	}
	name = strings.Trim(numbered.ReplaceAllString(strings.Trim(name, "-."), ""), "-.")
	return cmp.Or(name, "hosts")
}

// fresh is a name that nobody has yet.
func (w *writer) fresh(name string, taken map[string]bool) string {
	if !fence.IsName(name) {
		name = "all-" + name
	}
	if !fence.IsName(name) {
		name = "some"
	}
	one := name
	for n := 2; taken[one]; n++ {
		one = fmt.Sprintf("%s-%d", name, n)
	}
	taken[one] = true
	return one
}

var noName = regexp.MustCompile(`[^a-z0-9]+`)

// slug makes a name of a text.
func slug(text string) string {
	s := strings.Trim(noName.ReplaceAllString(strings.ToLower(text), "-"), "-")
	return strings.Trim(s[:min(len(s), 40)], "-")
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

func (w *writer) groundKey(of statement) string {
	return policy.DirectionNames[of.direction] + " " + of.part
}

// ground works out which of its parts are to be off: those that half of the hosts or more have
// otherwise. Rules say them where they are had.
func (w *writer) ground() {
	lack, all := map[string]int{}, map[string]int{}
	for _, s := range w.sketches {
		for key, has := range s.ground {
			dir, _, _ := strings.Cut(key, " ")
			e := s.ends[slices.Index(policy.DirectionNames, dir)]
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
		if part != "fence" && 2*lack[key] >= all[key] { // else the few that lack it are told of
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
	guard := of.direction == packet.In && !of.block && of.rate == "" && slices.Equal(of.services, []string{"ssh"})
	for _, mods := range arriving {
		l := line{role: role, at: of.at, peers: peers, service: service, direction: of.direction}
		if of.direction == packet.Through {
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
		if l.direction == packet.Through { // a rule goes through one role
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

// placed says which of a host's own addresses statements are about by the segments that they
// are on, and joins those that are alike then.
func (w *writer) placed(s *sketch, all []statement) []statement {
	out := slices.Clone(all)
	for i := range out {
		of := &out[i]
		if of.here == nil {
			continue
		}
		left := of.here
		own := s.host.Addresses()
		for _, g := range w.segments {
			on := packet.Intersection(own, g.addrs)
			for _, family := range []int{packet.IPv4, packet.IPv6} {
				if part := packet.OfFamily(on, family); len(part.Ranges()) > 0 && len(packet.Without(part, left).Ranges()) == 0 {
					left = packet.Without(left, part)
					if !slices.Contains(of.at, g.name) {
						of.at = append(of.at, g.name)
					}
					w.used[g.name] = true
				}
			}
		}
		for _, p := range left.Prefixes() {
			of.at = append(of.at, packet.PrefixText(p))
		}
		of.here = nil
	}
	return joined(out)
}

// senders says who sends it.
func senders(kind string, names []string) (text string) {
	for i, n := range names {
		if i == 0 {
			text = "  from " + kind + " "
		} else {
			text += ", "
		}
		text += word(n)
	}
	return text
}

// peers says addresses in names: of everywhere, of segments, of roles whose own rules say
// the same or do not refuse it, and else as they are, with a name if they are many.
func (w *writer) peers(role string, of statement, set *netipx.IPSet, what string) string {
	if set.Equal(packet.Everything()) {
		return "everywhere"
	}
	if len(set.Ranges()) == 0 {
		return ""
	}
	var names []string
	for _, family := range []int{packet.IPv4, packet.IPv6} {
		part := packet.OfFamily(set, family)
		if len(part.Ranges()) > 0 && !part.Equal(packet.OfFamily(packet.Everything(), family)) {
			names = append(names, w.some(role, part, of, what)...)
		} else if len(part.Ranges()) > 0 {
			names = append(names, [...]string{"0.0.0.0/0", "::/0"}[family])
		}
	}
	slices.Sort(names)
	return strings.Join(slices.Compact(names), ", ")
}

// some says addresses of one family: by names as far as that is no longer.
func (w *writer) some(role string, set *netipx.IPSet, of statement, what string) []string {
	family := packet.IPv4
	if set.Ranges()[0].From().Is6() {
		family = packet.IPv6
	}
	left := set
	var names []string
	take := func(name string, part *netipx.IPSet) bool {
		rest := packet.Without(left, part)
		if part = packet.OfFamily(part, family); len(part.Ranges()) == 0 || len(packet.Without(part, left).Ranges()) > 0 || len(shortest(rest)) >= len(shortest(left)) {
			return false
		}
		names, left = append(names, name), rest
		return true
	}
	for _, s := range w.segments {
		if both := packet.OfFamily(s.addrs, 1-family); len(both.Ranges()) > 0 && len(packet.Without(both, of.reaches()).Ranges()) > 0 {
			continue // it has the other family as well, which is not meant
		}
		if take(s.name, s.addrs) {
			w.used[s.name] = true
		}
	}
	for _, r := range w.told {
		addrs := w.addresses(r.Name)
		if len(packet.Without(packet.OfFamily(addrs, 1-family), of.reaches()).Ranges()) == 0 && w.willing(r.Name, role, of) {
			take(r.Name, addrs)
		}
	}
	if len(left.Ranges()) == 0 {
		return names
	}
	texts := shortest(left)
	const most = 4
	if len(texts) <= most && !slices.ContainsFunc(texts, func(t string) bool { return strings.Contains(t, " except ") }) {
		return append(names, texts...)
	}
	key := ranges(left)
	if w.known[key] == "" {
		name := slug("some-" + what)
		if _, but, all := strings.Cut(texts[0], " except "); all {
			name = slug("all-but-" + but)
		}
		name = w.fresh(name, w.taken)
		w.known[key] = name
		w.networks = append(w.networks, fmt.Sprintf("network %s = %s", name, strings.Join(texts, ", ")))
	}
	return append(names, w.known[key])
}

// addresses are those of the hosts of a role.
func (w *writer) addresses(role string) *netipx.IPSet {
	var b netipx.IPSetBuilder
	for _, s := range w.members[role] {
		s.host.AddAddresses(&b)
	}
	set, _ := b.IPSet()
	return set
}

// reaches is all that a statement names at its other ends.
func (s *statement) reaches() *netipx.IPSet {
	if s.far != nil {
		return packet.Union(s.peers, s.far)
	}
	return s.peers
}

// willing says that hosts of a role do nothing otherwise at their own end if they are named
// at the other end of a statement: a statement is about both.
func (w *writer) willing(role, mine string, of statement) bool {
	if of.block || of.direction == packet.Through || of.direction == packet.Out && (of.rate != "" || of.log != "") { // these act where it arrives
		return false
	}
	other := packet.Out
	if of.direction == packet.Out {
		other = packet.In
	}
	own := w.addresses(mine)
	if of.at != nil { // some of its addresses
		var at netipx.IPSetBuilder
		for _, name := range of.at {
			for _, g := range w.segments {
				if g.name == name {
					at.AddSet(packet.Intersection(own, g.addrs))
				}
			}
		}
		own, _ = at.IPSet()
	}
	says := func(s statement) bool { // and so opens nothing more there
		return !s.block && s.at == nil && (s.over == nil || of.over != nil) && s.rate == "" && s.users == nil && s.units == nil && !s.encrypted && len(packet.Without(own, s.peers).Ranges()) == 0 &&
			!slices.ContainsFunc(of.services, func(service string) bool {
				return !slices.Contains(s.services, service) && !slices.Contains(s.services, "any")
			})
	}
	limits := func(s statement) bool { // and would do so no more
		return s.rate != "" && of.rate == "" && (slices.Contains(of.services, "any") || slices.ContainsFunc(s.services, func(service string) bool { return service == "any" || slices.Contains(of.services, service) }))
	}
	for _, s := range w.members[role] {
		e := s.ends[other]
		if e.filtered && !e.open && !slices.ContainsFunc(e.statements, says) || slices.ContainsFunc(e.statements, limits) {
			return false
		}
	}
	return true
}

// shortest is a set of addresses of one family in as few words as it takes: prefixes and runs, or
// all but some.
func shortest(set *netipx.IPSet) []string {
	runs := func(set *netipx.IPSet) (texts []string) {
		for _, r := range set.Ranges() {
			prefixes := r.Prefixes()
			if len(prefixes) > 2 {
				texts = append(texts, r.From().String()+"-"+r.To().String())
				continue
			}
			for _, p := range prefixes {
				texts = append(texts, packet.PrefixText(p))
			}
		}
		return texts
	}
	texts := runs(set)
	if len(texts) == 0 {
		return nil
	}
	whole, all := packet.IPv4, "0.0.0.0/0"
	if set.Ranges()[0].From().Is6() {
		whole, all = packet.IPv6, "::/0"
	}
	ends := packet.OfFamily(packet.Everything(), whole).Ranges()[0]
	if but := runs(packet.Without(packet.OfFamily(packet.Everything(), whole), set)); len(but) < len(texts) && set.Contains(ends.From()) && set.Contains(ends.To()) {
		texts = append([]string{all + " except " + but[0]}, but[1:]...)
	}
	return texts
}

var oneWord = regexp.MustCompile(`^[A-Za-z0-9@._:/*-]+$`)

func word(s string) string {
	if oneWord.MatchString(s) {
		return s
	}
	return quoted(s)
}

// quoted is a text as a policy has it.
func quoted(s string) string {
	s = strings.NewReplacer(`"`, "'", "\n", " ", "\r", " ", "\\", "/").Replace(s)
	return `"` + s + `"`
}

// text is the policy, as it is laid out.
func (w *writer) text() string {
	var b strings.Builder
	fmt.Fprintf(&b, "policy %s language 1\n\n", w.name)
	if slices.ContainsFunc(w.segments, func(s segment) bool { return w.used[s.name] }) {
		b.WriteString("# the networks that hosts are attached to\n")
		for _, s := range w.segments {
			if w.used[s.name] {
				fmt.Fprintf(&b, "segment %s = %s%s\n", s.name, s.text, s.mark())
			}
		}
		b.WriteString("\n")
	}
	for _, n := range w.networks {
		b.WriteString(n + "\n")
	}
	if w.networks != nil {
		b.WriteString("\n")
	}
	b.WriteString("# hosts with like rules\n")
	for _, role := range w.told {
		fmt.Fprintf(&b, "role %s %s%s\n", role.Name, quoted(strings.Join(some(role.Hosts), ", ")), stances(w.members[role.Name][0]))
	}
	if w.off != nil {
		b.WriteString("\n# what hosts do not have of the ground that others stand on\nground {\n")
		for _, key := range w.off {
			fmt.Fprintf(&b, "  %s off\n", key)
		}
		b.WriteString("}\n")
	}
	b.WriteString("\n")
	for _, l := range w.lines {
		fmt.Fprintf(&b, "%s %s: %s\n", l.head, l.name, l.rest(l.roles))
	}
	if w.left != nil {
		b.WriteString("\n# What hosts have in force and this policy does not say, or says otherwise:\n")
		for _, l := range w.left {
			fmt.Fprintf(&b, "#\n# %s: %s: %s\n", strings.Join(some(l.Hosts), ", "), l.Kind, oneLine(l.Says))
			if l.Rule != "" {
				fmt.Fprintf(&b, "#   %s  %s\n", l.At, oneLine(l.Rule))
			}
		}
	}
	return b.String()
}

func oneLine(s string) string { return strings.Join(strings.Fields(s), " ") }

// some are the first of many.
func some(names []string) []string {
	const most = 6
	if len(names) <= most {
		return names
	}
	return append(slices.Clone(names[:most]), fmt.Sprintf("and %d more", len(names)-most))
}

// stances says a role's.
func stances(s *sketch) string {
	word := func(e end) string {
		if e.open {
			return "open"
		}
		return "closed"
	}
	var parts []string
	in, out, through := s.ends[packet.In], s.ends[packet.Out], s.ends[packet.Through]
	if !in.filtered || in.open {
		parts = append(parts, "inbound open")
	}
	if out.filtered && !out.open {
		parts = append(parts, "outbound closed")
	}
	if through.filtered {
		parts = append(parts, "forward "+word(through))
	}
	for _, e := range []end{in, out, through} {
		if e.log != "" { // it is the same for all
			parts = append(parts, strings.Replace(e.log, "log", "log refused", 1))
			break
		}
	}
	if in.filtered && !in.open && in.reject || (!in.filtered || in.open) && (out.reject || through.reject) {
		parts = append(parts, "refuse by reject")
	}
	if parts == nil {
		return ""
	}
	return " { " + strings.Join(parts, "  ") + " }"
}
