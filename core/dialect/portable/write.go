package portable

import (
	"fmt"
	"slices"
	"strconv"
	"time"

	"go4.org/netipx"

	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/dialect"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
)

// Form is portable rules.
type Form struct{}

// Name is the dialect's.
func (Form) Name() string { return "portable" }

// Files are the kinds of files that it writes.
func (Form) Files() []dialect.Kind { return []dialect.Kind{"portable"} }

// Alike is not so: the list says the networks of a host.
func (Form) Alike() bool { return false }

// Carries tells a chain's direction by its name.
func (Form) Carries(c *kernel.Chain) (d packet.Direction, helper, ok bool) {
	return dialect.Direction(c.Name)
}

// Label names our rules: the list is all ours.
func (Form) Label() string { return "the list of portable rules" }

// Ours says that a chain is one of a list.
func (Form) Ours(c *kernel.Chain) bool { return c.Table == Table }

// Overrides says that a new list takes a chain's place.
func (Form) Overrides(c *kernel.Chain) bool { return c.Table == Table }

// Rules is what a host has in force that has taken the list.
func (Form) Rules(sp *packet.Space, plan *compile.Plan) *kernel.Ruleset {
	d, _ := document(plan)
	rs, err := Read(sp, d)
	if err != nil {
		panic(err) // we wrote it
	}
	return rs
}

// Unsayable is what a list has no way to say.
func (Form) Unsayable(plan *compile.Plan) []string {
	_, refused := document(plan)
	return refused
}

// Write gives a plan as one file.
func (Form) Write(_ *packet.Space, plan *compile.Plan) ([]dialect.File, error) {
	if plan.Host.Dialect == fleet.NoFilter {
		return nil, &dialect.NoFilter{Host: plan.Host.Name}
	}
	d, refused := document(plan)
	if refused != nil {
		return nil, &dialect.Refusal{Host: plan.Host.Name, Dialect: "portable", What: refused}
	}
	return []dialect.File{{Kind: "portable", Text: d.String()}}, nil
}

// Read gives what a file of Write puts in force.
func (Form) Read(sp *packet.Space, _ *fleet.Host, files []dialect.File) (*kernel.Ruleset, error) {
	if len(files) != 1 {
		return nil, fmt.Errorf("a host has one list of portable rules, not %d", len(files))
	}
	d, err := Parse([]byte(files[0].Text))
	if err != nil {
		return nil, err
	}
	return Read(sp, d)
}

// document is a plan as a list; refused is what it cannot say, by rule.
func document(plan *compile.Plan) (d *Document, refused []string) {
	w := &writer{h: plan.Host, out: &Document{Version: 1, Kind: Kind, Host: plan.Host.Name, Networks: []Network{},
		Interfaces: []Interface{}}}
	for _, i := range plan.Host.Interfaces {
		w.out.Interfaces = append(w.out.Interfaces, Interface{i.Name, i.Addresses})
		n := Network{Name: category(i)}
		if n.Name == "" {
			continue
		}
		at := slices.IndexFunc(w.out.Networks, func(o Network) bool { return o.Name == n.Name })
		if at < 0 {
			at = len(w.out.Networks)
			w.out.Networks = append(w.out.Networks, n)
		}
		for _, p := range i.Addresses {
			if p = p.Masked(); !slices.Contains(w.out.Networks[at].Prefixes, p) {
				w.out.Networks[at].Prefixes = append(w.out.Networks[at].Prefixes, p)
			}
		}
	}
	for _, t := range plan.Translations {
		w.refuse(t.Decider, "translation")
	}
	for _, c := range plan.Chains {
		l := &List{Rules: []Rule{}, Otherwise: "admit"}
		if c.Stance.Closed {
			l.Otherwise = "drop"
		}
		for _, r := range c.Trial {
			if r.Log != nil {
				w.refuse(r.Decider, "on trial")
			}
		}
		for _, r := range c.Rules {
			if r.Kind == compile.ByStance && r.Verdict == packet.Drop && r.Log == nil && c.Stance.Closed {
				continue // the list's end does that
			}
			l.Rules = append(l.Rules, w.rule(r))
		}
		switch c.Direction {
		case packet.Inbound:
			w.out.Inbound = l
		case packet.Outbound:
			w.out.Outbound = l
		default:
			w.out.Forwarded = l
		}
	}
	return w.out, w.refused
}

// writer makes a document of a plan, and notes what a document has no way to say.
type writer struct {
	h       *fleet.Host
	out     *Document
	refused []string
}

// refuse notes what cannot be said, once for each statement.
func (w *writer) refuse(by compile.Decider, format string, args ...any) {
	if what := by.String() + ": " + fmt.Sprintf(format, args...); !slices.Contains(w.refused, what) {
		w.refused = append(w.refused, what)
	}
}

// category is what an interface's network is called: its segment, or its first prefix.
func category(i fleet.Interface) string {
	if i.Segment != "" || len(i.Addresses) == 0 {
		return i.Segment
	}
	return i.Addresses[0].Masked().String()
}

// rule is a rule of the plan as the document has it.
func (w *writer) rule(r compile.Rule) Rule {
	out := Rule{Does: map[packet.Verdict]string{packet.Admit: "admit", packet.Drop: "drop", packet.Reject: "reject"}[r.Verdict],
		Comment: r.Decider.String(), Log: r.Log != nil, Condition: w.condition(r.Decider, r.Match)}
	for _, u := range r.Unless {
		if _, not := u.Whole(); not != nil {
			w.refuse(r.Decider, "an exception to a block of any except")
		}
		out.Unless = append(out.Unless, w.condition(r.Decider, u))
	}
	if r.Limit != nil {
		w.refuse(r.Decider, "at most")
	}
	if r.Log != nil && r.Log.UpTo != nil {
		w.refuse(r.Decider, "log up to")
	}
	return out
}

// condition is what a rule asks, in the document's words.
func (w *writer) condition(by compile.Decider, m compile.Match) (c Condition) {
	if m.Ifaces != nil {
		names := w.networks(by, m.Ifaces)
		if m.NotIfaces {
			c.NotNetworks = names
		} else {
			c.Networks = names
		}
	}
	if m.Leaving {
		w.refuse(by, "the interface it leaves by")
	}
	c.From, c.To = prefixes(m.From), prefixes(m.To)
	for _, t := range m.Terms {
		c.Services = append(c.Services, service(t))
	}
	for _, s := range m.States {
		c.States = append(c.States, packet.StateNames[s])
	}
	if m.Since != 0 {
		at := time.Unix(m.Since, 0).UTC()
		c.Since = &at
	}
	if m.Until != 0 {
		at := time.Unix(m.Until, 0).UTC()
		c.Until = &at
	}
	for _, s := range m.Senders {
		switch {
		case s.Kind == packet.ByUser && c.Users == nil:
			c.Users = s.Names
		case s.Kind == packet.ByProgram && c.Programs == nil:
			c.Programs = s.Names
		default:
			w.refuse(by, "from %s", s.Kind)
		}
	}
	if m.IPsec {
		w.refuse(by, "encrypted")
	}
	return c
}

// networks are the categories of some interfaces. There must be no others on them.
func (w *writer) networks(by compile.Decider, ifaces []string) []string {
	out := []string{}
	for _, name := range ifaces {
		at := slices.IndexFunc(w.h.Interfaces, func(i fleet.Interface) bool { return i.Name == name })
		switch {
		case name == "lo":
			out = append(out, Loopback)
		case at < 0 || category(w.h.Interfaces[at]) == "":
			w.refuse(by, "the interface %s", name)
		default:
			if c := category(w.h.Interfaces[at]); !slices.Contains(out, c) {
				out = append(out, c)
			}
		}
	}
	for _, name := range w.out.On(out) {
		if !slices.Contains(ifaces, name) {
			w.refuse(by, "interfaces of a network that %s is on as well", name)
		}
	}
	return out
}

// prefixes are addresses as a document lists them; nil is all.
func prefixes(set *netipx.IPSet) (out []string) {
	if set == nil {
		return nil
	}
	out = []string{}
	for _, p := range set.Prefixes() {
		out = append(out, p.String())
	}
	return out
}

// service is one term as a document has it.
func service(t policy.Term) (v Service) {
	if t.Family != policy.AnyFamily {
		v.Family = []string{packet.IPv4: "ipv4", packet.IPv6: "ipv6"}[t.Family]
	}
	if t.Protocol == policy.AnyProtocol {
		return v
	}
	v.Protocol = strconv.Itoa(t.Protocol)
	for name, n := range protocols {
		if n == t.Protocol {
			v.Protocol = name
		}
	}
	if t.HasPorts() && (t.Ports.Lo != 0 || t.Ports.Hi != 65535) {
		if v.Ports = strconv.Itoa(t.Ports.Lo); t.Ports.Hi != t.Ports.Lo {
			v.Ports += "-" + strconv.Itoa(t.Ports.Hi)
		}
	}
	if t.Type != policy.AnyType {
		v.Type = &t.Type
	}
	if t.Code != policy.AnyType {
		v.Code = &t.Code
	}
	return v
}
