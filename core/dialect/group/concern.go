package group

import (
	"fmt"
	"slices"
	"strings"
)

// Concerning is the part of a document that decides what an instance admits: its groups,
// and those that their rules name, with their members.
func (d *Document) Concerning(instance string) *Document {
	out := &Document{Version: d.Version, Kind: d.Kind, Cloud: d.Cloud, Groups: []Group{}, Members: []Member{}}
	// The instance's own groups are needed whole; of those that their rules name only who is in them.
	needs, named := map[string]bool{}, map[string]bool{}
	for _, m := range d.Members {
		if m.Instance == instance {
			for _, name := range m.Groups {
				needs[name] = true
			}
		}
	}
	for _, g := range d.Groups {
		if !needs[g.Name] {
			continue
		}
		for _, r := range slices.Concat(g.Inbound, g.Outbound) {
			for _, p := range r.Peers {
				if p.Group != "" {
					named[p.Group] = true
				}
			}
		}
	}
	for _, g := range d.Groups {
		switch {
		case needs[g.Name]:
			out.Groups = append(out.Groups, g)
		case named[g.Name]: // what it admits itself is not the question
			out.Groups = append(out.Groups, Group{Name: g.Name, Inbound: []Rule{}, Outbound: []Rule{}})
		}
	}
	for _, m := range d.Members {
		groups := []string{}
		for _, name := range m.Groups {
			if named[name] || m.Instance == instance {
				groups = append(groups, name)
			}
		}
		if len(groups) > 0 || m.Instance == instance {
			m.Groups = groups
			out.Members = append(out.Members, m)
		}
	}
	return out
}

// A CloudNote is something about a cloud's groups that is not as it is to be, though it need not
// change what an instance admits.
type CloudNote struct {
	Kind string `json:"kind" enum:"changed,membership,no group,attached to nothing,not taken,gone,elsewhere" doc:"changed: a group of ours holds something else than it was made with. membership: an instance is in other groups than it is to be. no group: nothing filters for an instance. attached to nothing: nobody is in a group of ours. not taken: a new instance, or what changed of one, is not taken into the fleet. gone: the cloud does not know an instance of the fleet. elsewhere: an instance has other addresses than the fleet file says"`
	What string `json:"what" doc:"the group or the instance"`
	Says string `json:"says" doc:"it, in a sentence"`
	Hint string `json:"hint"`
}

// The kinds of notes.
const (
	Changed    = "changed"
	Membership = "membership"
	NoGroup    = "no group"
	Unattached = "attached to nothing"
	NotTaken   = "not taken"
	Gone       = "gone"
	Elsewhere  = "elsewhere"
)

// Notes tell what of a cloud's groups, as they are in force, is otherwise than they are to
// be (ByContent). Of instances that want does not speak of it is told only whether any group
// filters for them at all.
func Notes(have, want *Document) []CloudNote {
	notes := []CloudNote{}
	called := map[string]string{}
	// Groups of a policy are called by what they hold, so that what they are called now has to be found.
	for _, g := range want.Groups {
		called[g.Name], _ = standsAs(have, g)
	}
	attached, made := map[string]bool{}, map[string]bool{}
	for _, m := range have.Members {
		for _, name := range m.Groups {
			attached[name] = true
		}
	}
	for _, name := range called {
		made[name] = true
	}
	// Groups of ours that somebody changed, or that nobody is in.
	for _, g := range have.Groups {
		if !strings.HasPrefix(g.Name, Prefix) {
			continue
		}
		if base, sum := calledAfter(g.Name); sum != "" && sum != g.sum() {
			notes = append(notes, CloudNote{Changed, g.Name,
				fmt.Sprintf("The group %s holds something else than it was made with: somebody changed it by hand.", g.Name),
				"put the policy in force again for the instances in it; a group that was changed is replaced, " + base + " gets a new one"})
		} else if !attached[g.Name] && !made[g.Name] {
			notes = append(notes, CloudNote{Unattached, g.Name,
				fmt.Sprintf("Nobody is in the group %s, which was made for instances.", g.Name),
				"it goes with the next change that is put in force"})
		}
	}
	// Instances in other groups than they are to be in, or in none.
	for _, m := range have.Members {
		at := slices.IndexFunc(want.Members, func(w Member) bool { return w.Instance == m.Instance })
		switch {
		case len(m.Groups) == 0:
			hint := "the fleet does not know it: label it with its roles, or add it to the fleet file"
			if at >= 0 {
				hint = "put the policy in force again for it"
			}
			notes = append(notes, CloudNote{NoGroup, m.Instance,
				fmt.Sprintf("The instance %s is in no group: nothing filters for it.", m.Instance), hint})
		case at >= 0:
			then := []string{}
			for _, name := range want.Members[at].Groups {
				then = append(then, called[name])
				if slices.Contains(m.Groups, name) { // somebody changed it, which is told of the group
					then[len(then)-1] = name
				}
			}
			if !sameNames(m.Groups, then) {
				notes = append(notes, CloudNote{Membership, m.Instance,
					fmt.Sprintf("The instance %s is in %s, and is to be in %s.", m.Instance, strings.Join(m.Groups, ", "),
						strings.Join(then, ", ")), "put the policy in force again for it"})
			}
		}
	}
	return notes
}
