package compile_test

import (
	"fmt"
	"math/rand/v2"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/core/policy/policytest"
)

// TestLaws are what must hold of every policy, whatever else it says: a block admits nothing to
// anybody, an allow that is no exception refuses nothing, and how a policy is laid out, what
// its parts are called and whether a rule is written as one or as two is nobody's matter.
func TestLaws(t *testing.T) {
	admits := func(sp *packet.Space, pol *policy.Policy, host string) packet.Set {
		return sp.Where(compile.ForHost(sp, pol, pol.Fleet.Host(host), now).Decision(sp),
			func(o packet.Outcome) bool { return o.Verdict == packet.Admit })
	}
	other := map[string]string{"office": "zebra", "lab": "apse", "quay": "yard", "hill": "alp", "mix": "blend", "both": "duo"}
	for seed := range policytest.Trials(98) {
		rng := rand.New(rand.NewPCG(41, seed))
		pick := func(items ...string) string { return items[rng.IntN(len(items))] }
		text := policytest.Random(rng)
		host := pick("h1", "h2", "h3", "h4")
		from := pick("red", "blue", "fleet except red at quay", "office", "lab", "strangers", "everywhere", "green at 203.0.113.0/24, hill")
		to := pick("red", "green", "fleet", "red except hill", "host h3")
		more := pick("", "", " on hill", " arriving quay", " through red", " through green", " encrypted", " by reject")
		rule := func(kind, name, services string) string {
			modifiers := more
			if kind == "allow" && more == " by reject" {
				modifiers = ""
			}
			return fmt.Sprintf("%s %s: %s -> %s : %s%s\n", kind, name, from, to, services, modifiers)
		}
		plainly := policytest.Resolve(t, policytest.Fleet, text)

		sp := packet.NewSpace()
		blocked := policytest.Resolve(t, policytest.Fleet, text+rule("block", "law", "tcp 1-500, udp 53"))
		require.True(t, sp.Within(admits(sp, blocked, host), admits(sp, plainly, host)), "a block admits nothing: seed %d %s\n%s%s", seed,
			host, text, rule("block", "law", "tcp 1-500, udp 53"))
		allowed := policytest.Resolve(t, policytest.Fleet, text+rule("allow", "law", "tcp 1-500, udp 53"))
		require.True(t, sp.Within(admits(sp, plainly, host), admits(sp, allowed, host)), "an allow refuses nothing: seed %d %s\n%s%s",
			seed, host, text, rule("allow", "law", "tcp 1-500, udp 53"))

		for _, kind := range []string{"allow", "block"} {
			one := policytest.Resolve(t, policytest.Fleet, text+rule(kind, "law", "tcp 1-500, udp 53"))
			two := policytest.Resolve(t, policytest.Fleet, text+rule(kind, "law", "tcp 1-500")+rule(kind, "law-too", "udp 53"))
			over := regexp.MustCompile(`over b\d`)
			if kind == "block" && over.MatchString(text) { // exceptions may be to it
				require.Equal(t, admits(sp, one, host), admits(sp, two, host), "a rule split in two: seed %d %s\n%s", seed, host, text)
				continue
			}
			a, b := compile.ForHost(sp, one, one.Fleet.Host(host), now).Decision(sp),
				compile.ForHost(sp, two, two.Fleet.Host(host), now).Decision(sp)
			require.Equal(t, a, b, "a rule split in two: seed %d %s\n%s", seed, host, text)
		}

		file, _ := fence.Parse("p.fence", text)
		tidy := policytest.Resolve(t, policytest.Fleet, fence.Print(file))
		called := regexp.MustCompile(`\b(office|lab|quay|hill|mix|both)\b`).ReplaceAllStringFunc(text,
			func(name string) string { return other[name] })
		renamed := policytest.Resolve(t, policytest.Fleet, called)
		d := compile.ForHost(sp, plainly, plainly.Fleet.Host(host), now).Decision(sp)
		for what, pol := range map[string]*policy.Policy{"laid out": tidy, "named otherwise": renamed} {
			require.Equal(t, d, compile.ForHost(sp, pol, pol.Fleet.Host(host), now).Decision(sp), "%s: seed %d %s\n%s", what, seed, host,
				strings.TrimSpace(text))
		}
	}
}

// TestTrialsNoteWhatTheyWouldRefuse: while something is on trial, what is admitted and would be
// refused without the trial is logged, and nothing else is refused than what others refuse.
func TestTrialsNoteWhatTheyWouldRefuse(t *testing.T) {
	quiet := regexp.MustCompile(`log refused( up to \d+ per 1\w)?|log up to \d+ per 1\w|\blog\b|at most \d+ per 1\w( per source)?`)
	trial := regexp.MustCompile(` on trial until [\d-]+( else open)?`)
	noted := 0
	for seed := range policytest.Trials(162) {
		rng := rand.New(rand.NewPCG(43, seed))
		text := quiet.ReplaceAllString(policytest.Random(rng), "")
		text = regexp.MustCompile(`on trial until \d\d\d\d-\d\d-\d\d`).ReplaceAllString(text, "on trial until 2027-01-31")
		if !trial.MatchString(text) {
			continue
		}
		tried, ended := policytest.Resolve(t, policytest.Fleet, text),
			policytest.Resolve(t, policytest.Fleet, trial.ReplaceAllString(text, ""))
		for _, host := range tried.Fleet.Hosts {
			sp := packet.NewSpace()
			sp.Since(now)
			byGround := sp.And(sp.Value(packet.Hook, packet.Through),
				sp.OrAll(sp.Values(packet.State, packet.Established, packet.Related),
					sp.Values(packet.Protocol, packet.ICMP, packet.ICMPv6)))
			soon := sp.Minus(sp.Before(now+86400), byGround) // before any of the trials ends; of the ground nothing is noted
			d := compile.ForHost(sp, tried, host, now).Decision(sp)
			e := compile.ForHost(sp, ended, ended.Fleet.Host(host.Name), now).Decision(sp)
			admits := sp.Where(d, func(o packet.Outcome) bool { return o.Verdict == packet.Admit })
			would := sp.And(admits, sp.Where(e, packet.Outcome.Refused))
			logs := sp.Possible(sp.Where(d, func(o packet.Outcome) bool { return o.Logged && o.Verdict == packet.Admit }))
			require.Equal(t, sp.And(soon, sp.AnyRoom(would)), sp.And(soon, sp.AnyRoom(logs)), "seed %d %s\n%s", seed, host.Name, text)
			require.True(t, sp.Within(sp.Where(d, packet.Outcome.Refused), sp.Where(e, packet.Outcome.Refused)),
				"a trial refuses nothing more: seed %d %s\n%s", seed, host.Name, text)
			if would != packet.Empty {
				noted++
			}
		}
	}
	require.Greater(t, noted, 50)
}
