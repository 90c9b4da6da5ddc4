package group

import (
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"yellowfence.example/yfence/core/packet"
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
// is what changes them without a gap, nor change from the ones to the others by and by without one.
type NoRoom struct {
	Instance   string
	Needs, May int
}

// Error says how many groups there would be, and how many may.
func (e *NoRoom) Error() string {
	return fmt.Sprintf("the instance %s would be in %d groups for a while, those it has and those it is to have, and the cloud lets it "+
		"be in %d; there is no order in which it could change them one by one that keeps open what both admit", e.Instance, e.Needs, e.May)
}

// Steps lead from what a cloud has to what it is to have (ByContent), in phases: all of one
// is to be in force before the next is asked for, in whatever order. At no time does an
// instance admit what neither its groups before nor those to come admit, nor refuse
// what both do: first the new groups are made, which changes nothing for anybody; then every instance is in
// both; then in the new ones alone; then what nobody is in goes. An instance that has no room
// for both goes by and by, if there is a way that keeps open what both admit. Begun anew from wherever it was
// interrupted they lead on from there. Of groups that are not ours nothing is changed; an
// instance of ours leaves them. Whoever cannot be in both stays as it is, and is told in full.
func Steps(have, want *Document, can Abilities) (phases [][]Step, _ []*NoRoom) {
	want, ways, full := roomy(have, want, can)
	if full != nil {
		want = want.Attached()
	}
	var create, join, leave, drop []Step
	var between [][]Step // of those that go by and by
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
		if way := ways[m.Instance]; way != nil {
			join = append(join, Step{Instance: m.Instance, Groups: way[0]})
			for i, groups := range way[1 : len(way)-1] {
				if i == len(between) {
					between = append(between, nil)
				}
				between[i] = append(between[i], Step{Instance: m.Instance, Groups: groups})
			}
			leave = append(leave, Step{Instance: m.Instance, Groups: then})
			continue
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
	for _, phase := range slices.Concat([][]Step{create, join}, between, [][]Step{leave, drop}) {
		if len(phase) > 0 {
			phases = append(phases, phase)
		}
	}
	return phases, full
}

// roomy is what a cloud is to have but for who has no room for it, which are told; and how those
// change their groups who have room for some of both.
func roomy(have, want *Document, can Abilities) (left *Document, ways map[string][][]string, full []*NoRoom) {
	if can.GroupsPerInstance == 0 {
		return want, nil, nil
	}
	ways = map[string][][]string{}
	sp := packet.NewSpace()
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
			if way := byAndBy(sp, have, want, stands, now, then, can.GroupsPerInstance); way != nil {
				ways[m.Instance] = way
				left.Members = append(left.Members, m)
				continue
			}
			full = append(full, &NoRoom{m.Instance, n, can.GroupsPerInstance})
			continue
		}
		left.Members = append(left.Members, m)
	}
	return left, ways, full
}

// byAndBy is how an instance changes from some groups to others while it is in no more than most at a time: the
// groups after each step, of which each only adds or only takes away. It keeps open all the
// way what both admit. There is none where it is not known what a group admits, as where one stands for
// its members.
func byAndBy(sp *packet.Space, have, want *Document, stands map[string]string, now, then []string, most int) (way [][]string) {
	admits := map[string]packet.Set{}
	for _, d := range []*Document{want, have} {
		for _, g := range d.Groups {
			name := g.Name
			if d == want {
				name = stands[name]
			}
			set, ok := g.admits(sp)
			if !ok {
				continue
			}
			admits[name] = set
		}
	}
	together := func(names []string) (all packet.Set) {
		for _, name := range names {
			all = sp.Or(all, admits[name])
		}
		return all
	}
	for _, name := range union(now, then) {
		if _, known := admits[name]; !known {
			return nil
		}
	}
	keep := sp.And(together(now), together(then))
	without := func(names []string, name string) []string {
		return slices.DeleteFunc(slices.Clone(names), func(n string) bool { return n == name })
	}
	step := func(groups []string) { now = groups; way = append(way, slices.Clone(groups)) }
	for len(way) <= 2*(len(now)+len(then)) {
		left := now
		for _, name := range now {
			if !slices.Contains(then, name) && sp.Within(keep, together(without(left, name))) && len(left) > 1 {
				left = without(left, name)
			}
		}
		if len(left) < len(now) {
			if step(left); sameNames(now, then) {
				return way
			}
		}
		more := slices.DeleteFunc(slices.Clone(then), func(name string) bool { return slices.Contains(now, name) })
		if len(more) == 0 {
			return nil // what is left of the old ones keeps something open
		}
		if len(now) >= most {
			return nil
		}
		// First whoever lets another go.
		slices.SortStableFunc(more, func(a, b string) int {
			frees := func(name string) int {
				for _, old := range now {
					if !slices.Contains(then, old) && sp.Within(keep, together(append(without(now, old), name))) {
						return 0
					}
				}
				return 1
			}
			return cmp.Compare(frees(a), frees(b))
		})
		step(append(slices.Clone(now), more[:min(len(more), most-len(now))]...))
		if sameNames(now, then) {
			return way
		}
	}
	return nil
}

// admits is what a group admits by itself; ok is false where that goes by who is in another.
func (g Group) admits(sp *packet.Space) (all packet.Set, ok bool) {
	for _, dir := range directions {
		refused, here := packet.Empty, packet.Empty
		for _, r := range g.Rules(dir) {
			match, err := r.set(sp, dir.Peer(), func(name string) (packet.Set, error) { return packet.Empty, errors.New(name) })
			if err != nil {
				return packet.Empty, false
			}
			if r.Refuses {
				refused = sp.Or(refused, match)
			} else {
				here = sp.Or(here, sp.Minus(match, refused))
			}
		}
		all = sp.Or(all, sp.And(here, sp.Crossing(dir)))
	}
	return all, true
}

// Attached is a document without the groups that nobody is in.
func (d *Document) Attached() *Document {
	out := *d
	out.Groups = slices.DeleteFunc(slices.Clone(d.Groups), func(g Group) bool {
		return !slices.ContainsFunc(d.Members, func(m Member) bool { return slices.Contains(m.Groups, g.Name) })
	})
	return &out
}

// union are the names of two lists, each once.
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

// sameNames says that two lists have the same names, in whatever order.
func sameNames(a, b []string) bool {
	a, b = slices.Sorted(slices.Values(a)), slices.Sorted(slices.Values(b))
	return slices.Equal(a, b)
}

// content is what a group holds, whatever it is called.
func (g Group) content() []byte {
	b, _ := json.Marshal([][]Rule{g.Inbound, g.Outbound}) // rules always have a JSON form
	return b
}
