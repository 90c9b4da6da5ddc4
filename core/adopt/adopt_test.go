package adopt_test

import (
	"errors"
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/adopt"
	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/dialect/forms"
	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/core/policy/policytest"
)

const now = 1_795_600_000

// settled are hosts that have in force what a policy means for them.
func settled(pol *policy.Policy) (hosts []adopt.Host) {
	for _, h := range pol.Fleet.Hosts {
		if h.Dialect == fleet.NoFilter {
			continue
		}
		hosts = append(hosts, adopt.Host{Name: h.Name, Read: func(sp *packet.Space) (*kernel.Ruleset, error) {
			return forms.Of(h).Rules(sp, compile.ForHost(sp, pol, h, now)), nil
		}})
	}
	return hosts
}

// TestSaltmarshComesBack: of what the harbour's hosts have in force comes a policy that reads
// like the one it was made of, with the same roles.
func TestSaltmarshComesBack(t *testing.T) {
	pol := policytest.Saltmarsh(t, "../..")
	r, err := adopt.Policy(pol.Fleet, "saltmarsh", settled(pol), now)
	require.NoError(t, err)
	for _, role := range r.Roles {
		for _, h := range role.Hosts {
			require.Equal(t, []string{role.Name}, pol.Fleet.Host(h).Roles, h)
			require.Equal(t, []string{role.Name}, r.Fleet.Host(h).Roles, h)
		}
	}
	golden(t, "saltmarsh.fence", r.Text)
}

func golden(t *testing.T, name, text string) {
	t.Helper()
	file := filepath.Join("testdata", name)
	if *update {
		require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
	}
	want, err := os.ReadFile(file)
	require.NoError(t, err)
	require.Equal(t, string(want), text)
}

var update = flag.Bool("update", false, "write the golden files")

const plainFleet = `{"hosts": [
 {"name": "jump-01", "roles": ["jump"], "own_console": true, "interfaces": [{"name": "eth0", "addresses": ["203.0.113.65/28"]}, {"name": "eth1", "addresses": ["10.40.1.1/16", "fd40::1:1/64"]}]},
 {"name": "broker-01", "roles": ["broker"], "interfaces": [{"name": "eth1", "addresses": ["10.40.2.21/16", "fd40::2:21/64"]}]},
 {"name": "broker-02", "roles": ["broker"], "dialect": "iptables", "interfaces": [{"name": "eth1", "addresses": ["10.40.2.22/16", "fd40::2:22/64"]}]},
 {"name": "charts-01", "roles": ["charts"], "interfaces": [{"name": "eth0", "addresses": ["203.0.113.70/28"]}, {"name": "eth1", "addresses": ["10.40.2.10/16", "fd40::2:10/64"]}]},
 {"name": "charts-02", "roles": ["charts"], "dialect": "iptables", "interfaces": [{"name": "eth0", "addresses": ["203.0.113.71/28"]}, {"name": "eth1", "addresses": ["10.40.2.11/16", "fd40::2:11/64"]}]}]}`

// plain is a policy as most are: who may do what with whom, and what nobody may.
func plain(rng *rand.Rand) string {
	pick := func(items ...string) string { return items[rng.IntN(len(items))] }
	text := "policy plain language 1\nnetwork office = 198.51.100.0/24, 2001:db8:5::/48\nnetwork pests = 192.0.2.0/25\n"
	for _, role := range []string{"jump", "broker", "charts"} {
		text += "role " + role + pick("", " { inbound open }", " { outbound closed }", " { refuse by reject }", " { log refused }") + "\n"
	}
	text += "allow hop: office -> jump : ssh guard\n"
	for i := range 1 + rng.IntN(5) {
		from, to := pick("office", "everywhere", "198.51.100.7"), pick("broker", "charts", "fleet", "jump", "broker, charts")
		if i > 0 { // a limit is one for both ends of a rule
			from = pick(from, "jump", "broker", "10.40.0.0/16", "office, jump")
			if rng.IntN(4) == 0 {
				from, to = to, from
			}
		}
		what, how := pick("https", "tcp 8080-8090", "udp 53, ntp", "ping", "http, tcp 9000", "icmp 13"), pick("", "", " log")
		if i == 0 { // of several limits on the same packets the policy decides by their names
			how = pick("", " at most 5 per 1m", " at most 4 per 1m per source")
		} else {
			what = pick(what, what, "any")
		}
		text += fmt.Sprintf("allow a%d: %s -> %s : %s%s\n", i, from, to, what, how)
	}
	if rng.IntN(2) == 0 {
		text += "block b: pests -> " + pick("fleet", "charts") + " : " + pick("any", "https") + pick("", " by reject") + "\n"
	}
	if rng.IntN(3) == 0 {
		text += "block m: fleet -> everywhere : smtp by reject\n"
	}
	return text
}

// TestPlainPoliciesComeBack: what hosts have in force of an ordinary policy is adopted with
// nothing left, and hosts of a role are one again.
func TestPlainPoliciesComeBack(t *testing.T) {
	for seed := range policytest.Trials(16) {
		text := plain(rand.New(rand.NewPCG(seed, 5)))
		fl, problems := fleet.ReadJSON("fleet.json", []byte(plainFleet))
		require.Empty(t, problems)
		in, problems := policy.Read([]policy.Source{{Name: "p.fence", Text: text}}, fl)
		require.Empty(t, problems)
		pol, problems := policy.Resolve(in)
		if len(problems) > 0 { // a random rule may name hosts at no end
			continue
		}
		r, err := adopt.Policy(fl, "again", settled(pol), now)
		require.NoError(t, err, "seed %d\n%s", seed, text)
		require.Empty(t, r.Left, "seed %d\n%s\n%s", seed, text, r.Text)
		for _, pair := range [][2]string{{"broker-01", "broker-02"}, {"charts-01", "charts-02"}} {
			require.Equal(t, r.Fleet.Host(pair[0]).Roles, r.Fleet.Host(pair[1]).Roles, "seed %d\n%s\n%s", seed, text, r.Text)
		}
	}
}

// TestWildPoliciesComeBack: whatever hosts have in force, what comes is a policy.
func TestWildPoliciesComeBack(t *testing.T) {
	for seed := range policytest.Trials(10) {
		pol := policytest.Resolve(t, policytest.Fleet, policytest.Random(rand.New(rand.NewPCG(seed, 5))))
		r, err := adopt.Policy(pol.Fleet, "again", settled(pol), now)
		require.NoError(t, err, "seed %d", seed)
		file, problems := fence.Parse("adopted.fence", r.Text)
		require.Empty(t, problems)
		require.Equal(t, r.Text, fence.Print(file), "it is tidy")
		for _, l := range r.Left {
			require.Contains(t, r.Text, strings.Join(strings.Fields(l.Says), " "))
		}
	}
}

// TestRefusals.
func TestRefusals(t *testing.T) {
	pol := policytest.Saltmarsh(t, "../..")
	broken := adopt.Host{Name: "jump-01",
		Read: func(*packet.Space) (*kernel.Ruleset, error) { return nil, errors.New("line 3: it ends there") }}
	for want, hosts := range map[string][]adopt.Host{
		`the fleet has no host "gone-01"`:      {{Name: "gone-01"}},
		"the dumps of jump-01 are given twice": {broken, broken},
		"jump-01: line 3: it ends there":       {broken},
		"charts-cloud-01 has no filter of its own, by the fleet file: its groups are not adopted": {{Name: "charts-cloud-01"}},
	} {
		_, err := adopt.Policy(pol.Fleet, "p", hosts, now)
		require.EqualError(t, err, want)
	}
}
