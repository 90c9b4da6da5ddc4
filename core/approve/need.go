package approve

import (
	"crypto/sha256"
	"fmt"
	"slices"
	"strings"
)

// A Rule says what a change of a kind needs.
type Rule struct {
	When    Kind     `json:"when" yaml:"when" doc:"what the change means"`
	People  int      `json:"people" yaml:"people" doc:"how many must approve it besides its author"`
	Holding []string `json:"holding,omitempty" yaml:"holding" doc:"roles, for each of which one of them must hold the right to approve"`
}

// Rules are a company's. Without any a change needs no approval.
type Rules []Rule

// mostPeople is how many approvals a rule may ask for.
const mostPeople = 10

// Check is an error where a rule is none.
func (rs Rules) Check() error {
	for i, r := range rs {
		at := fmt.Sprintf("approvals: rule %d", i+1)
		if !slices.ContainsFunc(Kinds, func(k struct {
			Kind  Kind
			Means string
		}) bool {
			return k.Kind == r.When
		}) {
			words := make([]string, len(Kinds))
			for i, k := range Kinds {
				words[i] = string(k.Kind)
			}
			return fmt.Errorf("%s: when is %q; a change may be of the kinds %s", at, r.When, strings.Join(words, ", "))
		}
		if r.People < 0 || r.People > mostPeople {
			return fmt.Errorf("%s: people is from 0 to %d, not %d", at, mostPeople, r.People)
		}
		if len(r.Holding) > r.People {
			return fmt.Errorf("%s: %d people cannot hold %d roles, one each", at, r.People, len(r.Holding))
		}
		for _, role := range r.Holding {
			if role == "" || strings.ContainsAny(role, ":, \t\n") {
				return fmt.Errorf("%s: holding names roles, as [gate], not %q", at, role)
			}
		}
	}
	return nil
}

// A Need is which approvals a change needs.
type Need struct {
	People  int      `json:"people" doc:"how many must approve it besides its author"`
	Holding []string `json:"holding,omitempty" nullable:"false" doc:"roles, for each of which one of them must hold the right to approve"`
	Because []Reason `json:"because" nullable:"false" doc:"what of its meaning asks for that"`
}

// A Reason is a kind of meaning that asks for approvals, with a sentence that shows it.
type Reason struct {
	Kind   Kind     `json:"kind"`
	People int      `json:"people"`
	Shown  []string `json:"shown" nullable:"false"`
}

// Need is what the rules ask for a change: the most that one of them asks.
func (rs Rules) Need(m Meaning) (n Need) {
	n.Because = []Reason{}
	for _, k := range Kinds {
		shown := m.Kinds[k.Kind]
		if len(shown) == 0 {
			continue
		}
		for _, r := range rs {
			if r.When != k.Kind || r.People == 0 {
				continue
			}
			n.People = max(n.People, r.People)
			for _, h := range r.Holding {
				if !slices.Contains(n.Holding, h) {
					n.Holding = append(n.Holding, h)
				}
			}
			n.Because = append(n.Because, Reason{k.Kind, r.People, shown})
		}
	}
	n.People = max(n.People, len(n.Holding))
	return n
}

// An Approver is somebody who approves: who, and for which roles he may; none is the whole fleet.
type Approver struct {
	Name  string
	Whole bool
	Roles []string
}

// MayApprove says that somebody may approve a change at all: not his own, and one that concerns roles
// he may approve for. A change that concerns no host at all takes the right for the whole fleet.
func (a Approver) MayApprove(author string, m Meaning) bool {
	return a.Name != author && (a.Whole || slices.ContainsFunc(m.Roles, func(r string) bool { return slices.Contains(a.Roles, r) }))
}

// holds says that somebody has the right to approve for a role.
func (a Approver) holds(role string) bool {
	return a.Whole || slices.Contains(a.Roles, role)
}

// Left is what is missing of a need where some approved: how many people, and for which roles none of them
// holds the right. Two roles take two people; whoever may approve for both counts for one of them.
func (n Need) Left(given []Approver) (people int, holding []string) {
	seen := map[string]bool{}
	distinct := given[:0:0]
	for _, a := range given {
		if !seen[a.Name] {
			seen[a.Name] = true
			distinct = append(distinct, a)
		}
	}
	holding = unmatched(n.Holding, distinct)
	return max(n.People-len(distinct), len(holding), 0), holding
}

// unmatched are the roles that are left when as many as can be are each held by one person. They are
// few, so that every way of giving them out is tried.
func unmatched(roles []string, people []Approver) []string {
	if len(roles) == 0 {
		return nil
	}
	best := append([]string{roles[0]}, unmatched(roles[1:], people)...) // nobody is found for the first
	for i, a := range people {
		if a.holds(roles[0]) {
			rest := slices.Delete(slices.Clone(people), i, i+1)
			if left := unmatched(roles[1:], rest); len(left) < len(best) {
				best = left
			}
		}
	}
	return best
}

// String says a need as a sentence: "2 people besides its author, of whom one holds approve:gate".
func (n Need) String() string {
	if n.People == 0 {
		return "no approval"
	}
	s := "the approval of 1 person besides its author"
	if n.People > 1 {
		s = fmt.Sprintf("the approval of %d people besides its author", n.People)
	}
	for i, role := range n.Holding {
		h := "approve:" + role
		switch {
		case n.People == 1:
			s += ", who holds " + h
		case i == 0:
			s += ", of whom one holds " + h
		default:
			s += ", one " + h
		}
	}
	return s
}

// shortSum is a sum of a text, in few letters.
func shortSum(s string) string { return fmt.Sprintf("%x", sha256.Sum256([]byte(s)))[:16] }
