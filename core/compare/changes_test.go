package compare_test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/compare"
	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/core/policy/policytest"
)

const now = 1795564800 // 2026-11-25

// TestPoliciesCompared keeps what is said of changes to Saltmarsh's policy.
func TestPoliciesCompared(t *testing.T) {
	before := policytest.Saltmarsh(t, "../..")
	replace := func(old, new string) func(string) string {
		return func(s string) string {
			require.Contains(t, s, old)
			return strings.Replace(s, old, new, 1)
		}
	}
	for _, c := range []struct {
		name   string
		change func(string) string
	}{
		{"nothing", func(s string) string { return s }},
		{"another-spelling", replace("chart-site\n", "tcp 80, 443\n")},
		{"database-to-everybody", func(s string) string {
			return s + "allow extra: office -> charts : tcp 8097\nallow oops: everywhere -> logbook : postgresql\n"
		}},
		{"allow-gone", replace("allow nightly:          depot -> logbook : ssh  from unit backup.service\n", "")},
		{"another-rate", replace("at most 4 per 1m per source", "at most 40 per 1m per source")},
		{"log-gone", replace("pilot-api, https  log", "pilot-api, https")},
		{"block-rejects", replace("everywhere -> broker : udp 10111  log", "everywhere -> broker : udp 10111  by reject  log")},
		{"sooner-end", replace("until 2035-03-31", "until 2030-03-31")},
		{"any-user", replace("rsync  from user backup", "rsync")},
	} {
		files := policytest.SaltmarshFiles(t, "../..")
		for i := range files {
			if files[i].Name == "rules.fence" {
				files[i].Text = c.change(files[i].Text)
			}
		}
		in, problems := policy.Read(files, before.Fleet)
		require.Empty(t, problems, c.name)
		after, problems := policy.Resolve(in)
		require.Empty(t, problems, c.name)
		var b strings.Builder
		for _, f := range compare.Policies(packet.NewSpace(), before, after, now).Changes {
			fmt.Fprintf(&b, "%s %s: %s\non %s\n%s\nnow %s by %s (%s)\nbefore %s by %s (%s)\n\n", f.Kind, f.Direction, f.Sentence,
				strings.Join(f.Hosts, ", "), f.Packet,
				f.To.Manner(), f.To.By, f.To.At, f.From.Manner(), f.From.By, f.From.At)
		}
		golden := "testdata/compared-" + c.name + ".txt"
		if *update {
			require.NoError(t, os.WriteFile(golden, []byte(b.String()), 0o644))
		}
		want, err := os.ReadFile(golden)
		require.NoError(t, err)
		require.Equal(t, string(want), b.String(), c.name)
	}
}

// TestHostsOfOneFleetOnly are named; the others are compared.
func TestHostsOfOneFleetOnly(t *testing.T) {
	before := policytest.Saltmarsh(t, "../..")
	fl := &fleet.Fleet{Service: before.Fleet.Service}
	for _, h := range before.Fleet.Hosts {
		if h.Name != "broker-02" {
			fl.Hosts = append(fl.Hosts, h)
		}
	}
	in, _ := policy.Read(policytest.SaltmarshFiles(t, "../.."), fl)
	after, problems := policy.Resolve(in)
	require.Empty(t, problems)
	changes := compare.Policies(packet.NewSpace(), before, after, now)
	require.Equal(t, []string{"broker-02"}, changes.Removed)
	require.Empty(t, changes.Added)
	require.NotEmpty(t, changes.Changes, "where broker-02 was a peer")
	changes = compare.Policies(packet.NewSpace(), after, before, now)
	require.Equal(t, []string{"broker-02"}, changes.Added)
}

// TestChangesAgreeWithPackets: of two random policies every packet that fares
// otherwise is in a change, and the packet of every change fares as it says.
func TestChangesAgreeWithPackets(t *testing.T) {
	differ, same := 0, 0
	for seed := range policytest.Trials(13) {
		rng := rand.New(rand.NewPCG(31, seed))
		text := policytest.Random(rng)
		lines := strings.Split(strings.TrimSpace(text), "\n")
		changed := strings.Join(lines[:len(lines)-1], "\n") + "\n" // the last rule goes
		before, after := policytest.Resolve(t, policytest.Fleet, text), policytest.Resolve(t, policytest.Fleet, changed)
		sp := packet.NewSpace()
		changes := compare.Policies(sp, before, after, now)
		kinds := map[string]bool{}
		for _, f := range changes.Changes {
			for _, name := range f.Hosts {
				was := sp.Outcome(compile.ForHost(sp, before, before.Fleet.Host(name), now).Decision(sp), f.Packet)
				is := sp.Outcome(compile.ForHost(sp, after, after.Fleet.Host(name), now).Decision(sp), f.Packet)
				opened, shut := is.Verdict == packet.Admit && was.Verdict != packet.Admit, was.Verdict == packet.Admit &&
					is.Verdict != packet.Admit
				require.Equal(t, []bool{f.Kind == compare.Opened, f.Kind == compare.Shut}, []bool{opened, shut}, "seed %d: %s\n%s\n%s",
					seed, f.Sentence, f.Packet, text)
				kinds[name] = true
			}
		}
		for _, h := range before.Fleet.Hosts {
			a, b := compile.ForHost(sp, before, h, now).Decision(sp), compile.ForHost(sp, after, after.Fleet.Host(h.Name), now).Decision(sp)
			require.Equal(t, a != b, kinds[h.Name], "seed %d: %s\n%s", seed, h.Name, text)
			if a != b {
				differ++
			} else {
				same++
			}
		}
	}
	require.Greater(t, differ, 10)
	require.Greater(t, same, 10)
}

// TestTranslationIsSaid: a redirect that comes or goes is what changes, and is named.
func TestTranslationIsSaid(t *testing.T) {
	const door = "allow door: everywhere -> tide : tcp 1234 knowingly redirect-around \"log-in\"\n"
	for _, c := range []struct{ what, before, after, want string }{
		{"a new door", "", door + "redirect r: everywhere -> tide : tcp 1234 to tcp 22\n",
			"tcp 1234 from everywhere (IPv4) newly gets in, redirected to port 22."},
		{"one that was there leads elsewhere", door, door + "redirect r: everywhere -> tide : tcp 1234 to tcp 22\n",
			"tcp 1234 from everywhere (IPv4) is admitted, redirected to port 22, and was admitted as it is."},
		{"and no longer", door + "redirect r: everywhere -> tide : tcp 1234 to tcp 22\n", door,
			"tcp 1234 from everywhere (IPv4) is admitted as it is, and was admitted, redirected to port 22."},
	} {
		t.Run(c.what, func(t *testing.T) {
			resolve := func(text string) *policy.Policy {
				return policytest.Resolve(t, stagesFleet("10.40.1.20"), stagesHead+text)
			}
			var got []string
			for _, d := range compare.Policies(packet.NewSpace(), resolve(c.before), resolve(c.after), 0).Changes {
				got = append(got, d.Sentence)
			}
			require.Contains(t, got, c.want)
		})
	}
}
