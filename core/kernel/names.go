package kernel

import (
	"encoding/json"
	"slices"
	"strings"

	"yellowfence.example/yfence/core/packet"
)

// Names is what a host says of users and units.
type Names struct {
	Users  map[string]int `json:"users,omitempty" doc:"the numbers of the users that its rules speak of, by name"`
	Groups map[string]int `json:"groups,omitempty" doc:"the numbers of the groups that its rules speak of, by name"`
	// Routes are the host's, where they are known.
	Routes *Routes `json:"-"`
	// Links are the host's interfaces that carry others', where rules make it matter.
	Links Links `json:"links,omitempty" doc:"its interfaces whose packets come over others, where its rules make that matter; lo stands for having looked"`
	// Unsaid says that nobody told who the users and groups are.
	Unsaid bool  `json:"-"`
	Gone   []int `json:"gone,omitempty" doc:"control groups that its rules speak of by number, and that are no more"`
	// Control are the control groups that rules speak of by number, and their paths.
	Control map[int]string `json:"control_groups,omitempty" doc:"the paths of the control groups that its rules speak of by number"`
	Absent  []string       `json:"absent,omitempty" doc:"of those that our rules ask for: whom it does not have, as in unit backup.service"`
}

// ControlGroup is the path of a ControlGroup group by its number.
func (n *Names) ControlGroup(group int) (path string, ok bool) {
	if n == nil {
		return "", false
	}
	path, ok = n.Control[group]
	return path, ok
}

// IsGone says that a control group which rules speak of by number is no more.
func (n *Names) IsGone(group int) bool { return n != nil && slices.Contains(n.Gone, group) }

// ByNumber is the names of users and groups by their numbers; nil where nobody says any.
func (n *Names) ByNumber() (users, groups map[int]string) {
	if n == nil || n.Unsaid {
		return nil, nil
	}
	turned := func(names map[string]int) map[int]string {
		out := map[int]string{}
		for name, number := range names {
			out[number] = name
		}
		return out
	}
	return turned(n.Users), turned(n.Groups)
}

// Narrow takes what the host does not have out of what can be: nothing is sent by a user that
// it does not know, so that rules about him decide nothing.
func (n *Names) Narrow(sp *packet.Space) {
	if n == nil {
		return
	}
	for _, s := range n.Absent {
		if kind, name, ok := strings.Cut(s, " "); ok && kind == "user" {
			sp.Without(packet.User, name)
		} else if ok {
			sp.Without(packet.Unit, name)
		}
	}
}

// AppendTo says names in a form that is the same for the same ones, to know again what was
// worked out for them.
func (n *Names) AppendTo(to []byte) []byte {
	if n == nil {
		return to
	}
	text, _ := json.Marshal(n) // a Names always has a JSON form, with its maps in order
	return append(to, text...)
}
