package approve_test

import (
	"flag"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/approve"
	"yellowfence.example/yfence/core/compare"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/pagetest"
	"yellowfence.example/yfence/core/policy/policytest"
)

var _ = flag.Bool("update", false, "write the page anew")

// company is a company's rules, the strictest for what is most dangerous.
var company = approve.Rules{
	{When: approve.Strangers, People: 2, Holding: []string{"gate"}},
	{When: approve.Guards, People: 2, Holding: []string{"gate"}},
	{When: approve.Expects, People: 1}, {When: approve.Accepts, People: 2}, {When: approve.Theirs, People: 1},
	{When: approve.Opens, People: 1}, {When: approve.Cuts, People: 1}, {When: approve.Hosts, People: 1},
}

const world = `{"hosts": [
 {"name": "jump-01", "roles": ["gate"], "interfaces": [{"name": "eth0", "addresses": ["203.0.113.10/28"]}, {"name": "eth1", "addresses": ["10.40.0.1/16"]}]},
 {"name": "app-01", "roles": ["app"], "interfaces": [{"name": "eth0", "addresses": ["10.40.0.2/16"]}]},
 {"name": "db-01", "roles": ["db"], "interfaces": [{"name": "eth0", "addresses": ["10.40.0.3/16"]}]}]}`

const before = `policy p language 1
network office = 198.51.100.0/28 "ours"
segment lan = 10.40.0.0/16 "no stranger is on it"
role gate
role app { outbound closed }
role db
allow way-in: office -> gate : ssh guard
allow hop: gate -> app, db : ssh guard on lan
allow data: app -> db : tcp 5432 on lan
allow web: office -> app : https
allow out: app -> db : ssh on lan
expect shut: never strangers -> db : any
`

func meaning(t *testing.T, change func(string) string, fleetToo func(string) string, also approve.Change) approve.Meaning {
	was, is := policytest.Resolve(t, world, before), policytest.Resolve(t, fleetToo(world), change(before))
	also.Changes = compare.Policies(packet.NewSpace(), was, is, 1795564800)
	also.Before, also.After = was.Fleet, is.Fleet
	return approve.MeaningOf(also)
}

func same(s string) string { return s }

func replaced(t *testing.T, old, with string) func(string) string {
	return func(s string) string {
		require.Contains(t, s, old)
		return strings.Replace(s, old, with, 1)
	}
}

// TestWhatNeedsApproval is what each change means, and what the company asks for it.
func TestWhatNeedsApproval(t *testing.T) {
	for name, c := range map[string]struct {
		change, fleet func(string) string
		also          approve.Change
		kinds, need   string
	}{
		"nothing":          {kinds: "", need: "no approval"},
		"another spelling": {change: replaced(t, "tcp 5432", "postgresql"), need: "no approval"},
		"a comment":        {change: func(s string) string { return s + "# a word\n" }, need: "no approval"},
		"one that closes":  {change: replaced(t, "allow web: office -> app : https\n", ""), kinds: "shuts", need: "no approval"},
		"logs":             {change: replaced(t, "app : https\n", "app : https log\n"), kinds: "alters", need: "no approval"},
		"between ours": {change: replaced(t, "tcp 5432", "tcp 5432, 5433"), kinds: "opens",
			need: "the approval of 1 person besides its author"},
		"to strangers": {change: func(s string) string { return s + "allow site: everywhere -> app : http\n" },
			kinds: "opens-to-strangers opens",
			need:  "the approval of 2 people besides its author, of whom one holds approve:gate"},
		"out to strangers": {change: replaced(t, "app -> db : ssh on lan", "app -> everywhere : ssh"),
			kinds: "opens-to-strangers opens shuts",
			need:  "the approval of 2 people besides its author, of whom one holds approve:gate"},
		"a guard, though another rule admits the same": {change: replaced(t, "allow hop: gate -> app, db : ssh guard on lan",
			"allow hop: gate -> app : ssh guard on lan\nallow hop-db: gate -> db : ssh guard on lan"), kinds: "touches-guards",
			need: "the approval of 2 people besides its author, of whom one holds approve:gate"},
		"an expectation": {change: replaced(t, "expect shut: never strangers -> db : any\n", ""), kinds: "weakens-expectations",
			need: "the approval of 1 person besides its author"},
		"an expectation of less": {change: replaced(t, "strangers -> db : any", "strangers -> db : ssh"), kinds: "weakens-expectations",
			need: "the approval of 1 person besides its author"},
		"a host comes": {fleet: replaced(t, `"hosts": [`,
			`"hosts": [{"name": "app-02", "roles": ["app"], "interfaces": [{"name": "e", "addresses": `+
				`["10.40.0.9/16"]}]},`), kinds: "opens changes-hosts", need: "the approval of 1 person besides its author"},
		"cuts": {change: replaced(t, "allow web: office -> app : https\n", ""),
			also: approve.Change{Cuts: []string{"40 connections"}}, kinds: "cuts-what-is-used shuts",
			need: "the approval of 1 person besides its author"},
		"accepts": {also: approve.Change{Accepted: []string{"no-way-in"}}, kinds: "accepts-problems",
			need: "the approval of 2 people besides its author"},
		"others'": {also: approve.Change{Theirs: []string{"teams/watch"}}, kinds: "changes-what-is-others",
			need: "the approval of 1 person besides its author"},
	} {
		t.Run(name, func(t *testing.T) {
			if c.change == nil {
				c.change = same
			}
			if c.fleet == nil {
				c.fleet = same
			}
			m := meaning(t, c.change, c.fleet, c.also)
			kinds := []string{}
			for _, k := range approve.Kinds {
				if m.Kinds[k.Kind] != nil {
					kinds = append(kinds, string(k.Kind))
				}
			}
			require.ElementsMatch(t, strings.Fields(c.kinds), kinds, "%+v", m)
			require.Equal(t, c.need, company.Need(m).String())
			require.Equal(t, "no approval", approve.Rules(nil).Need(m).String())
		})
	}
}

// TestMeaningStays: a meaning is the same tomorrow, until something ends.
func TestMeaningStays(t *testing.T) {
	const day, ends = 24 * 3600, "allow site: everywhere -> app : http  until 2026-12-10\n"
	sum := func(change string, at int64) string {
		was, is := policytest.Resolve(t, world, before), policytest.Resolve(t, world, before+change)
		return compare.Policies(packet.NewSpace(), was, is, at).Meaning
	}
	for _, change := range []string{"", "allow site: everywhere -> app : http\n", ends} {
		for _, later := range []int64{1, day, 9 * day} {
			require.Equal(t, sum(change, 1795564800), sum(change, 1795564800+later), "%q after %d s", change, later)
		}
	}
	require.NotEqual(t, sum(ends, 1795564800), sum(ends, 1795564800+40*day), "it has ended")
	require.NotEqual(t, sum(ends, 1795564800), sum("allow site: everywhere -> app : http\n", 1795564800))
}

// TestOneMeaning: changes that do the same have one sum, whatever their text; others have others.
func TestOneMeaning(t *testing.T) {
	sum := func(change func(string) string) string { return meaning(t, change, same, approve.Change{}).Sum }
	nothing := sum(same)
	require.Equal(t, nothing, sum(func(s string) string { return s + "# a word\n" }))
	open := sum(replaced(t, "tcp 5432", "tcp 5432, 5433"))
	require.Equal(t, open, sum(replaced(t, "allow data: app -> db : tcp 5432 on lan", "allow other: app -> db : tcp 5432-5433 on lan")))
	seen := map[string]bool{nothing: true, open: true}
	for _, change := range []func(string) string{replaced(t, "tcp 5432", "tcp 5432, 5434"), replaced(t, "office -> app : https",
		"office -> db : https"),
		replaced(t, "gate -> app, db : ssh guard on lan", "gate -> app, db : ssh guard"), replaced(t, "expect shut", "expect not-open"),
		replaced(t, "app : https\n", "app : https log\n")} {
		s := sum(change)
		require.False(t, seen[s])
		seen[s] = true
	}
	require.NotEqual(t, nothing, meaning(t, same, same, approve.Change{Accepted: []string{"x"}}).Sum)
}

// TestLeft is what is missing when some have approved.
func TestLeft(t *testing.T) {
	gate, harbour, all := approve.Approver{Name: "gus", Roles: []string{"gate"}}, approve.Approver{Name: "hal", Roles: []string{"app"}},
		approve.Approver{Name: "ann", Whole: true}
	two := approve.Need{People: 2, Holding: []string{"gate"}}
	both := approve.Need{People: 2, Holding: []string{"gate", "app"}}
	for _, c := range []struct {
		need    approve.Need
		given   []approve.Approver
		people  int
		holding string
	}{
		{two, nil, 2, "gate"}, {two, []approve.Approver{harbour}, 1, "gate"}, {two,
			[]approve.Approver{harbour, harbour}, 1, "gate"},
		{two, []approve.Approver{harbour, gate}, 0, ""}, {two, []approve.Approver{gate}, 1, ""}, {two, []approve.Approver{all, harbour},
			0, ""},
		{both, []approve.Approver{all, gate}, 0, ""}, {both, []approve.Approver{gate, all}, 0, ""},
		{both, []approve.Approver{gate, {Name: "g2", Roles: []string{"gate"}}}, 1, "app"}, {approve.Need{}, nil, 0, ""},
	} {
		people, holding := c.need.Left(c.given)
		require.Equal(t, []any{c.people, c.holding}, []any{people, strings.Join(holding, " ")}, "%+v", c)
	}
	m := approve.Meaning{Roles: []string{"db", "gate"}}
	require.True(t, gate.MayApprove("pat", m))
	require.False(t, harbour.MayApprove("pat", m), "it does not concern what he may approve for")
	require.False(t, all.MayApprove("ann", m), "nobody approves his own")
	require.False(t, gate.MayApprove("pat", approve.Meaning{}))
	require.Equal(t, "the approval of 1 person besides its author, who holds approve:gate", approve.Need{People: 1,
		Holding: []string{"gate"}}.String())
}

// TestTheDocumentation: the page lists every kind of meaning, as the table has it.
func TestTheDocumentation(t *testing.T) {
	var rows [][]string
	for _, k := range approve.Kinds {
		rows = append(rows, []string{"`" + string(k.Kind) + "`", k.Means})
	}
	pagetest.Table(t, "../../docs/proposals.md", "| when | a change is of that kind if |", rows)
}

// TestWrongRules are told with the rule that is wrong.
func TestWrongRules(t *testing.T) {
	require.NoError(t, company.Check())
	for says, r := range map[string]approve.Rule{
		`rule 1: when is "moves"; a change may be of the kinds opens-to-strangers,`: {When: "moves"},
		`rule 1: people is from 0 to 10, not 11`:                                    {When: approve.Opens, People: 11},
		`rule 1: 0 people cannot hold 1 roles, one each`: {When: approve.Opens,
			Holding: []string{"gate"}},
		`rule 1: holding names roles, as [gate], not "approve:gate"`: {When: approve.Opens, People: 1,
			Holding: []string{"approve:gate"}},
		`rule 1: holding names roles, as [gate], not "gate,db"`: {When: approve.Opens, People: 1,
			Holding: []string{"gate,db"}},
	} {
		require.ErrorContains(t, approve.Rules{r}.Check(), says)
	}
}
