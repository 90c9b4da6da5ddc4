package testbed

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/dialect"
	"yellowfence.example/yfence/core/dialect/iptables"
	"yellowfence.example/yfence/core/dialect/nft"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/core/policy/policytest"
	"yellowfence.example/yfence/internal/host"
	"yellowfence.example/yfence/internal/host/apply"
	"yellowfence.example/yfence/internal/live"
)

// hostKinds are the kinds of hosts whose rules we write: by dialect, and which of
// the two kinds of the tools of iptables makes them.
var hostKinds = []struct {
	name   string
	form   dialect.Form
	legacy bool
}{{"nft", nft.Form{}, false}, {"legacy", iptables.Form{}, true}, {"nft-backed", iptables.Form{}, false}}

// legacyTables makes a namespace one whose rules are those of legacy iptables.
func legacyTables(t *testing.T, ns *Namespace) {
	t.Helper()
	for _, tool := range []string{"iptables-legacy-restore", "ip6tables-legacy-restore"} {
		if _, err := ns.Run([]byte(emptyTables), tool); err != nil { // kernels may be built without
			if os.Getenv("CI") != "" {
				t.Fatal("the kernel must judge in CI: ", err)
			}
			t.Skip("NOT JUDGED BY THE KERNEL: ", err)
		}
	}
}

// settle puts a plan in force as a host does.
func settle(t testing.TB, ns *Namespace, form dialect.Form, sp *packet.Space, plan *compile.Plan) (text string, absent []string) {
	t.Helper()
	files, err := form.Write(sp, plan)
	require.NoError(t, err)
	text = api.TextOf(files)
	require.NoError(t, ns.Do(func() (err error) {
		absent, err = apply.Load(context.Background(), files)
		return err
	}), text)
	return text, absent
}

// TestWhatIsWrittenReadsBack puts our rules in force in a kernel of each kind, twice,
// and reads what the host reports: it must be the policy's very decision, with
// nothing cosmetic, and whatever is not ours must stand as it stood.
func TestWhatIsWrittenReadsBack(t *testing.T) {
	need(t)
	policies := []*policy.Policy{policytest.Saltmarsh(t, "../..")}
	for seed := range uint64(8) {
		policies = append(policies, policytest.Resolve(t, policytest.Fleet, policytest.Random(rand.New(rand.NewPCG(11, seed)))))
	}
	policies = append(policies, policytest.Resolve(t, policytest.Fleet,
		"policy p language 1\nrole red\nrole blue\nrole green\nground {\n  replies off\n  invalid off\n}\nallow a: everywhere -> fleet : "+
			"ssh  guard\n"))
	unit(t, "mirror.service")
	for _, kind := range hostKinds {
		t.Run(kind.name, func(t *testing.T) {
			ns, err := NewNamespace(own("yf-roundtrip"))
			require.NoError(t, err)
			defer func() { require.NoError(t, ns.Close()) }()
			if kind.legacy {
				legacyTables(t, ns)
			}
			tool := "iptables-" + map[bool]string{true: "legacy", false: "nft"}[kind.legacy]
			says := func(args ...string) string {
				out, err := ns.Run(nil, args[0], args[1:]...)
				require.NoError(t, err)
				return string(out)
			}
			others := func() string { // what we must not touch
				return says("nft", "-s", "list", "table", "inet", "others") + says(tool, "-t", "mangle", "-S")
			}
			all := func() string {
				if kind.legacy {
					return says(tool, "-S") + says("ip6tables-legacy", "-S") + says("ipset", "list", "-n")
				}
				return says("nft", "-s", "list", "ruleset")
			}
			require.NoError(t, ns.Load("table inet others {\n\tchain c {\n\t\ttcp dport 22 accept\n\t}\n}\n"))
			_, err = ns.Run([]byte("*mangle\n-A INPUT -p tcp --dport 80 -j ACCEPT\nCOMMIT\n"), tool+"-restore")
			require.NoError(t, err)
			before := others()
			for i, pol := range policies {
				for _, h := range pol.Fleet.Hosts {
					if h.Dialect == fleet.NoFilter {
						continue
					}
					sp := packet.NewSpace()
					plan := compile.ForHost(sp, pol, h, 0)
					text, absent := settle(t, ns, kind.form, sp, plan)
					once := all()
					settle(t, ns, kind.form, sp, plan)
					require.Equal(t, once, all(), "settling twice changes something")
					require.Equal(t, before, others())
					var r api.Report
					require.NoError(t, ns.Do(func() (err error) {
						r, err = (&host.Machine{}).Report(context.Background(), "h")
						return err
					}))
					require.Subset(t, r.Names.Absent, absent)
					// of a host without addresses
					r.Dumps = slices.DeleteFunc(r.Dumps, func(d api.Dump) bool { return d.Kind == dialect.ListingRoutes })
					live, err := live.Read(sp, r.InForce)
					require.NoError(t, err)
					live.Routes = kernel.RoutesOf(h)
					require.Equal(t, plan.Decision(sp), live.Decision(sp), "policy %d host %s\n%s", i, h.Name, text)
					ours := kind.form.Rules(sp, plan)
					require.Equal(t, ours.Signature(sp, kind.form.Ours), live.Signature(sp, kind.form.Ours), "policy %d host %s", i, h.Name)
				}
			}
		})
	}
}

// unit makes a control group like that of a system service.
func unit(t *testing.T, name string) nft.Filling {
	t.Helper()
	root := "/sys/fs/cgroup"
	if _, err := os.Stat(root + "/cgroup.controllers"); err != nil {
		root += "/unified" // the older layout, where version 2 lies beside version 1
	}
	slice := fmt.Sprintf("%s/yftest%d.slice", root, os.Getpid())
	require.NoError(t, os.MkdirAll(slice+"/"+name, 0o755))
	t.Cleanup(func() {
		require.NoError(t, os.Remove(slice+"/"+name))
		_ = os.Remove(slice)
	})
	path, err := filepath.Rel("/sys/fs/cgroup", slice+"/"+name)
	require.NoError(t, err)
	return nft.Filling{Element: fmt.Sprintf("%q", path), Level: 2}
}

// TestPoliciesHoldInTheKernel sends packets through the rules of random policies, in
// each form that they are written in, and holds the kernel's verdicts against what
// the policies mean.
func TestPoliciesHoldInTheKernel(t *testing.T) {
	need(t)
	for _, kind := range hostKinds {
		t.Run(kind.name, func(t *testing.T) {
			j, err := NewJudge(own("yf-policy"))
			require.NoError(t, err)
			defer func() { require.NoError(t, j.Close()) }()
			if kind.legacy {
				legacyTables(t, j.Host)
			}
			j.Tracks = [2]bool{true, true} // as our rules always make it
			count, translated := map[string]int{}, false
			for n := range max(20, *verdicts/1200) { // a tenth of all verdicts
				rng := rand.New(rand.NewPCG(12+*seed, uint64(n)))
				text := policytest.Random(rng)
				pol := policytest.Resolve(t, policytest.Fleet, text)
				sp, now := packet.NewSpace(), time.Now().Unix() // as the kernel has it: some rules have begun or ended
				sp.Since(now)
				plan := compile.ForHost(sp, pol, pol.Fleet.Host("h1"), now) // whose interfaces are the judge's
				rules, absent := settle(t, j.Host, kind.form, sp, plan)
				for _, who := range absent { // and to the host nobody is who it does not have
					kind, name, _ := strings.Cut(who, " ")
					sp.Without(map[string]packet.Field{"user": packet.User, "unit": packet.Unit}[kind], name)
				}
				require.NoError(t, j.forget())
				decision := plan.Decision(sp)
				var packets []packet.Packet
				for i := range 40 {
					p := randomPacket(rng, int(j.tag)+i)
					if len(packet.Buckets(sp, sp.Only(decision, sp.Exactly(p)))) == 0 { // which have a test of their own
						packets = append(packets, p)
					}
				}
				translated = translated && kind.name != "nft" || len(plan.Translations) > 0 // whose tables stay
				if translated {
					decision, packets = translatable(sp, decision, packets)
				}
				wrong := hold(t, j, sp, decision, packets, count)
				require.Nil(t, wrong, "seed %d policy %d\n%s\n%s", *seed, n, text, rules)
			}
			t.Logf("verdicts of the kernel, by direction: %v", count)
			for _, seen := range []string{"in admitted", "in dropped", "in rejected", "out admitted", "out dropped"} {
				require.Positive(t, count[seen], seen)
			}
		})
	}
}
