package ask_test

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/ask"
	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/dialect/nft"
	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/core/policy/policytest"
)

const now = 1795564800 // 2026-11-25

// said is an answer in a few lines.
func said(a *ask.Answer) string {
	lines := []string{a.Verdict}
	for _, e := range a.Examples {
		lines = append(lines, fmt.Sprintf("%s: %s [%s]", e.Verdict, e.Traffic, e.Packet))
	}
	for _, s := range a.Steps {
		most := ""
		if s.AtMost != "" {
			most = " at most " + s.AtMost
		}
		lines = append(lines, strings.TrimSpace(fmt.Sprintf("%s %s%s by %s %s", s.Where, s.Verdict, most, s.By, s.At)))
	}
	for _, u := range a.Unread {
		lines = append(lines, "unread: "+u)
	}
	return strings.Join(lines, "\n")
}

// TestSaltmarshIsAsked asks the questions of an operator's day.
func TestSaltmarshIsAsked(t *testing.T) {
	asker := ask.NewAsker(policytest.Saltmarsh(t, "../.."))
	for _, c := range []struct{ question, want string }{
		{"crew-vpn -> jump-01 : ssh", `admitted
admitted: tcp 22 from crew-vpn to jump [tcp 198.51.100.1 port 50000 -> 203.0.113.65 port 22 in by eth0]
jump-01 inbound admitted by allow way-in rules.fence:16:7`},
		{"pilotage -> logbook : postgresql", `admitted
admitted: tcp 5432 from pilotage to logbook [tcp 203.0.113.72 port 50000 -> 10.40.3.40 port 5432 in by eth1]
pilotage-01 outbound admitted by allow logbook-db rules.fence:4:7
logbook-01 inbound admitted by allow logbook-db rules.fence:4:7`},
		{"beacon -> logbook : postgresql", `dropped
dropped: tcp 5432 from beacon to logbook [tcp 10.40.4.11 port 50000 -> 10.40.3.40 port 5432 in by eth1]
beacon outbound dropped by stance outbound closed
logbook-01 inbound dropped by stance inbound closed`},
		{"depot -> logbook : ssh", `mixed
admitted: tcp 22 from depot to logbook from unit backup.service [tcp 10.60.5.50 port 50000 -> 10.40.3.40 port 22 in by eth2 from unit backup.service]
dropped: tcp 22 from depot to logbook not from unit backup.service [tcp 10.60.5.50 port 50000 -> 10.40.3.40 port 22 in by eth2]
depot-01 outbound dropped by stance outbound closed
depot-01 outbound admitted by allow nightly rules.fence:10:7
logbook-01 inbound admitted by allow nightly rules.fence:10:7`},
		{"depot -> logbook : ssh unit backup.service", `admitted
admitted: tcp 22 from depot to logbook from unit backup.service [tcp 10.60.5.50 port 50000 -> 10.40.3.40 port 22 in by eth2 from unit backup.service]
depot-01 outbound admitted by allow nightly rules.fence:10:7
logbook-01 inbound admitted by allow nightly rules.fence:10:7`},
		{"in at eth0 192.0.2.99 -> jump : ssh", `admitted
admitted: tcp 22 from 192.0.2.99 to jump (IPv4) [tcp 192.0.2.99 port 50000 -> 203.0.113.65 port 22 in by eth0]
jump-01 inbound admitted at most 4 per 1m per source by allow front-door rules.fence:18:7`},
		{"out watch -> suppliers : smtp", `admitted
admitted: tcp 25 from watch to suppliers [tcp 10.40.6.60 port 50000 -> 192.0.2.11 port 25 out by eth1]
watch-01 outbound admitted by allow alert-mail rules.fence:25:7`},
		{"charts -> everywhere : smtp", `rejected
rejected: tcp 25 from charts to everywhere [tcp 203.0.113.70 port 50000 -> 192.0.2.7 port 25 out by eth0]
charts outbound rejected by block no-mail rules.fence:24:7
jump-01, lockgate-01, beacon, charts, pilotage-01, logbook-01, depot-01, watch-01 inbound dropped by stance inbound closed
broker inbound rejected by stance inbound closed`},
		{"charts-01 -> charts-01 : http", `admitted
admitted: tcp 80 from host charts-01 to host charts-01 [tcp 203.0.113.70 port 50000 -> 203.0.113.70 port 80 in by lo]
charts-01 outbound admitted by ground loopback
charts-01 inbound admitted by ground loopback`},
		{"in office -> 203.0.113.70 : http", `admitted
admitted: tcp 80 from office (IPv4) to 203.0.113.70 [tcp 203.0.113.1 port 50000 -> 203.0.113.70 port 80 in by eth0]
charts-01 inbound admitted by allow chart-web rules.fence:5:7`},
		{"office -> broker : ssh state established", `admitted
admitted: tcp 22 from office to broker [tcp 203.0.113.1 port 50000 -> 10.40.2.21 port 22 in by eth1 (established)]
broker inbound admitted by ground replies`},
	} {
		q, problems := fence.ParseQuestion(c.question)
		require.Empty(t, problems)
		a, problems := asker.Policy(q, now)
		require.Empty(t, problems, c.question)
		require.Equal(t, c.want, said(a), c.question)
	}
	for question, want := range map[string]string{
		"office -> crew-vpn : ssh":         "neither office nor crew-vpn is ours: no host of the fleet decides",
		"in office -> crew-vpn : ssh":      "nothing comes in at crew-vpn, which is no host of ours",
		"out office -> jump : ssh":         "nothing goes out at office, which is no host of ours",
		"through office -> jump : ssh":     "no rule in force says through which routers office goes to jump",
		"jump-1 -> fleet : ssh":            `no host, role, network or segment is named "jump-1"`,
		"jump -> fleet : shs":              `no service is named "shs"`,
		"jump-01 at office -> fleet : shs": `no service is named "shs"`,
	} {
		q, problems := fence.ParseQuestion(question)
		require.Empty(t, problems)
		_, problems = asker.Policy(q, now)
		require.NotEmpty(t, problems, question)
		require.Equal(t, want, problems[0].Message, question)
	}
}

// handle is a number that a rule has anew each time it is loaded.
var handle = regexp.MustCompile(`handle \d+`)

// TestADumpIsAsked asks what a kernel has in force.
func TestADumpIsAsked(t *testing.T) {
	recorded, err := os.ReadFile("../../demo/recorded/logbook-01.json")
	require.NoError(t, err)
	var report struct {
		Dumps []struct{ Text string }
		Names *kernel.Names
	}
	require.NoError(t, json.Unmarshal(recorded, &report))
	wild, err := os.ReadFile("../dialect/nft/testdata/wild.json")
	require.NoError(t, err)
	pol, _ := policy.Resolve(policy.Input{Fleet: &fleet.Fleet{}})
	for _, c := range []struct {
		dump           []byte
		question, want string
	}{
		{[]byte(report.Dumps[0].Text), "10.60.0.7 -> 10.60.3.40 : postgresql", `admitted
admitted: tcp 5432 from 10.60.0.7 to 10.60.3.40 [tcp 10.60.0.7 port 50000 -> 10.60.3.40 port 5432 in by eth0]
inbound admitted by ip saddr 10.60.0.0/16 tcp dport 5432 accept inet yellowfence/inbound handle N`},
		{[]byte(report.Dumps[0].Text), "out 10.60.3.40 -> 10.60.5.50 : rsync user backup", `admitted
admitted: tcp 873 from 10.60.3.40 to 10.60.5.50 from user backup [tcp 10.60.3.40 port 50000 -> 10.60.5.50 port 873 out by eth0 from user backup]
outbound admitted by ip saddr @logbook-at-hill-lan.4 ip daddr @depot.4 tcp dport 873 meta skuid @from.user.backup accept inet yellowfence/outbound handle N`},
		{[]byte(report.Dumps[0].Text), "10.40.7.7 -> 10.40.3.40 : any state established", `mixed
admitted: everything from 10.40.7.7 to 10.40.3.40 in by eth1 [tcp 10.40.7.7 port 50000 -> 10.40.3.40 port 22 in by eth1 (established)]
dropped: everything from 10.40.7.7 to 10.40.3.40 not in by eth1 [tcp 10.40.7.7 port 50000 -> 10.40.3.40 port 22 in by eth0 (established)]
inbound admitted by ct state established,related accept inet yellowfence/inbound handle N
inbound dropped by iifname != { lo, eth1 } ip saddr 10.40.0.0/16 drop inet yellowfence/inbound handle N`},
		{[]byte(report.Dumps[0].Text), "through from eth1 to eth2 10.40.7.7 -> 10.60.7.7 : ssh", `admitted
admitted: tcp 22 from 10.40.7.7 to 10.60.7.7 in by eth1 out by eth2 [tcp 10.40.7.7 port 50000 -> 10.60.7.7 port 22 in by eth1 out by eth2]
forwarded admitted by no filter`},
		{wild, "10.40.7.7 -> 203.0.113.1 : ssh", "uncertain"}, // since nobody says what interface a chain hangs on
	} {
		q, problems := fence.ParseQuestion(c.question)
		require.Empty(t, problems)
		sp := packet.NewSpace()
		rs, err := nft.ReadJSON(sp, c.dump, report.Names)
		require.NoError(t, err)
		a, problems := ask.Dump(sp, pol, rs, q, now)
		require.Empty(t, problems)
		if c.want == ask.Uncertain {
			require.Equal(t, ask.Uncertain, a.Verdict)
			require.Equal(t, []string{"chain netdev edge/e, which stands before or behind what we read"}, a.Unread)
			require.Contains(t, a.Assumed, "that nothing was put into set watched of table admin since it was listed")
			continue
		}
		require.Equal(t, c.want, handle.ReplaceAllString(said(a), "handle N"), c.question)
		require.Empty(t, a.Unread)
	}
}

// TestAnswersAgreeWithPackets holds answers of random policies against packets
// sent through both filters one by one: each must fare in a way that is told.
func TestAnswersAgreeWithPackets(t *testing.T) {
	count := map[string]int{}
	for seed := range policytest.Trials(26) {
		rng := rand.New(rand.NewPCG(29, seed))
		pick := func(items ...string) string { return items[rng.IntN(len(items))] }
		text := policytest.WithoutRouters(policytest.Random(rng))
		pol := policytest.Resolve(t, policytest.Fleet, text)
		question := fmt.Sprintf("%s -> %s : %s", pick("red", "h3", "office", "198.51.100.7", "fleet"), pick("h1", "green", "blue", "h4"),
			pick("ssh", "tcp 80", "udp 53"))
		q, problems := fence.ParseQuestion(question)
		require.Empty(t, problems)
		a, problems := ask.NewAsker(pol).Policy(q, now)
		require.Empty(t, problems)
		count[a.Verdict]++
		told := map[string]bool{}
		for _, e := range a.Examples {
			told[e.Verdict] = true
			require.Equal(t, e.Verdict, fate(pol, e.Packet), "seed %d: %s\n%s\n%s", seed, question, e.Packet, text)
		}
		if a.Verdict != ask.Mixed && a.Verdict != "" {
			require.Len(t, told, 1)
			require.True(t, told[a.Verdict])
		}
	}
	for _, v := range []string{"admitted", "dropped", "mixed"} {
		require.Positive(t, count[v], v)
	}
}

// TestAnAskerGoesWithTheTime: what it has worked out is made anew when a rule ends.
func TestAnAskerGoesWithTheTime(t *testing.T) {
	asker := ask.NewAsker(policytest.Saltmarsh(t, "../.."))
	q, _ := fence.ParseQuestion("198.18.7.9 -> charts : http")
	end := time.Date(2035, 4, 1, 0, 0, 0, 0, time.UTC).Unix()
	for at, want := range map[int64]string{now: "admitted", end - 1: "admitted", end: "dropped"} {
		a, problems := asker.Policy(q, at)
		require.Empty(t, problems)
		require.Equal(t, want, a.Verdict, at)
	}
}

// fate sends a packet that comes in through its sender's filter, where that is
// ours, by any of its interfaces, and its receiver's.
func fate(pol *policy.Policy, p packet.Packet) string {
	sp := packet.NewSpace()
	sp.Since(now)
	for _, h := range pol.Fleet.Hosts {
		if p.Hook != packet.In || !h.Addresses().Contains(p.Src) {
			continue
		}
		d := compile.ForHost(sp, pol, h, now).Decision(sp)
		var refused string
		for _, i := range h.Interfaces {
			out := p
			out.Hook, out.In, out.Out = packet.Out, "", i.Name
			o := sp.Outcome(d, out)
			if o.Verdict == packet.Admit {
				refused = ""
				break
			}
			refused = o.Verdict.String()
		}
		if refused != "" {
			return refused
		}
	}
	for _, h := range pol.Fleet.Hosts {
		if h.Addresses().Contains(p.Dst) {
			return sp.Outcome(compile.ForHost(sp, pol, h, now).Decision(sp), p).Verdict.String()
		}
	}
	return ""
}

// TestByTheInterfacesThatAreNamed: what a router forwards is answered by the interfaces that the
// question says, not by those that the router has first.
func TestByTheInterfacesThatAreNamed(t *testing.T) {
	pol := policytest.Resolve(t, policytest.Fleet,
		"policy p language 1\nnetwork office = 198.51.100.0/24\nrole red { forward closed }\nrole blue\nrole green\nleave lv: host h1 : "+
			"forwarded via eth1\nallow web: office -> host h3 : https through red\n")
	for question, want := range map[string]string{
		"through from wan0 to eth0 198.51.100.1 -> h3 : https": "red forwarded admitted by allow web 0.fence:7:7",
		"through from eth1 to eth0 198.51.100.1 -> h3 : https": "h1 forwarded admitted by leave lv 0.fence:6:7\nh2 forwarded admitted by " +
			"allow web 0.fence:7:7",
		"through from wan0 to eth1 198.51.100.1 -> h3 : https": "h1 forwarded admitted by leave lv 0.fence:6:7\nh2 forwarded admitted by " +
			"allow web 0.fence:7:7",
	} {
		q, problems := fence.ParseQuestion(question)
		require.Empty(t, problems)
		a, problems := ask.NewAsker(pol).Policy(q, now)
		require.Empty(t, problems, question)
		_, steps, _ := strings.Cut(said(a), "]\n")
		require.Equal(t, want, steps, question)
	}
}
