package live

import (
	"cmp"
	"slices"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/dialect/forms"
	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
)

// Chains says a ruleset as the API does, with what the counters of its rules stood at.
func Chains(rs *kernel.Ruleset, counts []api.Count) []api.Chain {
	at := map[string]api.Count{}
	for _, c := range counts {
		at[c.At] = c
	}
	out := []api.Chain{}
	for _, c := range rs.Chains {
		chain := api.Chain{Place: c.Place(), Hook: c.Hook, Ours: forms.Ours(c), Rules: []api.Rule{}}
		if c.Hook != "" {
			chain.Priority, chain.Policy = new(c.Priority), "accept"
			if c.Policy == packet.Drop {
				chain.Policy = "drop"
			}
		}
		for _, r := range c.Rules {
			one := api.Rule{Text: r.Text.String(), By: r.Comment, At: r.At}
			for _, b := range r.Branches {
				to := (&kernel.Chain{Family: c.Family, Table: c.Table, Name: b.Target}).Place()
				if b.Target != "" && !slices.Contains(one.To, to) {
					one.To = append(one.To, to)
				}
			}
			if n, ok := at[r.At]; ok {
				one.Packets, one.Bytes = &n.Packets, &n.Bytes
			}
			chain.Rules = append(chain.Rules, one)
		}
		out = append(out, chain)
	}
	return out
}

// mostElements is how many elements of a set are told.
const mostElements = 1000

// Sets are the sets that rules of a host's dumps ask by name, the first elements of each.
func Sets(f api.InForce) (out []api.NamedSet) {
	for _, s := range forms.NamedSets(f.Dumps) {
		one := api.NamedSet{Table: s.Table, Name: s.Name, Elements: s.Elements, Total: len(s.Elements), Changes: s.Changes}
		if one.Elements = one.Elements[:min(one.Total, mostElements)]; one.Elements == nil {
			one.Elements = []string{}
		}
		out = append(out, one)
	}
	return out
}

// A Tried is one line of rules in the order in which a packet meets them: a chain that it enters, or
// a rule.
type Tried struct {
	Number int       `json:"number,omitempty"` // of a rule, from 1
	Depth  int       `json:"depth"`            // how many jumps it is below a chain that the kernel asks
	Chain  *Entered  `json:"chain,omitempty"`  // nil of a rule
	Rule   *api.Rule `json:"rule,omitempty"`
}

// Entered is a chain that a packet comes into.
type Entered struct {
	Place    string `json:"place"`
	Priority *int   `json:"priority,omitempty"` // at a hook
	Policy   string `json:"policy,omitempty"`   // at a hook: what becomes of what no rule decides
	Rules    int    `json:"rules"`              // how many it has
	Ours     bool   `json:"ours,omitempty"`     // we write and own it
	Again    int    `json:"again,omitempty"`    // where it stands above already: the number of its first rule there
}

// hooks are the kernel's, in the order in which a packet comes to them.
var hooks = []string{"ingress", "prerouting", "input", "forward", "output", "postrouting", "egress"}

// A Hook is what a kernel asks at one of its hooks, in that order.
type Hook struct {
	Name  string  `json:"hook"` // "" is none: chains that nothing leads to
	Lines []Tried `json:"lines"`
}

// InOrder lays chains out as they are tried: hook by hook, the chains of each by priority, and
// where a rule jumps, the chain that it goes to, once. Chains of one priority stand as in the
// listing; which is first the kernel does not tell. Chains that nothing leads to come last, at no hook.
func InOrder(chains []api.Chain) (out []Hook) {
	byPlace, led, number := map[string]*api.Chain{}, map[string]bool{}, 0
	for i := range chains {
		byPlace[chains[i].Place] = &chains[i]
	}
	// A chain is laid out where it is first come to, and named where it is come to again: rules that
	// jump in a circle, which a hostile report may hold, end too.
	var enter func(h *Hook, c *api.Chain, depth int, first map[string]int)
	enter = func(h *Hook, c *api.Chain, depth int, first map[string]int) {
		led[c.Place] = true
		n, there := first[c.Place]
		h.Lines = append(h.Lines, Tried{Depth: depth, Chain: &Entered{c.Place, c.Priority, c.Policy, len(c.Rules), c.Ours, n}})
		if there {
			return
		}
		first[c.Place] = number + 1
		for i := range c.Rules {
			r := &c.Rules[i]
			number++
			h.Lines = append(h.Lines, Tried{Number: number, Depth: depth, Rule: r})
			for _, to := range r.To {
				if next := byPlace[to]; next != nil {
					enter(h, next, depth+1, first)
				}
			}
		}
	}
	// The kernel's hooks in the order of a packet's way; at each, chains by priority.
	for _, name := range hooks {
		var base []*api.Chain
		for i := range chains {
			if chains[i].Hook == name {
				base = append(base, &chains[i])
			}
		}
		if base == nil {
			continue
		}
		slices.SortStableFunc(base, func(a, b *api.Chain) int { return cmp.Compare(priority(a), priority(b)) })
		h, first := Hook{Name: name}, map[string]int{}
		for _, c := range base {
			enter(&h, c, 0, first)
		}
		out = append(out, h)
	}
	// What no chain leads to does nothing, and is shown all the same: somebody may think that it does.
	idle := Hook{}
	for i := range chains {
		if c := &chains[i]; !led[c.Place] {
			enter(&idle, c, 0, map[string]int{})
		}
	}
	if idle.Lines != nil {
		out = append(out, idle)
	}
	return out
}

// priority is a chain's at a hook; 0 where an older service does not tell it.
func priority(c *api.Chain) int {
	if c.Priority == nil {
		return 0
	}
	return *c.Priority
}
