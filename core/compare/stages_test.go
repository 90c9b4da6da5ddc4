package compare_test

import (
	"fmt"
	"math/rand/v2"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/compare"
	"yellowfence.example/yfence/core/dialect/nft"
	"yellowfence.example/yfence/core/dialect/nft/nfttest"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy/policytest"
	"yellowfence.example/yfence/core/say"
)

// stagesFleet is one host between two networks, and another beside it.
func stagesFleet(beside string) string {
	return `{"hosts": [
		{"name": "tide-01", "roles": ["tide"], "dialect": "nft", "interfaces": [{"name": "eth0", "addresses": ["203.0.113.10/24"]}, {"name": "eth1", "addresses": ["10.40.1.10/24"]}]},
		{"name": "buoy-01", "roles": ["buoy"], "dialect": "nft", "interfaces": [{"name": "eth0", "addresses": ["` + beside + `/24"]}]}]}`
}

const stagesHead = `policy stages language 1
role tide
role buoy
segment quay = 10.40.1.0/24
`

// TestBehind: what is published and not settled is told from what somebody changed, each with
// the revision that it is of.
func TestBehind(t *testing.T) {
	era := func(revision, generation int64, beside, text string) compare.Era {
		return compare.Era{Policy: policytest.Resolve(t, stagesFleet(beside), stagesHead+text), Revision: revision, Generation: generation}
	}
	const web, ssh = "allow web: everywhere -> tide : http\n", "allow login: quay -> tide : ssh guard\n"
	for _, c := range []struct {
		what  string
		eras  []compare.Era
		edit  func(rules string) string
		state string
		want  []string
	}{
		{"nothing was published since", []compare.Era{era(3, 1, "10.40.1.20", web+ssh)}, nil, "in step", nil},
		{"a narrower revision", []compare.Era{era(3, 1, "10.40.1.20", web+ssh), era(4, 1, "10.40.1.20", ssh)}, nil, "behind",
			[]string{"opened behind 4: tcp 80 from everywhere still gets in: as of revision 4 nothing in the policy admits it; that is " +
				"not settled here."}},
		{"a block", []compare.Era{era(3, 1, "10.40.1.20", web+ssh),
			era(4, 1, "10.40.1.20", web+ssh+"block pests: 198.51.100.0/24 -> tide : http\n")}, nil, "behind",
			[]string{"opened behind 4: tcp 80 from 198.51.100.0/24 still gets in: as of revision 4 block pests refuses it; that is not " +
				"settled here."}},
		{"two revisions, each with a change of its own",
			[]compare.Era{era(3, 1, "10.40.1.20", web+ssh), era(4, 1, "10.40.1.20", ssh),
				era(5, 1, "10.40.1.20", ssh+"allow dns: quay -> tide : domain\n")}, nil, "behind",
			[]string{"opened behind 4: tcp 80 from everywhere still gets in: as of revision 4 nothing in the policy admits it; that is " +
				"not settled here.",
				"shut behind 5: tcp 53, udp 53 from quay does not get in yet: as of revision 5 allow dns admits it; that is not " +
					"settled here."}},
		{"a peer moved", []compare.Era{era(3, 1, "10.40.1.20", ssh+"allow feed: buoy -> tide : tcp 7000\n"),
			era(3, 2, "10.40.1.21", ssh+"allow feed: buoy -> tide : tcp 7000\n")}, nil, "behind",
			[]string{"opened behind 3: tcp 7000 from 10.40.1.20 still gets in: as of generation 2 of the fleet nothing in the policy " +
				"admits it; that is not settled here.",
				"shut behind 3: tcp 7000 from buoy does not get in yet: as of generation 2 of the fleet allow feed admits it; that is " +
					"not settled here."}},
		{"somebody opened a port besides", []compare.Era{era(3, 1, "10.40.1.20", web+ssh), era(4, 1, "10.40.1.20", ssh)},
			func(rules string) string {
				return strings.Replace(rules, "hook input priority filter; policy drop;\n",
					"hook input priority filter; policy drop;\n\t\ttcp dport 9000 accept\n", 1)
			}, "drifted",
			[]string{"opened changed 3: tcp 9000 from everywhere gets in; nothing in the policy admits it.",
				"opened behind 4: tcp 80 from everywhere still gets in: as of revision 4 nothing in the policy admits it; that is not " +
					"settled here."}},
		{"somebody did by hand what is published",
			[]compare.Era{era(3, 1, "10.40.1.20", ssh), era(4, 1, "10.40.1.20", ssh+"allow feed: 198.51.100.7 -> tide : tcp 9000\n")},
			func(rules string) string {
				return strings.Replace(rules, "hook input priority filter; policy drop;\n",
					"hook input priority filter; policy drop;\n\t\tip saddr 198.51.100.7 tcp dport 9000 ct state new,untracked accept\n", 1)
			}, "in step", []string{"cosmetic changed 0: The rules are written differently from what was settled, and mean exactly the " +
				"same for every packet."}},
		{"written otherwise", []compare.Era{era(3, 1, "10.40.1.20", ssh+web),
			era(4, 1, "10.40.1.20", ssh+strings.Replace(web, "web", "site", 1))}, nil, "in step",
			[]string{"cosmetic behind 0: What is published is written differently from what was settled here, and means exactly the same " +
				"for every packet."}},
	} {
		t.Run(c.what, func(t *testing.T) {
			sp := packet.NewSpace()
			sp.Since(0)
			last := c.eras[len(c.eras)-1].Policy
			stages := compare.Stages(sp, c.eras, "tide-01", 0)
			_, rules, _ := strings.Cut(nfttest.Written(t, sp, stages[0].Plan), "\n\n")
			if c.edit != nil {
				before := rules
				rules = c.edit(rules)
				require.NotEqual(t, before, rules)
			}
			live, err := nft.ReadText(sp, "", []byte(rules), nil)
			require.NoError(t, err)
			told := func(res *compare.Result) (got []string) {
				for _, f := range res.Findings {
					got = append(got, fmt.Sprintf("%s %s %d: %s", f.Kind, f.Because, f.Revision, f.Sentence))
				}
				return got
			}
			res := compare.DriftSince(sp, say.NamesOf(last), stages, live)
			require.Equal(t, c.state, res.State())
			require.Equal(t, c.want, told(res))
			if c.edit == nil && len(c.eras) > 1 { // then the rules need not be read to be told of
				of, ok := compare.NewLag(c.eras, say.NamesOf(last), 0, 4e6).Of("tide-01")
				require.True(t, ok)
				require.Equal(t, told(res), told(of))
				require.Equal(t, res.State(), of.State())
			}
		})
	}
}

// rates are limits: which bucket of a dump is which of the policy's is for other tests.
var rates = regexp.MustCompile(` (at most|up to) \d+ per \w+( per source)?`)

// TestBehindOrChanged: over random policies and edits, each finding is of the cause that it
// names, and no packet is left out that either cause makes otherwise than is published.
func TestBehindOrChanged(t *testing.T) {
	rng := rand.New(rand.NewPCG(14, 2))
	seen := map[compare.Because]int{}
	for range policytest.Trials(10) {
		random := func() string { return rates.ReplaceAllString(policytest.WithoutRouters(policytest.Random(rng)), "") }
		asked, now := random(), random()
		eras := []compare.Era{{Policy: policytest.Resolve(t, policytest.Fleet, asked), Revision: 1},
			{Policy: policytest.Resolve(t, policytest.Fleet, now), Revision: 2}}
		for _, h := range eras[0].Policy.Fleet.Hosts {
			sp := packet.NewSpace()
			sp.Since(0)
			stages := compare.Stages(sp, eras, h.Name, 0)
			_, rules, _ := strings.Cut(nfttest.Written(t, sp, stages[0].Plan), "\n\n")
			lines := strings.Split(rules, "\n")
			if at := rng.IntN(len(lines)); strings.HasSuffix(lines[at], `"`) && rng.IntN(2) == 0 { // a rule is gone
				lines = append(lines[:at], lines[at+1:]...)
			}
			live, err := nft.ReadText(sp, "", []byte(strings.Join(lines, "\n")), nil)
			require.NoError(t, err)
			res := compare.DriftSince(sp, say.NamesOf(eras[1].Policy), stages, live)
			in, had, is := sp.WithinLimits(live.Decision(sp)), sp.WithinLimits(stages[0].Plan.Decision(sp)),
				sp.WithinLimits(stages[1].Plan.Decision(sp))
			found := map[compare.Because]bool{}
			for _, f := range res.Findings {
				if f.Kind == compare.Cosmetic {
					continue
				}
				found[f.Because] = true
				seen[f.Because]++
				does, was, published := sp.Outcome(in, *f.Packet).Verdict, sp.Outcome(had, *f.Packet).Verdict,
					sp.Outcome(is, *f.Packet).Verdict
				if f.Kind == compare.Altered { // it may be the log
					continue
				}
				require.NotEqual(t, published, does, "%s\n%s\n%#v %s\n%s\n%s\n%s\n%s", f.Sentence, h.Name, *f.Packet, f.Live, f.Published,
					asked, now, strings.Join(lines, "\n"))
				require.Equal(t, f.Because == compare.Changed, (does == packet.Admit) != (was == packet.Admit), "%s: %s", f.Because,
					f.Sentence)
			}
			admits := func(o packet.Outcome) bool { return o.Verdict == packet.Admit }
			does, should, will := sp.Where(in, admits), sp.Where(had, admits), sp.Where(is, admits)
			differ := func(a, b packet.Set) packet.Set { return sp.Or(sp.Minus(a, b), sp.Minus(b, a)) }
			about := sp.Minus(sp.WellFormed(), stages[1].Plan.Left(sp))
			changed, behind := sp.AndAll(about, differ(does, will), differ(does, should)),
				sp.AndAll(about, differ(should, will), sp.Not(differ(does, should)))
			require.True(t, changed == packet.Empty || found[compare.Changed], "changed %s\n%v\n%s\n%s\n%s", h.Name, res.Findings, asked,
				now, strings.Join(lines, "\n"))
			require.True(t, behind == packet.Empty || found[compare.Behind], "behind %s\n%v\n%s\n%s\n%s", h.Name, res.Findings, asked,
				now, strings.Join(lines, "\n"))
		}
	}
	require.Positive(t, seen[compare.Changed])
	require.Positive(t, seen[compare.Behind])
}
