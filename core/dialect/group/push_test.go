package group_test

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/dialect/group"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy/policytest"
)

// randomDocument is groups and who is in which, at random.
func randomDocument(rng *rand.Rand) *group.Document {
	d := &group.Document{Version: 1, Kind: group.Kind, Cloud: "dunlin"}
	for i := range 1 + rng.IntN(4) {
		g := group.Group{Name: fmt.Sprintf("yf-g%d", i), Inbound: []group.Rule{}, Outbound: []group.Rule{}}
		for range rng.IntN(4) {
			g.Inbound = append(g.Inbound, group.Rule{Service: group.Service{Protocol: "tcp", Ports: fmt.Sprint(1 + rng.IntN(3))},
				Peers: group.PeersOf(netip.MustParsePrefix(fmt.Sprintf("10.%d.0.0/16", rng.IntN(3))))})
		}
		d.Groups = append(d.Groups, g)
	}
	for i := range 4 {
		m := group.Member{Instance: fmt.Sprintf("p-%d", i), Groups: []string{}}
		for _, g := range d.Groups {
			if rng.IntN(2) == 0 {
				m.Groups = append(m.Groups, g.Name)
			}
		}
		d.Members = append(d.Members, m)
	}
	return d
}

// parts are a step as a cloud may put it in force: groups of an instance one by one, in
// any order, and of a group the inbound rules before the others.
func parts(rng *rand.Rand, d *group.Document, s group.Step) (out []group.Step) {
	if s.Put != nil {
		half := *s.Put
		half.Outbound = nil
		return []group.Step{{Put: &half}, s}
	}
	at := slices.IndexFunc(d.Members, func(m group.Member) bool { return m.Instance == s.Instance })
	if at < 0 {
		return []group.Step{s}
	}
	now := slices.Clone(d.Members[at].Groups)
	if len(now) == 0 { // nothing filters for it until it is in its first group, so that one by one cannot be
		return []group.Step{s}
	}
	var changed []string
	for _, g := range slices.Concat(now, s.Groups) {
		if slices.Contains(now, g) != slices.Contains(s.Groups, g) {
			changed = append(changed, g)
		}
	}
	rng.Shuffle(len(changed), func(i, j int) { changed[i], changed[j] = changed[j], changed[i] })
	for _, g := range changed {
		if i := slices.Index(now, g); i >= 0 {
			now = slices.Delete(slices.Clone(now), i, i+1)
		} else {
			now = append(slices.Clone(now), g)
		}
		out = append(out, group.Step{Instance: s.Instance, Groups: now})
	}
	return append(out, s)
}

// take has a step be in force.
func take(d *group.Document, s group.Step) {
	switch {
	case s.Put != nil:
		d.Groups = append(slices.DeleteFunc(d.Groups, func(g group.Group) bool { return g.Name == s.Put.Name }), *s.Put)
	case s.Instance != "":
		for i := range d.Members {
			if d.Members[i].Instance == s.Instance {
				d.Members[i].Groups = s.Groups
			}
		}
	default:
		d.Groups = slices.DeleteFunc(d.Groups, func(g group.Group) bool { return g.Name == s.Drop })
	}
}

// possible says that a cloud would do a step: groups that an instance is in are there, and
// nobody is in one that goes.
func possible(t *testing.T, d *group.Document, s group.Step) {
	t.Helper()
	for _, name := range s.Groups {
		require.True(t, slices.ContainsFunc(d.Groups, func(g group.Group) bool { return g.Name == name }), "%s: there is no %s", s, name)
	}
	for _, m := range d.Members {
		require.False(t, s.Drop != "" && slices.Contains(m.Groups, s.Drop), "%s: %s is in it", s, m.Instance)
	}
}

// admittedTo is what each instance admits.
func admittedTo(t *testing.T, sp *packet.Space, d *group.Document) (out map[string]packet.Set) {
	out = map[string]packet.Set{}
	for _, m := range d.Members {
		h := &fleet.Host{Name: m.Instance, Instance: &fleet.Instance{Cloud: "dunlin", ID: m.Instance}}
		rs, err := group.Read(sp, h, &fleet.Fleet{}, d)
		require.NoError(t, err)
		out[m.Instance] = sp.Where(rs.Decision(sp), func(o packet.Outcome) bool { return o.Verdict == packet.Admit })
	}
	return out
}

// TestStepsOpenNoGap: whatever stands, whatever is to be, in whatever order the steps of a
// phase are in force, and wherever it is interrupted and begun anew: nobody admits what neither admits,
// nobody refuses what both admit, and in the end all is as it is to be.
func TestStepsOpenNoGap(t *testing.T) {
	told, byAndBy := 0, 0
	for seed := range policytest.Trials(104) {
		rng := rand.New(rand.NewPCG(seed, 3))
		have, wanted := group.ByContent(randomDocument(rng)), randomDocument(rng)
		for i, m := range wanted.Members { // what we want is never that nothing filters
			if len(m.Groups) == 0 {
				wanted.Members[i].Groups = []string{wanted.Groups[0].Name}
			}
		}
		want := group.ByContent(wanted)
		have.Groups = append(have.Groups, group.Group{Name: "somebody's",
			Inbound: []group.Rule{{Service: group.Service{Protocol: "udp"},
				Peers: []group.Peer{{Prefix: netip.MustParsePrefix("0.0.0.0/0")}}}}})
		if rng.IntN(2) == 0 {
			have.Members[0].Groups = append(have.Members[0].Groups, "somebody's")
		}
		if rng.IntN(2) == 0 { // a group that is wanted was changed by hand
			g := want.Groups[0]
			g.Inbound = append(slices.Clone(g.Inbound),
				group.Rule{Service: group.Service{Protocol: "tcp", Ports: "22"},
					Peers: []group.Peer{{Prefix: netip.MustParsePrefix("0.0.0.0/0")}}})
			take(have, group.Step{Put: &g})
		}
		can := group.Abilities{}
		if seed%2 == 1 { // with room for just those that it has, and for those that it is to have
			for _, m := range slices.Concat(have.Members, want.Members) {
				can.GroupsPerInstance = max(can.GroupsPerInstance, len(m.Groups))
			}
		}
		sp := packet.NewSpace()
		before, after := admittedTo(t, sp, have), admittedTo(t, sp, want)
		for begun := 0; begun < 30; begun++ {
			phases, full := group.Steps(have, want, can)
			require.True(t, can.GroupsPerInstance > 0 || len(full) == 0)
			for _, one := range full { // stays as it is
				after[one.Instance] = before[one.Instance]
				told++
			}
			if phases == nil {
				break
			}
			if len(phases) > 4 {
				byAndBy++
			}
			for _, phase := range phases {
				rng.Shuffle(len(phase), func(i, j int) { phase[i], phase[j] = phase[j], phase[i] })
				stop := false
				for _, s := range phase {
					for _, part := range parts(rng, have, s) {
						possible(t, have, part)
						require.True(t, can.GroupsPerInstance == 0 || len(part.Groups) <= can.GroupsPerInstance)
						take(have, part)
						for id, now := range admittedTo(t, sp, have) {
							require.True(t, sp.Within(now, sp.Or(before[id], after[id])), "seed %d: %s opens a gap at %s", seed, s, id)
							require.True(t, sp.Within(sp.And(before[id], after[id]), now), "seed %d: %s shuts a way in at %s", seed, s, id)
						}
						if stop = rng.IntN(12) == 0; stop {
							break
						}
					}
					if stop {
						break
					}
				}
				if stop { // what was in force then counts from here on
					break
				}
			}
			require.Less(t, begun, 29)
		}
		require.Equal(t, after, admittedTo(t, sp, have))
		require.True(t, slices.ContainsFunc(have.Groups, func(g group.Group) bool { return g.Name == "somebody's" }))
		left, _ := group.Steps(have, want, can)
		require.Empty(t, left)
	}
	t.Logf("by and by in %d, without room %d", byAndBy, told)
	require.Positive(t, told)
	require.Positive(t, byAndBy)
}

// TestStepsAreToldAndRefused.
func TestStepsAreToldAndRefused(t *testing.T) {
	want := group.ByContent(&group.Document{Groups: []group.Group{{Name: "yf-a",
		Inbound: []group.Rule{{Service: group.Service{Protocol: "any"}, Peers: []group.Peer{{Prefix: netip.MustParsePrefix("::/0")}}}}}},
		Members: []group.Member{{Instance: "p-1", Groups: []string{"yf-a"}}, {Instance: "gone", Groups: []string{"yf-a"}}}})
	name := want.Groups[0].Name
	require.Regexp(t, `^yf-a\.[0-9a-f]{16}$`, name)
	have := &group.Document{Groups: []group.Group{{Name: "yf-old",
		Inbound: []group.Rule{{Service: group.Service{Protocol: "tcp"}, Peers: []group.Peer{{Prefix: netip.MustParsePrefix("::/0")}}}}},
		{Name: "yf-used"}, {Name: "theirs", Inbound: []group.Rule{{Service: group.Service{Protocol: "udp"},
			Peers: []group.Peer{{Prefix: netip.MustParsePrefix("::/0")}}}}}},
		Members: []group.Member{{Instance: "p-1", Groups: []string{"yf-old", "theirs"}}, {Instance: "p-9", Groups: []string{"yf-used"}}}}
	phases, full := group.Steps(have, want, group.Abilities{GroupsPerInstance: 3})
	require.Empty(t, full)
	var told [][]string
	for _, phase := range phases {
		told = append(told, nil)
		for _, s := range phase {
			told[len(told)-1] = append(told[len(told)-1], s.String())
		}
	}
	require.Equal(t, [][]string{{"make group " + name + ": 1 inbound and 0 outbound rules"}, {"put p-1 in yf-old, theirs, " + name},
		{"put p-1 in " + name}, {"take group yf-old away"}}, told)
	want.Members = append(want.Members, group.Member{Instance: "p-9", Groups: []string{name}})
	phases, full = group.Steps(have, want, group.Abilities{GroupsPerInstance: 2})
	require.Equal(t, []group.Step{{Instance: "p-9", Groups: []string{"yf-used", name}}}, phases[1], "who has no room hinders nobody")
	require.Len(t, full, 1)
	require.EqualError(t, full[0], "the instance p-1 would be in 3 groups for a while, those it has and those it is to have, and the "+
		"cloud lets it be in 2; there is no order in which it could change them one by one that keeps open what both admit")

	have.Groups[2].Inbound = nil // then nothing is lost with it
	phases, full = group.Steps(have, want, group.Abilities{GroupsPerInstance: 2})
	require.Empty(t, full)
	require.Equal(t, []string{"put p-1 in yf-old", "put p-1 in yf-old, " + name, "put p-1 in " + name},
		[]string{phases[1][0].String(), phases[2][0].String(), phases[3][0].String()})
}
