package policy_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy/policytest"
)

// at is an instant in seconds since 1970.
func at(t *testing.T, text string) int64 {
	t.Helper()
	when, err := time.Parse("2006-01-02T15:04:05", text)
	require.NoError(t, err)
	return when.Unix()
}

// TestTurns: when a policy begins or ends to say something by itself, and that nothing that was worked out before holds
// after it.
func TestTurns(t *testing.T) {
	const morning = "2027-01-04T06:00:00"
	for _, c := range []struct {
		name, text string
		turns      []string // in order
	}{
		{"a rule that always counts", "allow a: green -> blue : ssh\n", nil},
		{"it begins with a day", "allow a: green -> blue : ssh  from 2027-01-04\n", []string{"2027-01-04T00:00:00"}},
		{"at an instant", "allow a: green -> blue : ssh  from 2027-01-04T06:00Z\n", []string{morning}},
		{"it ends with a day", "allow a: green -> blue : ssh  until 2027-01-04\n", []string{"2027-01-05T00:00:00"}},
		{"it begins and ends", "allow a: green -> blue : ssh  from 2027-01-04T06:00Z until 2027-01-06\n", []string{morning,
			"2027-01-07T00:00:00"}},
		{"one that is off does neither", "off allow a: green -> blue : ssh  from 2027-01-04T06:00Z until 2027-01-06\n", nil},
		{"two at once are one turn", "allow a: green -> blue : ssh  from 2027-01-04T06:00Z\nblock b: green -> blue : tcp 25  until " +
			"2027-01-04T06:00Z\n",
			[]string{morning}},
		{"a block on trial", "block b: green -> blue : tcp 25  on trial until 2027-01-04\n", []string{"2027-01-05T00:00:00"}},
		{"a stance on trial", "role pier { outbound closed on trial until 2027-01-04 else open }\n", []string{"2027-01-05T00:00:00"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			pol := policytest.Resolve(t, policytest.Fleet, "policy p language 1\nrole red\nrole blue\nrole green\n"+c.text)
			var turns []int64
			for now := at(t, "2026-11-29T00:00:00"); ; {
				next := pol.NextTurn(now)
				if next == 0 {
					break
				}
				turns = append(turns, next)
				require.Equal(t, next, pol.NextTurn(next-1))
				require.NotEqual(t, next, pol.NextTurn(next))
				require.True(t, pol.SameAt(now, next-1), "until the turn nothing is otherwise")
				require.False(t, pol.SameAt(next-1, next), "and with it something is")
				require.False(t, pol.SameAt(next, next-1), "in whichever order one asks")
				now = next
			}
			var want []int64
			for _, turn := range c.turns {
				want = append(want, at(t, turn))
			}
			require.Equal(t, want, turns)
			require.Zero(t, pol.NextTurn(at(t, "2030-01-01T00:00:00")))
			require.True(t, pol.SameAt(at(t, "2030-01-01T00:00:00"), at(t, "2031-01-01T00:00:00")))
		})
	}
}

// TestInForce: to the second, since when a rule counts or will, and when it does not any more.
func TestInForce(t *testing.T) {
	pol := policytest.Resolve(t, policytest.Fleet, "policy p language 1\nrole red\nrole blue\nrole green\n"+
		"allow ends: green -> blue : ssh  until 2027-01-04T06:00Z\nblock tries: green -> blue : tcp 25  on trial until 2027-01-03\n"+
		"block goes: green -> blue : tcp 26  on trial until 2027-01-03 else open\noff allow rests: green -> blue : tcp 27\n"+
		"allow begins: green -> blue : tcp 28  from 2027-01-04T06:00Z\n")
	for _, c := range []struct {
		rule          string
		before, after string // seconds, of which it counts in the first
		counts        [2]bool
	}{
		{"ends", "2027-01-04T05:59:59", "2027-01-04T06:00:00", [2]bool{true, false}},
		{"tries", "2027-01-03T23:59:59", "2027-01-04T00:00:00", [2]bool{true, true}}, // from then on it refuses
		{"goes", "2027-01-03T23:59:59", "2027-01-04T00:00:00", [2]bool{true, false}},
		{"rests", "2027-01-03T23:59:59", "2027-01-04T00:00:00", [2]bool{false, false}},
		{"begins", "2027-01-04T05:59:59", "2027-01-04T06:00:00", [2]bool{true, true}}, // it will
	} {
		r := pol.Rule(c.rule)
		require.Equal(t, c.counts, [2]bool{r.InForce(at(t, c.before)), r.InForce(at(t, c.after))}, c.rule)
	}
	require.Nil(t, pol.Rule("nobody"))
}

// TestStances: what a host does with packets that no rule speaks of, its roles put together.
func TestStances(t *testing.T) {
	const day = "2027-01-03"
	for _, c := range []struct {
		name, red, blue        string // what the two roles of host h2 say
		inbound, before, after bool   // whether inbound and outbound are closed, the latter before and after the day
	}{
		{"they say nothing", "", "", true, false, false},
		{"one says nothing", "inbound open outbound closed", "", false, true, true},
		{"closed beats open", "inbound open outbound open", "inbound closed outbound closed", true, true, true},
		{"a trial refuses nothing yet", "outbound closed on trial until " + day, "", true, false, true},
		{"and goes, if it says so", "outbound closed on trial until " + day + " else open", "", true, false, false},
		{"what is sure beats a trial", "outbound closed on trial until " + day, "outbound closed", true, true, true},
		{"a trial beats what is open", "outbound closed on trial until " + day, "outbound open", true, false, true},
		{"of two trials the one that closes counts", "outbound closed on trial until " + day,
			"outbound closed on trial until 2027-01-20 else open", true, false, true},
	} {
		pol := policytest.Resolve(t, policytest.Fleet, "policy p language 1\nrole red { "+c.red+" }\nrole blue { "+c.blue+" }\nrole "+
			"green\n")
		h := pol.Fleet.Host("h2")
		refuses := func(d int, when string) bool {
			s := pol.StanceOf(h, packet.Directions[d]).At(at(t, when))
			return s.Closed && s.Trial == nil
		}
		require.Equal(t, []bool{c.inbound, c.before, c.after},
			[]bool{refuses(0, "2027-01-03T23:59:59"), refuses(1, "2027-01-03T23:59:59"), refuses(1, "2027-01-04T00:00:00")}, c.name)
	}
}
