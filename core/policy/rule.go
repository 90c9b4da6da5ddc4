package policy

import (
	"slices"
	"strings"

	"go4.org/netipx"

	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/source"
)

// A Rule is an allow or a block.
type Rule struct {
	Name     string
	Block    bool
	From, To Side
	Terms    []Term
	Services string     // as a message says them
	Within   string     // as a message says it; "" if it says none
	On       []*Network // none if it says none
	Spans    []Span     // what it speaks of: all of it, or each part that is within one and on one
	Arriving []*Network // none if it says none
	Over     []*Rule
	Verdict  packet.Verdict // Admit, Drop or Reject
	Log      *Log           // nil if it does not log
	AtMost   *AtMost        // nil if it does not say
	Senders  []Sender       // each narrows it at the sending end
	IPsec    bool           // only what comes and goes by it
	Through  []*Role        // the routers it goes through, by each of them
	Guard    bool
	Since    int64  // the second since 1970 from which it is in force; 0 is always
	Until    int64  // the second since 1970 from which it is not in force; 0 is never
	Trial    *Trial // of a block; nil if it is not on trial
	Off      bool
	Pos      source.Pos
	Decl     *fence.Rule // all it says, for what is said for people
}

// InForce says that the rule counts at an instant, in seconds since 1970, or will later: it is
// not off, and has not ended.
func (r *Rule) InForce(now int64) bool {
	return !r.Off && (r.Until == 0 || now < r.Until) && (r.Trial == nil || !r.Trial.Open || now < r.Trial.Until)
}

// Sure says that the rule is a guard that nothing slows down: a way in that can be relied on.
func (r *Rule) Sure() bool { return r.Guard && r.AtMost == nil }

// Turn is when the rule next begins or ends by itself, after an instant; 0 is never. All are
// seconds since 1970.
func (r *Rule) Turn(now int64) int64 {
	turns := []int64{r.Since, r.Until}
	if r.Trial != nil {
		turns = append(turns, r.Trial.Until)
		slices.Sort(turns)
	}
	for _, at := range turns {
		if at > now && !r.Off {
			return at
		}
	}
	return 0
}

// Title is the rule as an answer names it: `allow chart-web`.
func (r *Rule) Title() string {
	if r.Block {
		return "block " + r.Name
	}
	return "allow " + r.Name
}

// String is the rule's meaning in one line, without its modifiers: "beacon -> broker : ssh".
func (r *Rule) String() string {
	s := r.Title() + ": " + r.From.Text + " -> " + r.To.Text + " : " + r.Services
	return s + said("  within ", r.Within) + said("  on ", NamesOf(r.On))
}

// said is a word and what stands behind it, nothing for nothing.
func said(word, what string) string {
	if what == "" {
		return ""
	}
	return word + what
}

// NamesOf are the names of networks, with commas between.
func NamesOf(list []*Network) string {
	names := make([]string, len(list))
	for i, n := range list {
		names[i] = n.Name
	}
	return strings.Join(names, ", ")
}

// A Span is a part of what a rule or an expectation speaks of: what both ends are in.
type Span struct {
	From, To *Side
	On       *Network      // nil if it says none
	OnFrom   *netipx.IPSet // the addresses of From that are on it
	OnTo     *netipx.IPSet // and of To

	Crossings []Crossing // what of a rule's goes by routers of joins
}

// Overrides says that the rule is an exception to block b: it names it by `over`.
func (r *Rule) Overrides(b *Rule) bool { return slices.Contains(r.Over, b) }

// A Trial is until when something refuses nothing yet, in seconds since 1970. What it would
// refuse is admitted and noted.
type Trial struct {
	Until int64
	Open  bool // from then on it does not refuse either
}

// over says that a trial has ended at an instant, or that there is none.
func (t *Trial) over(now int64) bool { return t == nil || now >= t.Until }

// At is the stance as it is from an instant on: a trial that is over has become what it tried,
// or has gone.
func (s Stance) At(now int64) Stance {
	if s.Trial.over(now) {
		s.Trial = nil
	}
	return s
}

// A Stance is what happens on a host, in one direction, to packets that no rule speaks of.
type Stance struct {
	Closed   bool           // once a trial is over
	Trial    *Trial         // until when it refuses nothing yet; nil if it is not on trial
	RefuseBy packet.Verdict // Drop or Reject: how the host refuses, by the stance and what exceeds `at most`
	Log      *Log           // how what is so refused is logged; nil if it is not
}

// StanceOf is the stance of a host in a direction, its roles combined: of what
// they say, closed beats open, drop beats reject, and the lowest rate of the
// log the others. Unless a role says otherwise inbound is closed, outbound open,
// forward untouched, and closed means drop.
func (p *Policy) StanceOf(h *fleet.Host, d packet.Direction) (s Stance) {
	said, sure := false, false
	var trial *Trial
	for _, r := range p.Roles {
		if !h.HasRole(r.Name) {
			continue
		}
		if c, ok := r.Closed[d]; ok {
			said = true
			if t := r.Trials[d]; t == nil || !c {
				sure = sure || c
			} else if trial == nil || trial.Open && !t.Open || trial.Open == t.Open && (t.Until < trial.Until) != t.Open {
				trial = t // the first that closes counts; of those that go back the last
			}
		}
		if l := r.LogRefused; l != nil && (s.Log == nil || l.UpTo != nil && (s.Log.UpTo == nil || l.UpTo.Slower(*s.Log.UpTo))) {
			s.Log = l
		}
		if r.RefuseBy == packet.Drop || s.RefuseBy == packet.NoVerdict {
			s.RefuseBy = r.RefuseBy
		}
	}
	switch {
	case !said:
		s.Closed = d == packet.Inbound
	case sure || trial == nil:
		s.Closed = sure
	default:
		s.Trial, s.Closed = trial, !trial.Open
	}
	if s.RefuseBy == packet.NoVerdict {
		s.RefuseBy = packet.Drop
	}
	return s
}
