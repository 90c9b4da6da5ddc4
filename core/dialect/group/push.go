package group

import (
	"bytes"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
)

// A Step is one change that a cloud is asked for: a group that is to be there, an instance
// that is to be in just these groups, or a group that is to go.
type Step struct {
	Put      *Group   `json:"put,omitempty"`
	Instance string   `json:"instance,omitempty"`
	Groups   []string `json:"groups,omitempty"`
	Drop     string   `json:"drop,omitempty"`
}

// String is it as people say it.
func (s Step) String() string {
	switch {
	case s.Put != nil:
		return fmt.Sprintf("make group %s: %d inbound and %d outbound rules", s.Put.Name, len(s.Put.Inbound), len(s.Put.Outbound))
	case s.Instance != "":
		return fmt.Sprintf("put %s in %s", s.Instance, strings.Join(s.Groups, ", "))
	}
	return "take group " + s.Drop + " away"
}

// Makes says that a step makes what is to hold what a group of this name does (ByContent).
func (s Step) Makes(name string) bool {
	if s.Put == nil {
		return false
	}
	base, sum := calledAfter(s.Put.Name)
	return s.Put.Name == name || base+"."+sum == name
}

// ByContent is a document whose groups are called after what they hold as well: a group of
// ours never changes, another takes its place. Groups that hold the same are one. What
// stands for members (group:NAME) is not to be called by a name that changes, and so
// must not be in it.
func ByContent(d *Document) *Document {
	out := &Document{Version: d.Version, Kind: d.Kind, Cloud: d.Cloud, Groups: []Group{}, Members: []Member{}}
	called := map[string]string{}
	for _, g := range d.Groups {
		name := g.Name + "." + g.sum()
		called[g.Name] = name
		g.Name = name
		out.Groups = append(out.Groups, g)
	}
	for _, m := range d.Members {
		names := make([]string, len(m.Groups))
		for i, name := range m.Groups {
			names[i] = called[name]
		}
		m.Groups = names
		out.Members = append(out.Members, m)
	}
	return out
}

// NoRoom is an instance that cannot be in its groups and in those to come at once, which
// is what changes them without a gap.
type NoRoom struct {
	Instance   string
	Needs, May int
}

func (e *NoRoom) Error() string {
	return fmt.Sprintf("the instance %s would be in %d groups for a while, those it has and those it is to have, and the cloud lets it be in %d", e.Instance, e.Needs, e.May)
}

// Steps lead from what a cloud has to what it is to have (ByContent), in phases: all of one
// is to be in force before the next is asked for, in whatever order. At no time does an
// instance admit what neither its groups before nor those to come admit, nor refuse
// what both do: first the new groups are made, which changes nothing for anybody; then every instance is in
// both; then in the new ones alone; then what nobody is in goes. Begun anew from wherever it was
// interrupted they lead on from there. Of groups that are not ours nothing is changed; an
// instance of ours leaves them. Whoever cannot be in both stays as it is, and is told in full.
func Steps(have, want *Document, can Abilities) (phases [][]Step, full []*NoRoom) {
	if want, full = roomy(have, want, can); full != nil {
		want = want.Attached()
	}
	var create, join, leave, drop []Step
	wanted, called := map[string]bool{}, map[string]string{}
	for _, g := range want.Groups {
		name, there := standsAs(have, g)
		if called[g.Name] = name; !there {
			g.Name = name
			create = append(create, Step{Put: &g})
		}
		wanted[name] = true
	}
	used := map[string]bool{}
	ours := map[string]bool{}
	for _, m := range want.Members {
		ours[m.Instance] = true
		var now []string
		if i := slices.IndexFunc(have.Members, func(h Member) bool { return h.Instance == m.Instance }); i >= 0 {
			now = have.Members[i].Groups
		} else {
			continue // the instance is gone
		}
		then := []string{}
		for _, name := range m.Groups {
			then = append(then, called[name])
		}
		both := union(now, then)
		if len(both) > len(now) {
			join = append(join, Step{Instance: m.Instance, Groups: both})
		}
		if !sameNames(both, then) {
			leave = append(leave, Step{Instance: m.Instance, Groups: then})
		}
	}
	for _, m := range have.Members {
		if !ours[m.Instance] {
			for _, name := range m.Groups {
				used[name] = true
			}
		}
	}
	for _, g := range have.Groups {
		if strings.HasPrefix(g.Name, Prefix) && !wanted[g.Name] && !used[g.Name] {
			drop = append(drop, Step{Drop: g.Name})
		}
	}
	for _, phase := range [][]Step{create, join, leave, drop} {
		if len(phase) > 0 {
			phases = append(phases, phase)
		}
	}
	return phases, full
}

// roomy is what a cloud is to have but for who has no room for it, which are told.
func roomy(have, want *Document, can Abilities) (left *Document, full []*NoRoom) {
	if can.GroupsPerInstance == 0 {
		return want, nil
	}
	stands := map[string]string{}
	for _, g := range want.Groups {
		stands[g.Name], _ = standsAs(have, g)
	}
	left = &Document{}
	*left = *want
	left.Members = nil
	for _, m := range want.Members {
		var now, then []string
		if i := slices.IndexFunc(have.Members, func(h Member) bool { return h.Instance == m.Instance }); i >= 0 {
			now = have.Members[i].Groups
		}
		for _, name := range m.Groups {
			then = append(then, stands[name])
		}
		if n := len(union(now, then)); n > can.GroupsPerInstance {
			full = append(full, &NoRoom{m.Instance, n, can.GroupsPerInstance})
			continue
		}
		left.Members = append(left.Members, m)
	}
	return left, full
}

// Attached is a document without the groups that nobody is in.
func (d *Document) Attached() *Document {
	out := *d
	out.Groups = slices.DeleteFunc(slices.Clone(d.Groups), func(g Group) bool {
		return !slices.ContainsFunc(d.Members, func(m Member) bool { return slices.Contains(m.Groups, g.Name) })
	})
	return &out
}

func union(a, b []string) []string {
	both := slices.Clone(a)
	for _, name := range b {
		if !slices.Contains(both, name) {
			both = append(both, name)
		}
	}
	return both
}

// standsAs is the name under which a cloud has a group, or is to have it. One of its name
// that somebody changed by hand is left as it is, until nobody is in it: whoever leaves
// it must not get what it should hold, nor whoever comes what it does hold.
func standsAs(have *Document, g Group) (name string, there bool) {
	taken, content := map[string]bool{}, g.content()
	base, after := calledAfter(g.Name)
	for _, h := range have.Groups {
		if h.Name != g.Name {
			if was, sum := calledAfter(h.Name); after == "" || was != base || sum != after {
				continue
			}
		}
		if bytes.Equal(h.content(), content) {
			return h.Name, true
		}
		taken[h.Name] = true
	}
	name = g.Name
	for n := 2; taken[name]; n++ {
		name = again(g.Name, n)
	}
	return name, false
}

func sameNames(a, b []string) bool {
	a, b = slices.Sorted(slices.Values(a)), slices.Sorted(slices.Values(b))
	return slices.Equal(a, b)
}

// content is what a group holds, whatever it is called.
func (g Group) content() []byte {
	b, _ := json.Marshal([][]Rule{g.Inbound, g.Outbound}) // rules always have a JSON form
	return b
}
