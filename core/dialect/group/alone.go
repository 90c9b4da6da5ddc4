package group

import (
	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/packet"
)

// Alone makes the groups of one plan's host, as they are where nobody shares them and no
// cloud sets limits, with what they are to admit.
func Alone(sp *packet.Space, plan *compile.Plan) (*Document, *Admitted, error) {
	h, admitted := plan.Host, Of(sp, plan)
	groups, err := admitted.Write(sp, nameOf(h.Roles, ""), Abilities{})
	if err != nil {
		return nil, nil, err
	}
	d := &Document{Version: 1, Kind: Kind, Groups: groups}
	if h.Instance != nil {
		m := Member{Instance: h.Instance.ID, Groups: []string{}}
		for _, g := range groups {
			m.Groups = append(m.Groups, g.Name)
		}
		d.Cloud, d.Members = h.Instance.Cloud, []Member{m}
	}
	return d, admitted, nil
}
