package traffic

import (
	"cmp"
	"slices"
	"strings"

	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/core/say"
)

// What stands behind a statement's name where it is not refused plainly, as rules say it.
const (
	onTrial  = " on trial"
	exceeded = " exceeded"
	isPaused = " would refuse"
)

// A Refusal is what is refused for one reason: from one end to another, to one port.
type Refusal struct {
	By     string `json:"by" doc:"who refuses: 'block pests', 'stance inbound closed'"`
	Place  string `json:"place,omitempty" doc:"where the policy says it"`
	Manner string `json:"manner,omitempty" enum:"on trial,over its limit,paused" doc:"where it is not simply refused"`
	Group
	Search bool   `json:"search,omitempty" doc:"one after the other, many ports were tried"`
	Passes bool   `json:"passes,omitempty" doc:"the policy that is asked admits it"`
	Rule   string `json:"rule,omitempty" doc:"that would admit it, as a statement of the policy"`
	Opens  string `json:"opens,omitempty" doc:"what that rule opens besides"`
}

// Refusals are what hosts refused from an instant on, by reason: first what is refused between our
// own, then to networks that are known, then to strangers, and last whoever looks for open ports;
// among these the most frequent first. most bounds how many are told; the rest is counted, and a
// quarter is kept for searches. records
// are by host.
func Refusals(b packet.Budget, names *say.Names, records map[string]*Record, since, now int64, most int) (out []*Refusal, more int) {
	pol := names.Policy
	e, all := endsOf(pol), map[string]*Refusal{}
	for h, flow := range (span{pol, records, since}).refused() {
		e.addRefusal(all, h, flow)
	}
	for _, r := range all {
		out = append(out, r)
	}
	slices.SortFunc(out, func(a, b *Refusal) int {
		return cmp.Or(cmp.Compare(a.rank(), b.rank()), cmp.Compare(b.Times, a.Times), cmp.Compare(b.Last, a.Last),
			cmp.Compare(a.key(), b.key()))
	})
	if more = max(len(out)-most, 0); more > 0 { // whoever looks for open ports is last, and told all the same
		first := slices.IndexFunc(out, func(r *Refusal) bool { return r.Search })
		searches := 0
		if first >= 0 {
			searches = min(len(out)-first, max(most/4, 1))
			out = slices.Concat(out[:min(most-searches, first)], out[first:first+searches])
		}
		out = out[:min(most, len(out))]
	}
	j := judgeOf(b.Space(), pol, now)
	for _, r := range out {
		r.finish(e, j, names)
	}
	return out, more
}

// rank orders refusals: what concerns ourselves first.
func (r *Refusal) rank() int {
	other := r.From.Who
	if r.Direction == packet.Outbound.Word() {
		other = r.To.Who
	}
	switch {
	case r.Search:
		return 3
	case other == Ours:
		return 0
	case other == Known:
		return 1
	}
	return 2
}

// key is what tells a refusal from others.
func (r *Refusal) key() string { return r.By + "\n" + r.Manner + "\n" + r.Group.key() }

// addRefusal adds a flow that a host refused.
func (e *ends) addRefusal(all map[string]*Refusal, h *fleet.Host, s timed) {
	one := &Refusal{By: s.By, Group: e.group(h, s.Flow), Search: s.Port == ManyPorts}
	for behind, manner := range map[string]string{onTrial: "on trial", exceeded: "over its limit", isPaused: "paused"} {
		if by, cut := strings.CutSuffix(s.By, behind); cut {
			one.By, one.Manner = by, manner
		}
	}
	if all[one.key()] == nil {
		all[one.key()] = one
	}
	all[one.key()].add(h, s)
}

// finish says what is known of a refusal only once all of it is there.
func (r *Refusal) finish(e *ends, j *judge, names *say.Names) {
	every := r.Group.finish(names.Policy)
	for _, rule := range e.pol.Rules {
		if r.By == string(compile.ByBlock)+" "+rule.Name || r.By == string(compile.ByAllow)+" "+rule.Name {
			r.Place = rule.Pos.String()
		}
	}
	if r.Search { // nobody is to be admitted to whatever is open
		return
	}
	if _, passes, ok := j.decides(r.host, r.flow, true); ok && passes && r.Manner == "" {
		r.Passes = true // it was another policy that refused it
		return
	}
	if rule := r.admitting(names.Policy, every); rule != nil {
		r.Rule, r.Opens = fence.Line(rule), r.opens(e, rule)
	}
}

// admitting is the rule that would admit what is refused; nil where no single one would: what comes
// by another interface than its sender is on, or is more than what a limit admits.
func (r *Refusal) admitting(pol *policy.Policy, senders []Sender) *fence.Rule {
	kind, name, _ := strings.Cut(r.By, " ")
	if compile.Kind(kind) == compile.ByLocal || r.Manner == "over its limit" || r.Manner == "paused" {
		return nil
	}
	// A block stays as it is: the allow says that it is an exception to it.
	rule := r.rule(senders, pol)
	if compile.Kind(kind) == compile.ByBlock {
		rule.Over = []fence.Ident{{Name: name}}
	}
	return rule
}
