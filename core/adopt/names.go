package adopt

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"go4.org/netipx"

	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/packet"
)

// numbered is the number that names of hosts and interfaces end in.
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

// noName is what cannot stand in a name of the language.
var noName = regexp.MustCompile(`[^a-z0-9]+`)

// slug makes a name of a text.
func slug(text string) string {
	s := strings.Trim(noName.ReplaceAllString(strings.ToLower(text), "-"), "-")
	return strings.Trim(s[:min(len(s), 40)], "-")
}

// peers says addresses in names: of everywhere, of segments, of roles whose own rules say
// the same or do not refuse it, and else as they are, with a name if they are many.
func (w *writer) peers(role string, of statement, set *netipx.IPSet, what string) (peers fence.Peers) {
	if set.Equal(packet.Everything()) {
		return peersOf("everywhere")
	}
	if len(set.Ranges()) == 0 {
		return peers
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
	return peersOf(slices.Compact(names)...)
}

// some says addresses of one family: by names as far as that is no longer.
func (w *writer) some(role string, set *netipx.IPSet, of statement, what string) []string {
	family := packet.IPv4
	if set.Ranges()[0].From().Is6() {
		family = packet.IPv6
	}
	left := set
	var names []string
	// A name is taken where all that it calls is meant, and it makes what is left to be said shorter.
	take := func(name string, part *netipx.IPSet) bool {
		rest := packet.Without(left, part)
		if part = packet.OfFamily(part, family); len(part.Ranges()) == 0 || len(packet.Without(part, left).Ranges()) > 0 ||
			words(shortest(rest)) >= words(shortest(left)) {
			return false
		}
		names, left = append(names, name), rest
		return true
	}
	// Segments first, which are wide, then roles.
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
	// What no name calls: a few addresses as they are, more as a network of their own, under one name
	// wherever they are meant again.
	addresses := shortest(left)
	const most = 4
	if len(addresses.Items) <= most && addresses.Except == nil {
		for _, item := range addresses.Items {
			names = append(names, item.Text)
		}
		return names
	}
	key := ranges(left)
	if w.known[key] == "" {
		name := slug("some-" + what)
		if addresses.Except != nil {
			name = slug("all-but-" + addresses.Except[0].Text)
		}
		name = w.fresh(name, w.taken)
		w.known[key] = name
		w.networks = append(w.networks, &fence.NetworkDecl{Ident: fence.Ident{Name: name}, Addrs: addresses})
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
	// these act where it arrives
	if of.block || of.direction == packet.Forward || of.direction == packet.Outbound && (of.rate.set() || of.log.set()) {
		return false
	}
	other := packet.Out
	if of.direction == packet.Outbound {
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
		return !s.block && s.at == nil && (s.over == nil || of.over != nil) && !s.rate.set() && s.users == nil && s.units == nil &&
			!s.encrypted && len(packet.Without(own, s.peers).Ranges()) == 0 &&
			!slices.ContainsFunc(of.services, func(service string) bool {
				return !slices.Contains(s.services, service) && !slices.Contains(s.services, "any")
			})
	}
	limits := func(s statement) bool { // and would do so no more
		return s.rate.set() && !of.rate.set() &&
			(slices.Contains(of.services, "any") ||
				slices.ContainsFunc(s.services, func(service string) bool {
					return service == "any" ||
						slices.Contains(of.services, service)
				}))
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
func shortest(set *netipx.IPSet) fence.Addresses {
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
		return fence.Addresses{}
	}
	whole, all := packet.IPv4, "0.0.0.0/0"
	if set.Ranges()[0].From().Is6() {
		whole, all = packet.IPv6, "::/0"
	}
	ends := packet.OfFamily(packet.Everything(), whole).Ranges()[0]
	if but := runs(packet.Without(packet.OfFamily(packet.Everything(), whole), set)); len(but) < len(texts) &&
		set.Contains(ends.From()) && set.Contains(ends.To()) {
		return fence.Addresses{Items: items(all), Except: items(but...)}
	}
	return fence.Addresses{Items: items(texts...)}
}

// words is how much there is to read of addresses.
func words(a fence.Addresses) int { return max(len(a.Items), len(a.Except)) }

// items are addresses as they are written.
func items(texts ...string) (items []fence.AddrItem) {
	for _, text := range texts {
		items = append(items, fence.AddrItem{Text: text})
	}
	return items
}

// peersOf are peers by what they are called.
func peersOf(names ...string) (peers fence.Peers) {
	for _, name := range names {
		peers.Items = append(peers.Items, fence.Peer{Text: name})
	}
	return peers
}

// plain is a text without what has a meaning in a quoted one.
func plain(s string) string {
	return strings.NewReplacer(`"`, "'", "\n", " ", "\r", " ", "\\", "/").Replace(s)
}
