package approve

import (
	"fmt"
	"slices"
	"strings"

	"yellowfence.example/yfence/core/compare"
	"yellowfence.example/yfence/core/fleet"
)

// A Kind is something that a change may mean.
type Kind string

// The kinds of meaning.
const (
	Opens     Kind = "opens"
	Strangers Kind = "opens-to-strangers"
	Guards    Kind = "touches-guards"
	Shuts     Kind = "shuts"
	Cuts      Kind = "cuts-what-is-used"
	Alters    Kind = "alters"
	Hosts     Kind = "changes-hosts"
	Expects   Kind = "weakens-expectations"
	Accepts   Kind = "accepts-problems"
	Theirs    Kind = "changes-what-is-others"
)

// Kinds are all of them with what each says, the weightiest first.
var Kinds = []struct {
	Kind  Kind
	Means string
}{
	{Strangers, "it newly admits something from strangers, or to them: whoever is neither a host of the fleet nor a network that is ours " +
		"alone"},
	{Guards, "a guard comes, goes, or holds for other packets"},
	{Accepts, "it is published in spite of a problem that `check` finds"},
	{Expects, "an expectation goes, is turned off, or says something else"},
	{Theirs, "it changes a part of the policy that names others as those who may change it"},
	{Opens, "it newly admits something, between whomever"},
	{Cuts, "it refuses connections that were seen in the last days"},
	{Hosts, "hosts come or go"},
	{Alters, "it admits and refuses the same, but logs, limits or translates otherwise"},
	{Shuts, "it newly refuses something"},
}

// A Meaning is what a change means, as far as approvals depend on it.
type Meaning struct {
	Sum   string            `json:"sum" doc:"the same for changes that do the same, however they are written"`
	Kinds map[Kind][]string `json:"kinds" doc:"of which kinds it is, each with sentences that show it"`
	Roles []string          `json:"roles" nullable:"false" doc:"roles of the hosts on which something is otherwise"`
}

// mostShown is how many sentences show a kind.
const mostShown = 5

// A Change is what a meaning is worked out from.
type Change struct {
	Changes  *compare.Changes
	Before   *fleet.Fleet
	After    *fleet.Fleet
	Accepted []string // problems that are accepted, as sentences
	Cuts     []string // connections that were seen and would be refused, as sentences
	Theirs   []string // files that others may change, as sentences
}

// MeaningOf works out what a change means.
func MeaningOf(c Change) Meaning {
	m := Meaning{Kinds: map[Kind][]string{}, Roles: []string{}}
	touched := map[string]bool{}
	add := func(k Kind, sentences ...string) {
		for _, s := range sentences {
			if len(m.Kinds[k]) < mostShown && !slices.Contains(m.Kinds[k], s) {
				m.Kinds[k] = append(m.Kinds[k], s)
			}
		}
	}
	for _, d := range c.Changes.Changes {
		switch d.Kind {
		case compare.Opened:
			add(Opens, d.Sentence)
			if d.Strangers {
				add(Strangers, d.Sentence)
			}
		case compare.Shut:
			add(Shuts, d.Sentence)
		case compare.Altered:
			add(Alters, d.Sentence)
		}
		for _, h := range d.Hosts {
			touched[h] = true
		}
	}
	for _, name := range c.Changes.Added {
		add(Hosts, name+" is new")
		touched[name] = true
	}
	for _, name := range c.Changes.Removed {
		add(Hosts, name+" is gone")
		touched[name] = true
	}
	for _, name := range c.Changes.Guards {
		add(Guards, fmt.Sprintf("the guard %s is otherwise", name))
	}
	add(Expects, c.Changes.Expects...)
	add(Accepts, c.Accepted...)
	add(Cuts, c.Cuts...)
	add(Theirs, c.Theirs...)
	for _, fl := range []*fleet.Fleet{c.Before, c.After} {
		for _, h := range fl.Hosts {
			if touched[h.Name] {
				m.Roles = append(m.Roles, h.Roles...)
			}
		}
	}
	slices.Sort(m.Roles)
	m.Roles = slices.Compact(m.Roles)
	// What was accepted and what is others' is part of what is approved.
	m.Sum = strings.Join(append([]string{c.Changes.Meaning}, sorted(c.Accepted, c.Theirs)...), "|")
	if len(m.Sum) > len(c.Changes.Meaning) {
		m.Sum = c.Changes.Meaning + shortSum(m.Sum)
	}
	return m
}

// sorted is lists as one, in an order that does not depend on how they came.
func sorted(lists ...[]string) []string {
	out := slices.Concat(lists...)
	slices.Sort(out)
	return out
}
