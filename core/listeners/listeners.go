package listeners

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
)

// A Listener is a socket that waits for connections or datagrams.
type Listener struct {
	Protocol  string `json:"protocol" enum:"tcp,udp"`
	Address   string `json:"address,omitempty" doc:"the one it listens on; 0.0.0.0 and :: are all of a family, nothing is all of both"`
	Interface string `json:"interface,omitempty" doc:"the one it is bound to"`
	Port      int    `json:"port"`
	Process   string `json:"process,omitempty"`
	Unit      string `json:"unit,omitempty"`
}

// String is it as people write it: "tcp 10.40.3.40:5432 (postgres, postgresql.service)".
func (l Listener) String() string {
	at := l.Address
	switch {
	case at == "" || at == "0.0.0.0" || at == "::":
		at = map[string]string{"": "all addresses", "0.0.0.0": "all IPv4 addresses", "::": "all IPv6 addresses"}[at]
	}
	who := l.Process
	if l.Unit != "" && who != "" {
		who += ", "
	}
	if who += l.Unit; who != "" {
		who = " (" + who + ")"
	}
	return fmt.Sprintf("%s %d on %s%s", l.Protocol, l.Port, at, who)
}

// protocol is the protocol's number.
func (l Listener) protocol() int {
	if l.Protocol == "udp" {
		return packet.UDP
	}
	return packet.TCP
}

// on are the addresses of a host's that it listens on; local says that it is for the
// host's own programs alone.
func (l Listener) on(h *fleet.Host) (addresses []netip.Addr, local bool) {
	at, err := netip.ParseAddr(l.Address)
	every := l.Address == "" || l.Address == "0.0.0.0" || l.Address == "::"
	if !every && (err != nil || at.IsLoopback()) {
		return nil, true
	}
	for _, i := range h.Interfaces {
		for _, p := range i.Addresses {
			fits := l.Address == "" || l.Address == "0.0.0.0" && p.Addr().Is4() || l.Address == "::" && p.Addr().Is6() || p.Addr() == at
			if fits && (l.Interface == "" || l.Interface == i.Name) {
				addresses = append(addresses, p.Addr())
			}
		}
	}
	return addresses, l.Interface == "lo"
}

// The kinds of notes.
const (
	Nobody   = "nobody listens"   // a port is admitted with nothing behind it
	Down     = "down"             // a unit serves it, and does not run
	Shut     = "shut"             // something listens or runs that nobody may come to
	TooWide  = "too wide"         // it listens on more addresses than are meant
	AsMeant  = "as meant"         // it listens, and is admitted
	OwnAlone = "for itself alone" // it listens for the host's own programs
)

// A Note is what there is to say of a listener, or of the want of one.
type Note struct {
	Kind     string    `json:"kind" enum:"nobody listens,down,shut,too wide,as meant,for itself alone"`
	Listener *Listener `json:"listener,omitempty"`
	Unit     string    `json:"unit,omitempty" doc:"that serves it, by the policy"`
	Rules    []string  `json:"rules,omitempty" doc:"allows that admit somebody to it"`
	At       string    `json:"at,omitempty" doc:"where the first of them stands"`
	Says     string    `json:"says" doc:"the same for people"`
}

// Seen is what a host tells of its programs.
type Seen struct {
	Listeners []Listener
	Runs      []string // units; nil if they are not known
}

// Compare holds what a host tells against its plan, and against the services of the
// policy that name their units. What is redirected is looked at as it arrives.
func Compare(sp *packet.Space, plan *compile.Plan, services []*policy.Service, seen Seen) []Note {
	h, found := plan.Host, seen.Listeners
	notes := []Note{}
	decision := plan.Decision(sp)
	// A new connection from outside; what is open already came in as one.
	fresh := sp.AndAll(sp.Value(packet.Hook, packet.In), sp.Value(packet.State, packet.New), sp.Not(sp.Interfaces(packet.InIface, "lo")))
	admitted := sp.And(fresh, sp.Where(decision, func(o packet.Outcome) bool { return o.Verdict == packet.Admit }))
	rules := allows(plan)
	reaches := func(l Listener, at netip.Addr) packet.Set {
		family := packet.IPv4
		if at.Is6() {
			family = packet.IPv6
		}
		p := netip.PrefixFrom(at, at.BitLen())
		return sp.AndAll(admitted, sp.Value(packet.Family, family), sp.Value(packet.Protocol, l.protocol()),
			sp.Value(packet.DstPort, l.Port), sp.Ranges(packet.Dst, []packet.Range{packet.PrefixRange(p)}))
	}
	// Of each listener: at which of its addresses anybody may come to it, and by which rules.
	for _, l := range found {
		addresses, local := l.on(h)
		note := Note{Listener: &l}
		var open, shut []string
		for _, at := range addresses {
			come := reaches(l, at)
			if come == packet.Empty {
				shut = append(shut, at.String())
				continue
			}
			open = append(open, at.String())
			for _, r := range rules {
				if sp.And(come, plan.RuleSet(sp, r, packet.Inbound)) != packet.Empty && !slices.Contains(note.Rules, r.Title()) {
					if note.Rules = append(note.Rules, r.Title()); note.At == "" {
						note.At = r.Pos.String()
					}
				}
			}
		}
		switch {
		case local:
			note.Kind, note.Says = OwnAlone, fmt.Sprintf("%s is for the host's own programs", l)
		case len(addresses) == 0:
			note.Kind, note.Says = Shut, fmt.Sprintf("%s listens on an address that the fleet file does not say", l)
		case len(open) == 0:
			note.Kind, note.Says = Shut, fmt.Sprintf("%s listens, and by the policy nobody may come to it", l)
		case len(shut) > 0:
			note.Kind, note.Says = TooWide, fmt.Sprintf(
				"%s listens on %s too, where by the policy nobody may come to it; only %s is meant", l, strings.Join(shut, ", "),
				strings.Join(open, ", "))
		default:
			note.Kind, note.Says = AsMeant, fmt.Sprintf("%s, as %s means it", l, orRules(note.Rules))
		}
		notes = append(notes, note)
	}
	// Then the other way round: what is admitted where nobody listens, and services by their units.
	for _, r := range rules {
		notes = append(notes, idle(sp, plan, r, admitted, found)...)
	}
	if seen.Runs == nil {
		return notes
	}
	for _, s := range services {
		if s.Units != nil {
			notes = byUnit(sp, s, admitted, seen.Runs, notes)
		}
	}
	return notes
}

// byUnit adds what there is to say of the units that serve a service. A unit that is
// down is why nobody listens.
func byUnit(sp *packet.Space, s *policy.Service, admitted packet.Set, runs []string, notes []Note) []Note {
	running := slices.IndexFunc(s.Units, func(u string) bool { return slices.Contains(runs, u) })
	for _, t := range s.Terms {
		if t.Protocol != packet.TCP && t.Protocol != packet.UDP {
			continue
		}
		here := sp.AndAll(admitted, sp.Value(packet.Protocol, t.Protocol), sp.Range(packet.DstPort, t.Ports.Lo, t.Ports.Hi))
		switch {
		case here == packet.Empty && running >= 0:
			told := slices.ContainsFunc(notes, func(n Note) bool {
				return n.Kind == Shut && n.Listener != nil && n.Listener.protocol() == t.Protocol && t.Ports.Lo <= n.Listener.Port &&
					n.Listener.Port <= t.Ports.Hi
			})
			if !told {
				notes = append(notes, Note{Kind: Shut, Unit: s.Units[running], At: s.Pos.String(),
					Says: fmt.Sprintf("%s runs, and by the policy nobody may come to %s of service %s", s.Units[running], t, s.Name)})
			}
		case here != packet.Empty && running < 0:
			down := Note{Kind: Down, Unit: s.Units[0], At: s.Pos.String(),
				Says: fmt.Sprintf("%s is down, though %s of service %s is admitted", strings.Join(s.Units, ", "), t, s.Name)}
			notes = slices.DeleteFunc(notes, func(n Note) bool {
				if n.Kind != Nobody || !strings.HasPrefix(n.Says, t.String()+" is admitted by ") {
					return false
				}
				down.Rules = append(down.Rules, n.Rules...)
				return true
			})
			if down.Rules != nil {
				notes = append(notes, down)
			}
		}
	}
	return notes
}

// orRules are the rules that decide, or the stance where none does.
func orRules(rules []string) string {
	if len(rules) == 0 {
		return "the stance"
	}
	return strings.Join(rules, ", ")
}

// allows are the rules of the policy that admit something to the host itself.
func allows(plan *compile.Plan) (out []*policy.Rule) {
	for _, c := range plan.Chains {
		if c.Direction != packet.Inbound {
			continue
		}
		for _, r := range c.Rules {
			if r.Rule != nil && !r.Rule.Block && !slices.Contains(out, r.Rule) {
				out = append(out, r.Rule)
			}
		}
	}
	return out
}

// idle tells of ports that a rule admits and that nothing listens on.
func idle(sp *packet.Space, plan *compile.Plan, r *policy.Rule, admitted packet.Set, found []Listener) (out []Note) {
	mine := sp.And(admitted, plan.RuleSet(sp, r, packet.Inbound))
	for _, t := range r.Terms {
		if t.Protocol != packet.TCP && t.Protocol != packet.UDP {
			continue
		}
		own := sp.AndAll(mine, sp.Value(packet.Protocol, t.Protocol), sp.Range(packet.DstPort, t.Ports.Lo, t.Ports.Hi))
		if own == packet.Empty {
			continue
		}
		served := slices.ContainsFunc(found, func(l Listener) bool {
			if l.protocol() != t.Protocol || l.Port < t.Ports.Lo || l.Port > t.Ports.Hi {
				return false
			}
			addresses, _ := l.on(plan.Host)
			return slices.ContainsFunc(addresses, func(at netip.Addr) bool {
				return sp.And(own, sp.Ranges(packet.Dst,
					[]packet.Range{packet.PrefixRange(netip.PrefixFrom(at, at.BitLen()))})) != packet.Empty
			})
		})
		if !served {
			out = append(out, Note{Kind: Nobody, Rules: []string{r.Title()}, At: r.Pos.String(),
				Says: fmt.Sprintf("%s is admitted by %s, and nothing listens there", t, r.Title())})
		}
	}
	return out
}
