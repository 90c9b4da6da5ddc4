package compare_test

import (
	"fmt"
	"math/rand/v2"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/compare"
	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/dialect/nft"
	"yellowfence.example/yfence/core/dialect/nft/nfttest"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/core/policy/policytest"
	"yellowfence.example/yfence/core/say"
)

// dumper lists rules that we wrote as `nft -a list ruleset` would on each host:
// with its own handles and counts, and its own table beside ours.
type dumper struct {
	pol     *policy.Policy
	classes *compile.Classes
	byClass map[string][]string // lines
	rng     *rand.Rand
}

func newDumper(pol *policy.Policy) *dumper {
	return &dumper{pol, compile.ClassesOf(pol), map[string][]string{}, rand.New(rand.NewPCG(1, 1))}
}

func (d *dumper) dump(t testing.TB, h *fleet.Host) string {
	class := d.classes.Of(h)
	lines := d.byClass[class]
	if lines == nil {
		sp := packet.NewSpace()
		text := nfttest.Written(t, sp, compile.ForHost(sp, d.pol, h, 0))
		_, ours, _ := strings.Cut(text, "\n\n")
		lines = strings.Split(strings.TrimSpace(ours), "\n")
		d.byClass[class] = lines
	}
	var b strings.Builder
	for _, line := range lines {
		b.WriteString(line)
		if strings.HasSuffix(line, `"`) {
			fmt.Fprintf(&b, " # handle %d", 10+d.rng.IntN(1e6))
		}
		b.WriteByte('\n')
	}
	fmt.Fprintf(&b, "table ip counts-of-%s {\n\tchain seen {\n\t\ttype filter hook input priority raw; policy accept;\n\t\tcounter "+
		"packets %d bytes %d accept # handle 4\n\t}\n}\n", h.Name, d.rng.Uint32(), d.rng.Uint32())
	return b.String()
}

// byHand changes a dump as somebody may have changed the host.
func (d *dumper) byHand(dump string) string {
	rule := fmt.Sprintf("\t\ttcp dport %d accept # handle 99\n", 1024+d.rng.IntN(60000))
	const policy = "hook input priority filter; policy drop;\n"
	return strings.Replace(dump, policy, policy+rule, 1)
}

// explained is what Drift says of a host's dump.
func explained(t testing.TB, pol *policy.Policy, all *say.Names, h *fleet.Host, dump string, names *kernel.Names) *compare.Result {
	sp := packet.NewSpace()
	sp.Since(0)
	plan := compile.ForHost(sp, pol, h, 0)
	read := func() (*kernel.Ruleset, error) { return nft.ReadText(sp, "", []byte(dump), names) }
	if strings.HasPrefix(dump, "{") {
		read = func() (*kernel.Ruleset, error) { return nft.ReadJSON(sp, []byte(dump), names) }
	}
	rs, err := read()
	require.NoError(t, err)
	return compare.Drift(sp, all, plan, rs)
}

// TestWatch holds the short answer against the long one: on dumps that differ
// only in handles, counts and tables that do nothing, and on changed ones.
func TestWatch(t *testing.T) {
	pol := policytest.LargeFleet(t, 600)
	all, dumps, watch := say.NamesOf(pol), newDumper(pol), compare.NewWatch(pol, 0, 1<<24)
	for i, h := range pol.Fleet.Hosts {
		dump := dumps.dump(t, h)
		res, ok := watch.InStep(h, []byte(dump), nil)
		require.True(t, ok, h.Name)
		if i%50 == 0 {
			require.Equal(t, explained(t, pol, all, h, dump, nil), res)
		}
	}
	h := pol.Fleet.Hosts[7]
	whole := dumps.dump(t, h)
	for name, c := range map[string]struct {
		dump, state string
		cosmetic    bool
	}{
		"a rule too many": {dump: dumps.byHand(whole), state: "drifted"},
		"a comment changed": {dump: strings.Replace(whole, `comment "ground replies"`, `comment "mine"`, 1), state: "in step",
			cosmetic: true},
		"a counter in another rule": {dump: strings.Replace(whole, " ct state", " counter packets 4 bytes 5 ct state", 1),
			state: "in step"},
		"a table that drops": {dump: whole +
			"table inet mine {\n\tchain c {\n\t\ttype filter hook input priority raw; policy accept;\n\t\ttcp dport 22 drop # handle " +
			"3\n\t}\n}\n", state: "drifted"},
		"a table nobody knows": {dump: whole +
			"table inet mine {\n\tchain c {\n\t\ttype filter hook input priority raw; policy accept;\n\t\tsomething new drop # handle " +
			"3\n\t}\n}\n", state: "unread"},
		"nothing":                   {dump: `{"nftables": [{"metainfo": {"json_schema_version": 1}}]}`, state: "bare"},
		"the rules of another host": {dump: dumps.dump(t, pol.Fleet.Hosts[8]), state: "drifted"},
		"only half of it":           {dump: whole[:strings.Index(whole, "\tchain outbound")] + "}\n", state: "drifted"},
	} {
		slow := explained(t, pol, all, h, c.dump, nil)
		require.Equal(t, c.state, slow.State(), name)
		require.Equal(t, c.cosmetic, len(slow.Findings) > 0 && slow.State() == "in step", name)
		res, ok := watch.InStep(h, []byte(c.dump), nil)
		require.Equal(t, c.state == "in step" && !c.cosmetic, ok, name)
		if ok {
			require.Equal(t, slow, res)
		}
	}
	_, ok := watch.InStep(h, []byte(whole[:len(whole)/2]), nil)
	require.False(t, ok, "a dump cut in half")
	_, ok = watch.InStep(h, []byte(whole), &kernel.Names{Absent: []string{"user x"}})
	require.False(t, ok)
	_, ok = compare.NewWatch(pol, 0, 100).InStep(h, []byte(whole), nil)
	require.False(t, ok, "there is no room to tell")
}

// TestWatchReports goes over the demo's recorded reports, which are in the JSON form.
func TestWatchReports(t *testing.T) {
	pol := policytest.Saltmarsh(t, "../..")
	all, watch, in := say.NamesOf(pol), compare.NewWatch(pol, 0, 1<<24), 0
	for _, h := range pol.Fleet.Hosts {
		if h.Dialect != "nft" || h.HasRole("pilotage") || h.HasRole("lockgate") { // which translate
			continue
		}
		dump, names := recorded(t, h)
		slow := explained(t, pol, all, h, string(dump), names)
		res, ok := watch.InStep(h, dump, names)
		if ok {
			require.Equal(t, slow, res, h.Name)
			in++
		} else if names == nil || len(names.Absent) == 0 {
			require.NotEmpty(t, slow.Findings, h.Name)
		}
	}
	require.Greater(t, in, 5)
	require.True(t, watch.Good(0))
}

// TestForWhichInstants: what was worked out for an instant holds from it on until the policy turns, and not before it.
func TestForWhichInstants(t *testing.T) {
	pol := policytest.Resolve(t, policytest.Fleet, "policy p language 1\nrole red\nrole blue\nrole green\n"+
		"allow a: green -> blue : ssh  from 2027-01-04T06:00Z until 2027-01-04T08:00Z\n")
	six := time.Date(2027, 1, 4, 6, 0, 0, 0, time.UTC).Unix()
	const hour = 3600
	eras := []compare.Era{{Policy: pol, Revision: 1}, {Policy: pol, Revision: 2}}
	for _, c := range []struct {
		begun int64
		good  []bool // an hour before six, a second before it, at six, at seven, a second before eight, at eight, at nine
	}{
		{six - hour, []bool{true, true, false, false, false, false, false}},
		{six, []bool{false, false, true, true, true, false, false}},
		{six + hour, []bool{false, false, false, true, true, false, false}},
		{six + 2*hour, []bool{false, false, false, false, false, true, true}},
	} {
		watch, lag := compare.NewWatch(pol, c.begun, 1000), compare.NewLag(eras, say.NamesOf(pol), c.begun, 1000)
		for i, now := range []int64{six - hour, six - 1, six, six + hour, six + 2*hour - 1, six + 2*hour, six + 3*hour} {
			require.Equal(t, c.good[i], watch.Good(now), "%d at %d", c.begun-six, now-six)
			require.Equal(t, c.good[i], lag.Good(now), "%d at %d", c.begun-six, now-six)
			require.Equal(t, now < c.begun, watch.Ahead(now))
		}
	}
}

// BenchmarkDrift holds 10,000 reports against a policy of 2,000 statements. Each
// is a dump of its own, and on one host in a hundred somebody opened a port by
// hand, which is explained in full. The ratio "of-explaining-each" is to explaining
// in full what every host does.
func BenchmarkDrift(b *testing.B) {
	const hosts, oneIn = 10_000, 100
	pol := policytest.LargeFleet(b, hosts)
	names, dumps := say.NamesOf(pol), newDumper(pol)
	reports, size := make([][]byte, hosts), 0
	for i, h := range pol.Fleet.Hosts {
		dump := dumps.dump(b, h)
		if i%oneIn == 0 {
			dump = dumps.byHand(dump)
		}
		reports[i], size = []byte(dump), size+len(dump)
	}
	b.SetBytes(int64(size))
	for b.Loop() {
		watch := compare.NewWatch(pol, 0, 1<<24)
		var next, drifted atomic.Int64
		var all sync.WaitGroup
		for range runtime.GOMAXPROCS(0) {
			all.Go(func() {
				for i := next.Add(1) - 1; i < hosts; i = next.Add(1) - 1 {
					h := pol.Fleet.Hosts[i]
					if _, ok := watch.InStep(h, reports[i], nil); !ok &&
						explained(b, pol, names, h, string(reports[i]), nil).State() == "drifted" {
						drifted.Add(1)
					}
				}
			})
		}
		all.Wait()
		require.EqualValues(b, hosts/oneIn, drifted.Load())
	}
	took := b.Elapsed().Seconds() / float64(b.N) / hosts
	b.ReportMetric(took*1e6, "µs/host")
	const some = 50
	began := time.Now()
	for i, h := range pol.Fleet.Hosts[1 : some+1] {
		explained(b, pol, names, h, string(reports[i+1]), nil)
	}
	b.ReportMetric(took/(time.Since(began).Seconds()/some), "of-explaining-each")
}
