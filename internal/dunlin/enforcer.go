package dunlin

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"yellowfence.example/yfence/core/dialect/group"
)

// EnforcerRules are the rules for a kernel that stands between everybody, behind the interface
// up, and an instance, behind down: what its groups admit is forwarded, and replies to that. They
// are read by `nft -f`, and replace what was there.
func EnforcerRules(d *group.Document, instance, up, down string) string {
	var b strings.Builder
	b.WriteString("table inet dunlin\ndelete table inet dunlin\ntable inet dunlin {\n")
	at := slices.IndexFunc(d.Members, func(m group.Member) bool { return m.Instance == instance })
	policy := "drop"
	if at < 0 || len(d.Members[at].Groups) == 0 { // nothing filters for it
		policy = "accept"
	}
	var base strings.Builder
	fmt.Fprintf(&base, "\tchain between {\n\t\ttype filter hook forward priority filter; policy %s;\n\t\tct state established,related "+
		"accept\n", policy)
	for n, g := range d.Groups {
		if at < 0 || !slices.Contains(d.Members[at].Groups, g.Name) {
			continue
		}
		for _, way := range []struct {
			name, from, to, peer string
			rules                []group.Rule
		}{{"in", up, down, "saddr", g.Inbound}, {"out", down, up, "daddr", g.Outbound}} {
			fmt.Fprintf(&b, "\tchain %s-%d {\n", way.name, n) // left where the group says no, for another to say yes
			for _, r := range way.rules {
				between(&b, d, way.peer, r)
			}
			b.WriteString("\t}\n")
			fmt.Fprintf(&base, "\t\tiifname %q oifname %q ct state new jump %s-%d\n", way.from, way.to, way.name, n)
		}
	}
	return b.String() + base.String() + "\t}\n}\n"
}

// between writes a rule: one for the peers of each family.
func between(b *strings.Builder, d *group.Document, peer string, r group.Rule) {
	// A rule's service, in the words of the kernel's filter.
	match := ""
	if r.Service.Protocol != "any" {
		match = " meta l4proto " + r.Service.Protocol
	}
	if r.Service.Protocol == "icmpv6" {
		match = " meta l4proto 58"
	}
	if r.Service.Ports != "" {
		match += " th dport " + r.Service.Ports
	}
	if r.Service.Types != "" { // the first two bytes of either
		match += " @th,0,8 " + r.Service.Types
	}
	if r.Service.Codes != "" {
		match += " @th,8,8 " + r.Service.Codes
	}
	// Its peers by address, a group by the addresses of whoever is in it now.
	var four, six []string
	add := func(p netip.Prefix) {
		if p.Addr().Is4() {
			four = append(four, p.String())
		} else {
			six = append(six, p.String())
		}
	}
	for _, p := range r.Peers {
		if p.Group != "" {
			for _, m := range d.Members {
				if slices.Contains(m.Groups, p.Group) {
					for _, a := range m.Addresses {
						add(netip.PrefixFrom(a, a.BitLen()))
					}
				}
			}
		} else {
			add(p.Prefix)
		}
	}
	for i, peers := range [][]string{four, six} {
		if family := [...]string{"ip", "ip6"}[i]; peers != nil {
			slices.Sort(peers)
			verdict := "accept"
			if r.Refuses {
				verdict = "return"
			}
			fmt.Fprintf(b, "\t\t%s %s { %s }%s %s\n", family, peer, strings.Join(slices.Compact(peers), ", "), match, verdict)
		}
	}
}
