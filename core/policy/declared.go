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

// role makes a role. Which hosts it has is up to the fleet.
func (r *resolver) role(d *fence.RoleDecl) {
	role := &Role{Name: d.Name, Description: d.Description, Closed: map[packet.Direction]bool{}, Trials: map[packet.Direction]*Trial{},
		Pos: d.Pos}
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

// trial is a trial of the tree as the policy has it; nil where there is none.
func trial(t *fence.Trial) *Trial {
	if t == nil {
		return nil
	}
	end, _ := t.Until.Instant()
	return &Trial{Until: end, Open: t.Open}
}

// refusal is how is refused what says so by a word; silence is a drop.
func refusal(c *fence.Choice) packet.Verdict {
	if c != nil && c.Word == "reject" {
		return packet.Reject
	}
	return packet.Drop
}

// network works out a network's or segment's addresses when it is first meant. One that means
// itself is told, and has none.
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

// addrItem are the addresses of an item: what it says itself, or what its name means.
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
		r.errorf(fence.Ident{Name: f.URL.Text + `""`, Pos: f.URL.Pos}, "list", "%q is no address that a list can be read from",
			f.URL.Text).Hint = "it is an https address, as https://lists.example/pests.txt"
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

// service are the terms of a declared service, worked out when it is first meant. One that
// means itself is told.
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
					r.errorf(fence.Ident{Name: "any", Pos: t.Pos}, "syntax", "%q takes any away from any",
						t.Text).Hint = "name the services that are not meant: any except ping, ssh"
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
		if seg != nil && len(i.Addresses) > 0 &&
			!slices.ContainsFunc(i.Addresses, func(p netip.Prefix) bool { return seg.Addrs.Contains(p.Addr()) }) {
			r.errorf(at, "fleet-segment", "no address of %s lies in the segment %q", i.Name,
				i.Segment).Hint = fmt.Sprintf("its addresses are %s; the segment is declared at %s", prefixes(i.Addresses), seg.Pos)
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
			r.errorf(fence.Ident{Name: i.Name, Pos: i.Pos}, "fleet-segment", "%s lies in the segments %s, which overlap", p.Addr(),
				strings.Join(on, " and ")).Hint =
				fmt.Sprintf("say which of them %s is on: \"segment\": %q", i.Name, on[0])
			return
		}
	}
}

// prefixes are prefixes in one line.
func prefixes(list []netip.Prefix) string {
	texts := make([]string, len(list))
	for i, p := range list {
		texts[i] = p.String()
	}
	return strings.Join(texts, ", ")
}

// segment is the segment that a name means; nil, with a problem, where there is none.
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
