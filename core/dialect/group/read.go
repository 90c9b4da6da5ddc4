package group

import (
	"fmt"
	"slices"

	"go4.org/netipx"

	"yellowfence.example/yfence/core/dialect"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
)

// Parse reads a Document. The error tells what is wrong with it, and where.
func Parse(text []byte) (*Document, error) {
	var d Document
	if err := dialect.ReadDocument(text, "document", " of security groups", &d); err != nil {
		return nil, err
	}
	if err := dialect.CheckDocument(d.Kind, Kind, d.Version); err != nil {
		return nil, err
	}
	names := map[string]bool{}
	for _, g := range d.Groups {
		if g.Name == "" || names[g.Name] {
			return nil, fmt.Errorf("a group's name is %q, which is empty or stands twice", g.Name)
		}
		names[g.Name] = true
	}
	for _, m := range d.Members {
		for _, name := range m.Groups {
			if !names[name] {
				return nil, fmt.Errorf("the instance %s is in the group %q, which the document does not have", m.Instance, name)
			}
		}
	}
	return &d, nil
}

// String is the document as a file.
func (d *Document) String() string { return dialect.DocumentText(d) }

// groupsOf are the groups that an instance is in; all of the document's if it names no members.
func (d *Document) groupsOf(h *fleet.Host) (out []Group, err error) {
	if d.Members == nil {
		return d.Groups, nil
	}
	if h == nil && len(d.Members) != 1 {
		return nil, fmt.Errorf("the document is of %d instances: keep the one that is asked about in it", len(d.Members))
	}
	at := 0
	if h != nil {
		id := ""
		if h.Instance != nil {
			id = h.Instance.ID
		}
		if at = slices.IndexFunc(d.Members, func(m Member) bool { return m.Instance == id }); at < 0 {
			return nil, fmt.Errorf("the document does not say which groups the instance of %s (%q) is in", h.Name, id)
		}
	}
	for _, g := range d.Groups {
		if slices.Contains(d.Members[at].Groups, g.Name) {
			out = append(out, g)
		}
	}
	return out, nil
}

// Read gives what the groups of a host's instance decide, as a ruleset: one chain for what
// comes in and one for what goes out, or none: nothing filters for an instance in no group.
// Where no host is given it is the only member, or whoever is in all of the groups. Of members whose addresses a document does not say
// they are those of the fleet.
func Read(sp *packet.Space, h *fleet.Host, fl *fleet.Fleet, d *Document) (*kernel.Ruleset, error) {
	groups, err := d.groupsOf(h)
	if err != nil {
		return nil, err
	}
	rs := &kernel.Ruleset{Tracks: [2]bool{true, true}}
	if len(groups) == 0 && d.Members != nil {
		return rs, nil
	}
	for _, dir := range directions {
		c := &kernel.Chain{Family: "inet", Table: "groups", Name: dir.String(), Hook: kernel.HookOf(dir), Type: "filter",
			Policy: packet.Drop}
		pass := func(match packet.Set, what, at string) {
			c.Rules = append(c.Rules, kernel.Rule{Match: match, Branches: []kernel.Branch{{Match: packet.All, Action: kernel.Accept}},
				Text: kernel.Words(what), At: at})
		}
		pass(sp.Interfaces(dir.Interface(), "lo"), "loopback, which no group sees", "")
		pass(sp.Values(packet.State, packet.Established, packet.Related), "what belongs to a connection", "")
		begins := sp.Values(packet.State, packet.New, packet.Untracked) // what the host does not track the cloud does
		peers := func(name string) (packet.Set, error) { return d.addresses(sp, dir.Peer(), fl, name) }
		for _, g := range groups {
			refused := packet.Empty // by this group; another may admit it
			for i, r := range g.Rules(dir) {
				at := fmt.Sprintf("%s %s rule %d", g.Name, c.Name, i+1)
				match, err := r.set(sp, dir.Peer(), peers)
				if err != nil {
					return nil, fmt.Errorf("%s: %w", at, err)
				}
				if r.Refuses {
					refused = sp.Or(refused, match)
					continue
				}
				pass(sp.And(sp.Minus(match, refused), begins), r.String(), at)
				c.Rules[len(c.Rules)-1].Comment = r.Comment
			}
		}
		rs.Chains = append(rs.Chains, c)
	}
	return rs, nil
}

// addresses are the packets whose peer is a member of a group.
func (d *Document) addresses(sp *packet.Space, peer packet.Field, fl *fleet.Fleet, name string) (packet.Set, error) {
	if !slices.ContainsFunc(d.Groups, func(g Group) bool { return g.Name == name }) {
		return packet.Empty, fmt.Errorf("the peer %s is no group of the document", name)
	}
	of := packet.Empty
	for _, m := range d.Members {
		if !slices.Contains(m.Groups, name) {
			continue
		}
		var b netipx.IPSetBuilder
		for _, a := range m.Addresses {
			b.Add(a)
		}
		for _, h := range fl.Hosts {
			if m.Addresses == nil && h.Instance != nil && h.Instance.ID == m.Instance && h.Instance.Cloud == d.Cloud {
				b.AddSet(ownAddresses(h))
			}
		}
		set, err := b.IPSet()
		if err != nil {
			return packet.Empty, fmt.Errorf("the addresses of the instance %s: %w", m.Instance, err)
		}
		of = sp.Or(of, sp.Addrs(peer, set))
	}
	return of, nil
}

// Prove holds what groups decide, read back, against what they are to admit, for every
// packet. The error is a *dialect.Unproven.
func (a *Admitted) Prove(sp *packet.Space, rs *kernel.Ruleset) error {
	done := rs.Decision(sp)
	for _, s := range a.Sides {
		admits := sp.And(s.asked, sp.Where(done, func(o packet.Outcome) bool { return o.Verdict == packet.Admit }))
		wrong := sp.Or(sp.Minus(admits, s.Admitted), sp.Minus(sp.And(s.asked, s.Admitted), admits))
		if wrong == packet.Empty {
			continue
		}
		p, _ := sp.Example(wrong, nil)
		meant := packet.Outcome{Verdict: packet.Drop}
		if sp.Has(s.Admitted, p) {
			meant.Verdict = packet.Admit
		}
		return &dialect.Unproven{Host: a.Plan.Host.Name, Packet: p, Written: sp.Outcome(done, p), Meant: meant}
	}
	return nil
}
