package nft

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"yellowfence.example/yfence/core/packet"
)

// The kernel knows users and units by numbers that differ from host to host,
// and refuses a whole load that names one it does not have. So Write leaves the
// sets of our senders empty, and who loads the rules fills them.

// A Sender is a user or a unit that rules of ours ask for, and the set of our
// table that says which one that is on the host.
type Sender struct {
	Set string
	packet.Sender
}

// How a set of ours says whom it is about: in its comment, which no listing leaves out.
var (
	senderComment  = regexp.MustCompile(`^(user|unit) (.+)$`)
	declaredSender = regexp.MustCompile(`(?m)^\tset (\S+) \{\n\t\ttypeof .*\n\t\tcomment "(user|unit) ([^"\n]+)"\n\t\}$`)
	cgroupLevel    = regexp.MustCompile(`socket cgroupv2 level \d+ @(\S+)`)
)

// SendersOf lists those of rules that Write gave.
func SendersOf(rules string) (out []Sender) {
	for _, m := range declaredSender.FindAllStringSubmatch(rules, -1) {
		out = append(out, Sender{m[1], packet.Sender{Kind: packet.SenderKind(m[2]), Name: m[3]}})
	}
	return out
}

// A Filling is what a host knows a sender by: a user's number, or the path of a
// unit's control group below /sys/fs/cgroup with how deep it lies.
type Filling struct {
	Element string
	Level   int // of a unit
}

// Fill gives rules that Write gave with the sets of senders filled, in the same
// one transaction. Whom a host does not have sends nothing: its set stays empty.
func Fill(rules string, fillings map[string]Filling) string {
	rules = cgroupLevel.ReplaceAllStringFunc(rules, func(s string) string {
		set := cgroupLevel.FindStringSubmatch(s)[1]
		if f, ok := fillings[set]; ok {
			return fmt.Sprintf("socket cgroupv2 level %d @%s", f.Level, set)
		}
		return s
	})
	var b strings.Builder
	b.WriteString(rules)
	for _, s := range SendersOf(rules) {
		if f, ok := fillings[s.Set]; ok {
			fmt.Fprintf(&b, "add element %s %s %s { %s }\n", Family, Table, s.Set, f.Element)
		}
	}
	return b.String()
}

// A Question is what a listing leaves for the host to say.
type Question struct {
	Senders []Sender // of our table
	Users   []int    // whom any rule or set speaks of
	Groups  []int    // the same of groups
	Control []int    // control groups that are spoken of by number
}

// Asked lists what a listing speaks of.
func Asked(dump []byte) (q Question, err error) {
	l, err := listed(dump)
	if err != nil {
		return q, err
	}
	for _, s := range l.sets {
		switch s.holds {
		case "uid":
			q.Users = numbers(q.Users, s.elements)
		case "gid":
			q.Groups = numbers(q.Groups, s.elements)
		case "cgroupsv2":
			q.Control = numbers(q.Control, s.elements)
		}
		if m := senderComment.FindStringSubmatch(s.comment); m != nil && s.family == Family && s.table == Table {
			q.Senders = append(q.Senders, Sender{s.name, packet.Sender{Kind: packet.SenderKind(m[1]), Name: m[2]}})
		}
	}
	for _, rule := range l.rules {
		for i := range rule.exprs {
			e := &rule.exprs[i]
			switch f, ok := fieldOf(e.arg(0)); {
			case e.kind != kindMatch || !ok:
			case f.field == packet.User:
				q.Users = numbers(q.Users, e.args[1:])
			case f.field == packet.Group:
				q.Groups = numbers(q.Groups, e.args[1:])
			case f.field == packet.Unit:
				q.Control = numbers(q.Control, e.args[1:])
			}
		}
	}
	for _, list := range []*[]int{&q.Users, &q.Groups, &q.Control} {
		slices.Sort(*list)
		*list = slices.Compact(*list)
	}
	return q, nil
}

// mostSpanned is how wide a range of users may be for a host to say who they all are.
const mostSpanned = 1024

// mostSpans is how many ranges of users one rule may ask for, each so wide.
const mostSpans = 64

// spanned are the ends of a range of numbers.
func spanned(e *expr) (lo, hi int, ok bool) {
	if e.kind != kindSpan {
		return 0, 0, false
	}
	lo, okLo := e.arg(0).int()
	hi, okHi := e.arg(1).int()
	return lo, hi, okLo && okHi && lo <= hi
}

// numbers adds all that stand anywhere in some values.
func numbers(to []int, values []expr) []int {
	for i := range values {
		if n, ok := values[i].int(); ok {
			to = append(to, n)
		}
		if lo, hi, ok := spanned(&values[i]); ok && hi-lo < mostSpanned {
			for n := lo + 1; n < hi; n++ {
				to = append(to, n)
			}
		}
		to = numbers(to, values[i].args)
	}
	return to
}
