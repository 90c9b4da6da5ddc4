package compare

import (
	"maps"
	"slices"

	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/dialect"
	"yellowfence.example/yfence/core/dialect/forms"
	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/core/say"
)

// Kind is a kind of finding.
type Kind string

// The kinds, the most urgent first.
const (
	Opened   Kind = "opened"   // admitted, and should be refused
	Shut     Kind = "shut"     // refused, and should be admitted
	Altered  Kind = "altered"  // admitted or refused both times, but otherwise done
	Cosmetic Kind = "cosmetic" // written differently, and means the same
	Boot     Kind = "boot"     // only what loads at boot differs
)

// A Finding is one difference in meaning.
type Finding struct {
	Kind      Kind           `json:"kind" enum:"opened,shut,altered,cosmetic,boot"`
	Direction string         `json:"direction" enum:"in,out,through,"`
	Traffic   string         `json:"traffic" doc:"what it is about, in the policy's own names"`
	Packet    *packet.Packet `json:"packet,omitempty" doc:"a packet that shows it"`
	Live      Live           `json:"live"`
	Published Published      `json:"published"`
	Sentence  string         `json:"sentence" doc:"the finding in one sentence"`
	Hint      string         `json:"hint" doc:"what to do about it"`

	Because    Because `json:"because" enum:"changed,behind" doc:"somebody changed what was settled, or it was published since and is not settled"`
	Revision   int64   `json:"revision,omitempty" doc:"the revision that was changed, or with which it came or went"`
	Generation int64   `json:"generation,omitempty" doc:"of the fleet, likewise"`

	Danger int `json:"danger,omitempty" doc:"how dangerous it is beside others of its kind: more where strangers reach it, or where it is log-in, a database or management"`
}

// Live is what a host's kernel does with the packet, and the rule of the dump that says so.
type Live struct {
	Verdict string `json:"verdict"`
	At      string `json:"at" doc:"where the rule stands in the dump"`
	Rule    string `json:"rule" doc:"the rule as the dump writes it"`
}

// Published is what the policy means for the packet, and the statement that says so.
type Published struct {
	Verdict string `json:"verdict"`
	By      string `json:"by" doc:"the rule of the policy, a part of the ground, or the stance"`
	At      string `json:"at" doc:"file, line and column of the rule"`
}

// A Result is all that tells a host's dump from what it should be.
type Result struct {
	Findings []Finding
	Unread   []string // what was not understood and could change the answer
	Bare     bool     // no filter is in force at all
	Until    int64    // the second since 1970 at which it may be another; 0 is never
	AsAsked  bool     // it is in every way what was last asked for, which is another than what counts now
}

// State is the host's state as far as one dump tells it.
func (r *Result) State() string {
	differs := func(because Because) bool {
		return slices.ContainsFunc(r.Findings, func(f Finding) bool { return f.Kind != Cosmetic && f.Because == because })
	}
	switch {
	case r.Bare:
		return "bare"
	case differs(Changed):
		return "drifted"
	case differs(Behind) && len(r.Unread) > 0:
		return "unread"
	case differs(Behind):
		return "behind"
	case len(r.Unread) > 0:
		return "unread"
	}
	return "in step"
}

// TooComplex is what can be told of a host whose rules are too tangled to be held as
// a whole: what becomes of new connections to the services that are tried first
// (policy.Sensitive), from a port as clients have one to the host's own addresses.
// The rest of it is Unread, for the reason given. It takes a Space of its own, into
// which the rules were read again.
func TooComplex(sp *packet.Space, names *say.Names, stages []Stage, live *kernel.Ruleset, why error) *Result {
	plan := stages[len(stages)-1].Plan
	first := packet.Empty
	for _, s := range policy.Sensitive {
		first = sp.Or(first, sp.And(sp.Value(packet.Protocol, s.Protocol), sp.Value(packet.DstPort, s.Port)))
	}
	about := sp.AndAll(first, sp.Value(packet.State, packet.New), sp.Typical(), sp.Value(packet.Hook, packet.In),
		sp.Value(packet.SrcPort, 50000),
		sp.Addrs(packet.Dst, plan.Host.Addresses()), sp.Not(sp.Interfaces(packet.InIface, "lo")), sp.WellFormed())
	res := driftAbout(sp, names, stages, live, about)
	res.Findings = slices.DeleteFunc(res.Findings, func(f Finding) bool { return f.Kind == Cosmetic })
	res.Unread = append([]string{why.Error() +
		"; only new connections to its log-in, database and management services were looked at, from port 50000"}, res.Unread...)
	return res
}

// Drift compares what a host's kernel has in force with what its plan means. A
// rule that admits so much and no more is held against what it admits while it
// is not exceeded; what it does with the rest, and at which rate, is told apart.
func Drift(sp *packet.Space, names *say.Names, plan *compile.Plan, live *kernel.Ruleset) *Result {
	return DriftSince(sp, names, []Stage{{Plan: plan}}, live)
}

// alike is a live decision in which a bucket that does the same as one of the policy's is that:
// of the same rate, for the same packets, wherever it stands.
func alike(sp *packet.Space, meant, done packet.Decision) packet.Decision {
	decides := func(d packet.Decision, b packet.Bucket) packet.Set { // what fares otherwise without a token
		return sp.AnyRoom(sp.Differ(sp.AssumeToken(d, b, true), sp.AssumeToken(d, b, false)))
	}
	ours, theirs := packet.Buckets(sp, meant), packet.Buckets(sp, done)
	for _, b := range theirs {
		if b.What != "" || slices.Contains(ours, b) {
			continue
		}
		at := slices.IndexFunc(ours, func(o packet.Bucket) bool {
			return o.Every == b.Every && o.Burst == b.Burst && o.Sources == b.Sources && o.What == "" && !slices.Contains(theirs, o) &&
				decides(meant, o) == decides(done, b)
		})
		if at < 0 {
			continue
		}
		done = sp.Choose(sp.HasToken(ours[at]), sp.AssumeToken(done, b, true), sp.AssumeToken(done, b, false))
		ours = slices.Delete(slices.Clone(ours), at, at+1)
	}
	return done
}

// driftAbout is DriftSince for some packets.
func driftAbout(sp *packet.Space, names *say.Names, stages []Stage, whole *kernel.Ruleset, about packet.Set) *Result {
	c, res := compared(sp, names, stages, whole, about)
	if c != nil {
		res.Findings = c.findings()
	}
	return res
}

// compared is a comparison of which nothing is said yet, and what is known without it; nil
// where nothing differs in meaning.
func compared(sp *packet.Space, names *say.Names, stages []Stage, whole *kernel.Ruleset, about packet.Set) (*comparison, *Result) {
	plan := stages[len(stages)-1].Plan
	if whole.Routes == nil { // nobody told them: what the fleet says of its addresses will do
		known := *whole
		known.Routes = kernel.RoutesOf(plan.Host)
		whole = &known
	}
	res, live, form := &Result{Bare: whole.Bare()}, whole, forms.Of(plan.Host)
	if about != packet.All {
		live = whole.About(sp, about)
	}
	meant, done := plan.Decision(sp), live.Decision(sp)
	done = alike(sp, meant, done)
	if turns := slices.Concat(sp.ChangeTimes(meant), sp.ChangeTimes(done)); len(turns) > 0 {
		slices.Sort(turns)
		res.Until = turns[0]
	}
	left := sp.Or(plan.Left(sp), sp.Not(about)) // is nobody's question
	verdict, manner := changed(sp, stages, done)
	res.AsAsked = len(stages) > 1 && sp.Within(sp.Or(verdict, manner), sp.Or(left, stages[0].Plan.Left(sp)))
	if sp.Within(sp.Differ(meant, done), left) {
		ours := form.Rules(sp, plan)
		if ours.Signature(sp, form.Ours) != live.Signature(sp, form.Ours) {
			f := cosmetic(sp, form, live, ours)
			if asked := stages[0]; len(stages) > 1 && form.Rules(sp, asked.Plan).Signature(sp, form.Ours) == live.Signature(sp, form.Ours) {
				f.Because, f.Sentence = Behind, "What is published is written differently from what was settled here, and means exactly "+
					"the same for every packet."
			}
			res.Findings = append(res.Findings, f)
		}
		return nil, res
	}
	c := &comparison{sp: sp, stages: stages, outcomes: make([]*packet.Decision, len(stages)), undo: "settling " + plan.Host.Name,
		form: form, about: about, pol: names.Policy, plan: plan, names: names, meantRates: meant, doneRates: done}
	c.meant, c.meantBy = plan.Attributed(sp)
	c.done, c.doneBy = live.Attributed(sp)
	c.meant, c.done = sp.WithinLimits(c.meant), sp.WithinLimits(c.done)
	if c.altering, c.alteringBy = c.done, c.doneBy; live.Translates() {
		c.altering, c.alteringBy = live.Altering(sp)
		c.altering = sp.WithinLimits(c.altering)
	}
	c.recognise(whole, live)
	c.paused = c.isPaused(live)
	res.Unread = c.differences(meant, done, left, verdict, manner)
	return c, res
}

// recognise finds out which rules in force are ours, and which of ours are in force.
func (c *comparison) recognise(whole, live *kernel.Ruleset) {
	intend := func(into map[*kernel.Rule]bool, of *compile.Plan) map[*kernel.Rule]bool {
		ours := recognised(c.sp, whole, c.form.Rules(c.sp, of))
		for i, chain := range whole.Chains {
			for k := range chain.Rules {
				if r := &chain.Rules[k]; ours[r] {
					into[&live.Chains[i].Rules[k]] = true
				}
			}
		}
		return into
	}
	c.whole, c.ours = whole, c.form.Rules(c.sp, c.plan)
	c.stand = standing(c.sp, whole, c.ours)
	c.settledOnce = slices.ContainsFunc(whole.Chains, c.form.Ours)
	c.published = intend(map[*kernel.Rule]bool{}, c.plan)
	c.intended = maps.Clone(c.published)
	if len(c.stages) > 1 { // what was asked for nobody put there by hand
		c.intended = intend(c.intended, c.stages[0].Plan)
	}
	c.unasked = unasked(c.form, whole)
	c.changed = map[line]*kernel.Rule{}
	for _, chain := range live.Chains {
		way, _, ok := c.form.Carries(chain)
		for i := range chain.Rules {
			r := &chain.Rules[i]
			if l := (line{way, r.Comment}); ok && c.form.Ours(chain) && r.Comment != "" && !c.intended[r] && c.changed[l] == nil {
				c.changed[l] = r
			}
		}
	}
}

// differences collects the causes of what differs; what was moved (verdict, manner) somebody
// changed, the rest is behind. It gives what was not understood and could change the answer.
func (c *comparison) differences(meant, done packet.Decision, left, verdict, manner packet.Set) (unread []string) {
	admitted := func(o packet.Outcome) bool { return o.Verdict == packet.Admit }
	should, does := c.sp.Where(c.sp.WithinLimits(meant), admitted), c.sp.Where(c.sp.WithinLimits(done), admitted)
	differ := c.sp.Minus(c.sp.Differ(meant, done), left)
	opened := c.sp.AndAll(c.sp.Certain(c.sp.Minus(does, should)), c.sp.WellFormed(), c.sp.Not(left))
	shut := c.sp.Minus(c.sp.Certain(c.sp.Minus(should, does)), left)
	either := c.sp.Or(c.sp.Possible(c.sp.Minus(does, should)), c.sp.Possible(c.sp.Minus(should, does)))
	altered := c.sp.Minus(c.sp.AnyRoom(c.sp.Certain(differ)), either)
	c.bothAdmit, c.regions = c.sp.And(should, does), map[Kind]packet.Set{Opened: opened, Shut: shut, Altered: altered}
	for _, r := range []struct {
		kind         Kind
		whole, moved packet.Set
	}{{Opened, opened, verdict}, {Shut, shut, verdict}, {Altered, altered, manner}} {
		c.collect(r.kind, Changed, c.sp.And(r.whole, r.moved))
		c.collect(r.kind, Behind, c.sp.Minus(r.whole, r.moved))
	}
	if certain := c.sp.OrAll(opened, shut, altered); !c.sp.Within(c.sp.Possible(differ), certain) {
		return c.sp.UnknownsOf(c.sp.Minus(differ, certain))
	}
	return nil
}

// comparison collects the regions in which two decisions differ, by cause.
type comparison struct {
	sp          *packet.Space
	form        dialect.Form // of the host
	about       packet.Set   // what is compared
	grouped     bool         // by what a security group can tell
	pol         *policy.Policy
	plan        *compile.Plan
	names       *say.Names
	meant, done packet.Decision // attributed, while nothing is exceeded
	meantRates  packet.Decision // not attributed, with what exceeds a rate
	doneRates   packet.Decision
	meantBy     []compile.Decider
	doneBy      []kernel.Decider
	altering    packet.Decision // done, with who translates among those who decide
	alteringBy  []kernel.Decider
	bothAdmit   packet.Set
	regions     map[Kind]packet.Set   // where the decisions differ
	intended    map[*kernel.Rule]bool // the live rules that stand as we would write them, or wrote them for what was asked
	whole, ours *kernel.Ruleset       // in force, and as we would write them
	settledOnce bool                  // rules of ours are in force, or what is left of them
	paused      bool                  // the rules of ours in force are those of a pause
	stand       map[ruleKey]bool      // the rules of ours that stand in force as we would write them
	published   map[*kernel.Rule]bool // those that stand as we would write them now
	stages      []Stage
	outcomes    []*packet.Decision    // of the stages, as far as they were wanted
	changed     map[line]*kernel.Rule // live rules that stand for a statement and are not as we would write them
	causes      []*cause
	unasked     map[packet.Direction]string // chains of ours that nothing goes to, by the way of packets
	undo        string                      // what puts things right: settling the host
}
