package compare

import (
	"hash/fnv"
	"slices"
	"sync"

	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/dialect"
	"yellowfence.example/yfence/core/dialect/forms"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
)

// A Watch tells which hosts of a fleet are in step with a policy. What hosts
// have in common, in their dumps and in what the policy means for them, it
// works out once, so that a host that is in step takes little more than going
// over its dump. Of any other, and of one that translates addresses, it says nothing:
// that is for Drift to explain.
// It may be used by several goroutines at once.
type Watch struct {
	term
	pol     *policy.Policy
	classes *compile.Classes
	shares  [8]share // hosts that are alike are in the same one
}

// share is what is known of some of the hosts.
type share struct {
	mu      sync.Mutex
	sp      *packet.Space                  // nil before the first and after there was too much
	readers map[string]dialect.QuickReader // by form
	chains  kernel.EvalCache
	told    map[*kernel.Ruleset]string // signatures of tables that are ours
	meant   map[string]*meaning        // by class
	keep    int
}

// meaning is what the policy means for a class of hosts.
type meaning struct {
	decision  packet.Decision
	signature string
	turns     int64 // when it is another by itself; 0 is never
}

// NewWatch makes a Watch that begins anew with what it knows rather than keep
// more than so many edges of diagrams; now is in seconds since 1970.
func NewWatch(pol *policy.Policy, now int64, keep int) *Watch {
	w := &Watch{term: term{now, pol.NextTurn(now)}, pol: pol, classes: compile.ClassesOf(pol)}
	for i := range w.shares {
		w.shares[i].keep = keep / len(w.shares)
	}
	return w
}

// A term is for which instants, in seconds since 1970, something holds that was worked out for one.
type term struct {
	now   int64 // the one; what was before it was left out
	until int64 // when a policy means something else by itself; 0 is never
}

// Good says that what was worked out holds at an instant: its own, or a later one up to which nothing turns.
func (t term) Good(now int64) bool { return now >= t.now && (t.until == 0 || now < t.until) }

// Ahead says that it was worked out for a later instant than this one.
func (t term) Ahead(now int64) bool { return t.now > now }

// InStep gives the result of a host whose one dump (of either form) is in every
// way what the policy means. ok is false where it is not, or may not be.
func (w *Watch) InStep(h *fleet.Host, dump []byte, names *kernel.Names) (res *Result, ok bool) {
	form, ok := forms.Of(h).(dialect.Quick)
	if !ok || names != nil && len(names.Absent) > 0 { // to a host without some senders other packets can be
		return nil, false
	}
	class := form.Name() + " " + w.classes.Of(h)
	hash := fnv.New32a()
	hash.Write([]byte(class))
	s := &w.shares[hash.Sum32()%uint32(len(w.shares))]
	s.mu.Lock()
	defer s.mu.Unlock()
	if tangled := packet.Try(func() { res, ok = s.inStep(w, form, h, class, dump, names) }); tangled != nil {
		s.sp = nil
		return nil, false
	}
	return res, ok
}

// inStep is InStep for a host of this share, whose lock is held. What a Space was filled with
// stays until it is too much.
func (s *share) inStep(w *Watch, form dialect.Quick, h *fleet.Host, class string, dump []byte, names *kernel.Names) (res *Result, ok bool) {
	if s.sp == nil {
		s.sp = packet.NewSpace()
		s.sp.Bound(s.keep)
		s.sp.Since(w.now)
		s.readers, s.chains = map[string]dialect.QuickReader{}, kernel.EvalCache{}
		s.told, s.meant = map[*kernel.Ruleset]string{}, map[string]*meaning{}
	}
	if s.readers[form.Name()] == nil {
		s.readers[form.Name()] = form.Quick(s.sp)
	}
	tables, ok := s.readers[form.Name()].Read(dump, names)
	if !ok {
		return nil, false
	}
	all, signature := &kernel.Ruleset{}, ""
	for _, t := range tables {
		if slices.ContainsFunc(t.Chains, func(c *kernel.Chain) bool { return c.Type == "nat" }) {
			return nil, false // what these do depends on each host's own addresses
		}
		all.Add(t)
		if c := t.Chains; len(c) > 0 && form.Ours(c[0]) {
			signature += s.signature(form, t)
		}
	}
	meant := s.meant[class]
	if meant == nil {
		plan := compile.ForHost(s.sp, w.pol, h, w.now)
		meant = &meaning{decision: plan.Decision(s.sp), signature: form.Rules(s.sp, plan).Signature(s.sp, form.Ours)}
		if turns := s.sp.ChangeTimes(meant.decision); len(turns) > 0 {
			meant.turns = slices.Min(turns)
		}
		s.meant[class] = meant
	}
	if all.Bare() || signature != meant.signature || all.DecisionWith(s.sp, s.chains) != meant.decision {
		return nil, false
	}
	return &Result{Until: meant.turns}, true
}

// signature is how a table of ours says what it says, worked out once for tables that are the
// same.
func (s *share) signature(form dialect.Form, t *kernel.Ruleset) string {
	told, known := s.told[t]
	if !known {
		told = t.Signature(s.sp, form.Ours)
		s.told[t] = told
	}
	return told
}
