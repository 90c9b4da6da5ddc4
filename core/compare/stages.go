package compare

import (
	"fmt"
	"hash/fnv"
	"sync"

	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/dialect/forms"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/core/say"
)

// Because says how a difference came about.
type Because string

// How differences come about.
const (
	Changed Because = "changed" // somebody changed what was settled
	Behind  Because = "behind"  // it was published since, and is not settled
)

// A Stage is what a host is to have by one published pair of a revision and a
// generation of the fleet.
type Stage struct {
	Plan                 *compile.Plan
	Revision, Generation int64 // 0 on files
}

// since is how people call what a stage brought, beside the one before it; on files it has no
// number.
func (s Stage) since(before Stage) string {
	switch {
	case s.Revision == 0:
		return "by the files as they are now"
	case s.Revision == before.Revision:
		return fmt.Sprintf("as of generation %d of the fleet", s.Generation)
	}
	return fmt.Sprintf("as of revision %d", s.Revision)
}

// DriftSince is Drift that tells what somebody changed from what is not settled yet. stages
// is what the host was to have from the pair that it was last asked to settle to the one
// that counts now, oldest first; some between may be left out. If there is only one, all is
// changed.
func DriftSince(sp *packet.Space, names *say.Names, stages []Stage, live *kernel.Ruleset) *Result {
	return driftAbout(sp, names, stages, live, packet.All)
}

// changed are the packets that are, or may be, admitted or refused otherwise than was asked
// for, and those with which anything else is done: all, where it is not known that any other
// was asked.
func changed(sp *packet.Space, stages []Stage, done packet.Decision) (verdict, manner packet.Set) {
	if len(stages) < 2 {
		return packet.All, packet.All
	}
	admitted := func(o packet.Outcome) bool { return o.Verdict == packet.Admit }
	asked := stages[0].Plan.Decision(sp)
	done = alike(sp, asked, done)
	should, does := sp.Where(sp.WithinLimits(asked), admitted), sp.Where(sp.WithinLimits(done), admitted)
	verdict = sp.AnyRoom(sp.Possible(sp.Or(sp.Minus(should, does), sp.Minus(does, should))))
	return verdict, sp.AnyRoom(sp.Possible(sp.Differ(asked, done)))
}

// came is the stage with which a packet got the verdict that it is to have now, and the one
// before it, as far as the stages tell.
func (c *comparison) came(p packet.Packet) (stage, before Stage) {
	what := func(i int) packet.Outcome {
		if c.outcomes[i] == nil {
			d := c.sp.WithinLimits(c.stages[i].Plan.Decision(c.sp))
			c.outcomes[i] = &d
		}
		o := c.sp.Outcome(*c.outcomes[i], p)
		o.By = 0
		return o
	}
	last := len(c.stages) - 1
	for i := last; i > 0; i-- {
		if what(i-1) != what(last) {
			return c.stages[i], c.stages[i-1]
		}
	}
	return c.stages[last], c.stages[0]
}

// behind says a finding of what is not settled yet: n is its cause, f what is told of it already.
func (c *comparison) behind(n *cause, f *Finding) {
	stage, before := c.came(*f.Packet)
	f.Because, f.Revision, f.Generation = Behind, stage.Revision, stage.Generation
	published := f.Published.By
	if n.published.Kind == compile.ByGround {
		published = n.published.String()
	}
	since := stage.since(before)
	const not = "that is not settled here"
	switch n.kind {
	case Opened:
		refuses := published + " refuses it"
		if n.stance() {
			refuses = "nothing in the policy admits it"
		}
		f.Sentence = fmt.Sprintf("%s still %s: %s %s; %s.", f.Traffic, say.Passes(n.direction), since, refuses, not)
	case Shut:
		f.Sentence = fmt.Sprintf("%s %s yet: %s %s admits it; %s.", f.Traffic, say.DoesNotPass(n.direction), since, published, not)
	case Altered:
		f.Sentence = fmt.Sprintf("%s is %s %s; %s.", f.Traffic, c.manners(n, *f.Packet), since, not)
	}
	f.Hint = c.undo + " puts it in force"
}

// An Era is one published pair: what all hosts are to have by it.
type Era struct {
	Policy               *policy.Policy
	Revision, Generation int64
}

// Stages are what a host of the last era is to have by each of them, at an instant in
// seconds since 1970, without those in which it was not there.
func Stages(sp *packet.Space, eras []Era, host string, now int64) (out []Stage) {
	for _, e := range eras {
		if h := e.Policy.Fleet.Host(host); h != nil {
			out = append(out, Stage{compile.ForHost(sp, e.Policy, h, now), e.Revision, e.Generation})
		}
	}
	return out
}

// A Lag tells how far hosts are behind that have in force exactly what they were last asked
// for. What hosts have in common it works out once, as Watch does. It may be used by several
// goroutines at once.
type Lag struct {
	term
	eras    []Era // the first is what was asked for, the last what counts
	names   *say.Names
	classes []*compile.Classes
	hosts   []map[string]*fleet.Host
	shares  [8]lagShare
}

// lagShare is what is known of some classes of hosts, under one lock.
type lagShare struct {
	mu    sync.Mutex
	sp    *packet.Space // nil before the first and after there was too much
	known map[string]*lagging
	keep  int
}

// lagging is how hosts of one class are behind.
type lagging struct {
	*comparison // nil where nothing differs in meaning
	*Result
}

// NewLag makes a Lag of at least two eras, which begins anew rather than keep more than so
// many edges of diagrams. names are those of the last era.
func NewLag(eras []Era, names *say.Names, now int64, keep int) *Lag {
	l := &Lag{term: term{now: now}, eras: eras, names: names}
	for _, e := range eras {
		l.classes = append(l.classes, compile.ClassesOf(e.Policy))
		l.hosts = append(l.hosts, e.Policy.Fleet.Index())
		if at := e.Policy.NextTurn(now); at != 0 && (l.until == 0 || at < l.until) {
			l.until = at
		}
	}
	for i := range l.shares {
		l.shares[i].keep = keep / len(l.shares)
	}
	return l
}

// Of is how a host is behind. ok is false where that is for Drift to tell: it was not in the
// fleet before, or it takes too much.
func (l *Lag) Of(name string) (res *Result, ok bool) {
	last := len(l.eras) - 1
	h := l.hosts[last][name]
	if h == nil || l.hosts[0][name] == nil {
		return nil, false
	}
	class := h.Dialect
	for i := range l.eras {
		if then := l.hosts[i][name]; then != nil {
			class += "\n" + l.classes[i].Of(then)
		}
	}
	hash := fnv.New32a()
	hash.Write([]byte(class))
	s := &l.shares[hash.Sum32()%uint32(len(l.shares))]
	s.mu.Lock()
	defer s.mu.Unlock()
	if tangled := packet.Try(func() { res = s.of(l, h, class) }); tangled != nil {
		s.sp = nil
		return nil, false
	}
	return res, true
}

// of is how far hosts of a class are behind, worked out for the first of them.
func (s *lagShare) of(l *Lag, h *fleet.Host, class string) *Result {
	if s.sp == nil {
		s.sp = packet.NewSpace()
		s.sp.Bound(s.keep)
		s.sp.Since(l.now)
		s.known = map[string]*lagging{}
	}
	of := s.known[class]
	if of == nil {
		stages := Stages(s.sp, l.eras, h.Name, l.now)
		of = &lagging{}
		of.comparison, of.Result = compared(s.sp, l.names, stages, forms.Of(h).Rules(s.sp, stages[0].Plan), packet.All)
		s.known[class] = of
	}
	res := *of.Result
	if of.comparison != nil {
		res.Findings = of.to(h).findings()
	}
	return &res
}

// to is the comparison, told of another host of the same class.
func (c *comparison) to(h *fleet.Host) *comparison {
	other, plan := *c, *c.plan
	plan.Host, other.plan, other.undo = h, &plan, "settling "+h.Name
	return &other
}
