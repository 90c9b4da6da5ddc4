package traffic

import (
	"slices"

	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/core/source"
)

// A Usage is how often a statement of the policy decided, over all hosts that count it. Where a
// statement is not rendered on a host, that does not count it.
type Usage struct {
	Statement string `json:"statement" doc:"as rules name it: 'allow chart-web'"`
	Place     string `json:"place,omitempty" doc:"where the policy says it"`
	Guard     bool   `json:"guard,omitempty" doc:"a way in that is for the day when others fail"`
	Use
	Ends []EndUse `json:"ends,omitempty" nullable:"false" doc:"the same by the roles that it names, each on the role's own hosts"`
}

// Use is how often that was.
type Use struct {
	Hosts   int   `json:"hosts" doc:"how many count it"`
	HitOn   int   `json:"hit_on" doc:"on how many of those it decided in the time asked for"`
	Packets int64 `json:"packets" doc:"how often; of connections, their first packets"`
	Bytes   int64 `json:"bytes"`
	Last    int64 `json:"last,omitempty" doc:"when it last decided, in seconds since 1970; left out where it never did"`
	All     int64 `json:"all_since,omitempty" doc:"since when all of those hosts have counted it"`
	First   int64 `json:"since,omitempty" doc:"since when the first of them has"`
}

// EndUse is the use of a statement on the hosts of one role.
type EndUse struct {
	Role string `json:"role"`
	Way  string `json:"way" enum:"in,out" doc:"out where the role sends, in where it gets"`
	Use
}

// Unused says that hosts count it, and it decided about nothing there.
func (u *Use) Unused() bool { return u.Hosts > 0 && u.HitOn == 0 }

// Asked is statements of a policy by what rules call them, with the roles they name.
type asked struct {
	by    string
	pos   source.Pos
	guard bool
	from  []string // names that each side is made of
	to    []string
}

// Usages tells how often each statement of a policy decided from an instant on, in the order of
// the policy; of a day in which that instant is, all counts. records are by host.
func Usages(pol *policy.Policy, records map[string]*Record, since, now int64) []Usage {
	// Which statements there are, by what rules call them: what is off, or has ended, is asked of no one.
	var all []asked
	name := func(kind compile.Kind, name string) string { return string(kind) + " " + name }
	for _, r := range pol.Rules {
		if r.InForce(now) {
			kind := compile.ByAllow
			if r.Block {
				kind = compile.ByBlock
			}
			all = append(all, asked{name(kind, r.Name), r.Pos, r.Guard, r.From.Refs, r.To.Refs})
		}
	}
	for _, r := range pol.Redirects {
		if !r.Off {
			all = append(all, asked{name(compile.ByRedirect, r.Name), r.Pos, false, r.From.Refs, r.To.Refs})
		}
	}
	for _, m := range pol.Masquerades {
		if !m.Off {
			all = append(all, asked{name(compile.ByMasquerade, m.Name), m.Pos, false, m.From.Refs, m.To.Refs})
		}
	}
	for _, l := range pol.Leaves {
		all = append(all, asked{name(compile.ByLeave, l.Name), l.Pos, false, nil, l.Refs})
	}
	// Each record is gone through once: a fleet has many hosts.
	index := map[string]int{}
	out := make([]Usage, len(all))
	for i, a := range all {
		index[a.by] = i
		out[i] = Usage{Statement: a.by, Place: a.pos.String(), Guard: a.guard}
		for _, role := range pol.Roles {
			if slices.Contains(a.from, role.Name) {
				out[i].Ends = append(out[i].Ends, EndUse{Role: role.Name, Way: packet.Outbound.Word()})
			}
			if slices.Contains(a.to, role.Name) {
				out[i].Ends = append(out[i].Ends, EndUse{Role: role.Name, Way: packet.Inbound.Word()})
			}
		}
	}
	for _, h := range pol.Fleet.Hosts {
		if r := records[h.Name]; r != nil {
			countHost(out, index, h, r, since)
		}
	}
	return out
}

// countHost adds what one host counted.
func countHost(out []Usage, index map[string]int, h *fleet.Host, r *Record, since int64) {
	// A statement that a host counts both ways is one host's: it would count as two otherwise.
	seen := map[string]*Statement{} // by statement alone
	for _, s := range r.Hits {
		i, known := index[s.By]
		if !known || s.Gone {
			continue
		}
		u := &out[i]
		for k := range u.Ends {
			if e := &u.Ends[k]; h.HasRole(e.Role) && e.Way == s.Way {
				e.add(s, since)
			}
		}
		if was := seen[s.By]; was != nil {
			s = was.with(s)
		}
		seen[s.By] = s
	}
	for by, s := range seen {
		out[index[by]].add(s, since)
	}
}

// with is a statement's two ways as one.
func (s *Statement) with(o *Statement) *Statement {
	both := &Statement{By: s.By, Since: min(s.Since, o.Since), Last: max(s.Last, o.Last), Days: map[int][]int64{}}
	for _, days := range []map[int][]int64{s.Days, o.Days} {
		for day, n := range days {
			if had := both.Days[day]; len(n) == 2 && len(had) == 2 {
				n = []int64{had[0] + n[0], had[1] + n[1]}
			}
			both.Days[day] = n
		}
	}
	return both
}

// add adds a statement of one host.
func (u *Use) add(s *Statement, since int64) {
	u.Hosts++
	u.All, u.Last = max(u.All, s.Since), max(u.Last, s.Last)
	if u.First == 0 || s.Since < u.First {
		u.First = s.Since
	}
	hit := false
	for day, n := range s.Days {
		if day >= Day(since) && len(n) == 2 {
			hit = true
			u.Packets, u.Bytes = u.Packets+n[0], u.Bytes+n[1]
		}
	}
	if hit {
		u.HitOn++
	}
}
