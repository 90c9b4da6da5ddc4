package check_test

import (
	"flag"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/check"
	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/core/policy/opiniontest"
	"yellowfence.example/yfence/core/policy/policytest"
	"yellowfence.example/yfence/core/source"
)

// TestExpectations has a policy for each way to hold and to break.
func TestExpectations(t *testing.T) {
	const red, closed = "role red\nrole blue\nrole green\n", "role red\nrole blue { outbound closed }\nrole green\n"
	for _, c := range []struct{ what, text, want string }{
		{"never holds where nothing is said", red + "expect e: never vpn -> red : ssh", ""},
		{"and breaks where an allow admits it", red + "allow a: vpn -> red : ssh\nexpect e: never vpn -> red : tcp 1-100",
			`e (never vpn -> red): tcp 1-100 from outside to h1 passes; admitted inbound by allow a (p.fence:7:7) [tcp 192.0.2.1 port ` +
				`50000 -> 10.40.0.1 port 22 in by eth0]`},
		{"by the stance too", "role red { inbound open }\nrole blue\nrole green\nexpect e: never vpn -> host h1 : ssh",
			`e (never vpn -> host h1): ssh from outside to h1 passes; admitted inbound by stance inbound open [tcp 192.0.2.1 port 50000 ` +
				`-> 10.40.0.1 port 22 in by eth0]`},
		{"not where a block refuses it", red + "allow a: vpn -> red : ssh\nblock b: vpn -> red : ssh\nexpect e: never vpn -> red : ssh",
			""},
		{"within a rate it passes", red + "allow a: vpn -> host h1 : ssh at most 1 per 1d\nexpect e: never vpn -> red : ssh",
			`e (never vpn -> red): ssh from outside to h1 passes; admitted inbound by allow a (p.fence:7:7) [tcp 192.0.2.1 port 50000 -> ` +
				`10.40.0.1 port 22 in by eth0]`},
		{"the sender's outbound may be what keeps it", closed +
			"allow a: vpn, 10.0.0.0/8 -> red : ssh\nexpect e: never host h3 -> red : ssh", ""},
		{"what is outside is taken to pass", red + "expect e: never red -> vpn : ssh",
			`e (never red -> vpn): ssh from h1 to outside passes; admitted outbound by stance outbound open [tcp 10.40.0.1 port 50000 -> ` +
				`192.0.2.7 port 22 out by eth0]`},
		{"answers and errors are not counted", red + "expect e: never everywhere -> red : icmp 3", ""},
		{"what a leave sets aside passes", red + "leave l: red : inbound via wan*\nexpect e: never vpn -> red : ssh",
			"e (never vpn -> red): ssh from outside to h1 passes; admitted inbound by leave l (p.fence:7:7) [tcp 192.0.2.1 port 50000 -> " +
				"10.40.0.1 port 22 in by wan]"},
		{"and does not always", red + "allow a: vpn -> red : ssh\nleave l: red : inbound via wan*\nexpect e: always vpn -> red : ssh",
			"e (always): ssh from outside to h1 does not pass; set aside inbound by leave l (p.fence:8:7) [tcp 192.0.2.1 port 50000 -> " +
				"10.40.0.1 port 22 in by wan0]"},
		{"nor a host and itself", "role red { inbound open }\nrole blue\nrole green\nexpect e: never host h1 -> host h1 : any", ""},
		{"on a segment alone", red + "allow a: vpn, 10.40.0.0/16 -> red : ssh\nexpect e: never vpn -> red : ssh on quay", ""},
		{"off it is not proven", red + "allow a: vpn -> red : ssh\nexpect e: never vpn -> red : ssh off because \"x\"", ""},

		{"always holds where an allow admits it all", red + "allow a: vpn -> red : ssh\nexpect e: always vpn -> red : ssh", ""},
		{"and breaks where a part is refused", red +
			"allow a: vpn -> red : tcp 20-23\nblock b: 192.0.2.0/28 -> red : ssh\nexpect e: always vpn -> red : ssh",
			`e (always): ssh from outside to h1 does not pass; dropped inbound by block b (p.fence:8:7) [tcp 192.0.2.1 port 50000 -> ` +
				`10.40.0.1 port 22 in by eth0]`},
		{"a rate is not always", red + "allow a: vpn -> host h1 : ssh at most 9 per 1s\nexpect e: always vpn -> host h1 : ssh",
			`e (always): ssh from outside to h1 does not pass; dropped beyond its rate inbound by allow a (p.fence:7:7) [tcp 192.0.2.1 ` +
				`port 50000 -> 10.40.0.1 port 22 in by eth0]`},
		{"nor is what ends", red + "allow a: vpn -> host h1 : ssh until 2027-03-31\nexpect e: always vpn -> host h1 : ssh",
			`e (always): ssh from outside to h1 does not pass; dropped inbound by stance inbound closed [tcp 192.0.2.1 port 50000 -> ` +
				`10.40.0.1 port 22 in by eth0 at 2027-04-01T00:00:00Z]`},
		{"nor what one user sends", closed + "allow a: host h3 -> vpn : ssh from user backup\nexpect e: always host h3 -> vpn : ssh",
			`e (always): ssh from h3 to outside does not pass; dropped outbound by stance outbound closed [tcp 10.60.3.1 port 50000 -> ` +
				`192.0.2.7 port 22 out by eth0]`},
		{"forged sources are no matter", red + "allow a: everywhere -> red : ssh\nexpect e: always 10.40.0.0/16 -> host h1 : ssh", ""},

		{"only: they and nobody else", red + "allow a: vpn -> red : ssh\nexpect e: only vpn -> red : ssh", ""},
		{"others get in", red + "allow a: vpn, green -> red : ssh\nexpect e: only vpn -> red : ssh",
			`e (only vpn): ssh from h4 to h1 passes; admitted inbound by allow a (p.fence:7:7) [tcp 203.0.113.9 port 50000 -> 10.40.0.1 ` +
				`port 22 in by eth0]`},
		{"whether theirs pass is for an always to say", red + "expect e: only vpn -> red : ssh", ""},
		{"nobody else on the segment, and nobody elsewhere", red +
			"allow a: red -> red : ssh on quay\nexpect e: only red -> red : ssh on quay", ""},
		{"theirs off the segment", red + "allow a: red -> red : ssh\nexpect e: only red -> red : ssh on quay",
			"e (only on quay): ssh from h1 to h2 passes; admitted inbound by allow a (p.fence:7:7) [tcp 10.40.0.1 port 50000 -> " +
				"198.51.100.7 port 22 in by eth0]"},
		{"others off the segment", red + "allow a: red, green -> red : ssh\nexpect e: only red -> red : ssh on quay",
			"e (only red): ssh from h4 to h1 passes; admitted inbound by allow a (p.fence:7:7) [tcp 203.0.113.9 port 50000 -> 10.40.0.1 " +
				"port 22 in by eth0]"},
		{"within: nobody else, of the other either", red +
			"allow a: fleet -> fleet : ssh within blue, green\nexpect e: only fleet -> fleet : ssh within blue, green", ""},
		{"who comes from one to the other", red +
			"allow a: red -> blue : ssh\nallow b: fleet -> fleet : ssh within blue, red\nexpect e: only fleet -> fleet : ssh within " +
			"blue, red",
			"e (only fleet at blue): ssh from h1 to h2 passes; admitted inbound by allow a (p.fence:7:7) [tcp 10.40.0.1 port 50000 -> " +
				"10.40.3.1 port 22 in by eth0]"},
		{"a router that admits it", red + "role gate { forward closed }\nallow a: vpn -> host h1 : ssh through gate\nexpect e: always " +
			"vpn -> host h1 : ssh", ""},
		{"a router on the way refuses it", "role red\nrole green { forward closed }\nrole blue\nallow a: vpn -> host h3 : ssh through " +
			"green\nblock b: vpn -> everywhere : ssh through green\nallow c: vpn -> host h3 : ssh\nexpect e: always vpn -> host h3 : ssh",
			`e (always): ssh from outside to h3 does not pass; dropped forward by block b (p.fence:8:7) [tcp 192.0.2.1 port 50000 -> ` +
				`10.60.3.1 port 22 in by eth0]`},
		{"whoever is behind a masquerade comes as the router", red +
			"role gate\nsegment hill = 10.60.0.0/16 shared\nmasquerade m: hill -> everywhere through blue\nallow a: host h3 -> host h4 : " +
			"ssh\nexpect e: only host h3 -> host h4 : ssh",
			`e (only host h3): ssh from h1 to h4 passes; admitted inbound by allow a (p.fence:10:7) [tcp 10.60.0.1 port 50000 -> ` +
				`203.0.113.9 port 22 in by eth0]`},
		{"as which it is admitted", red + "segment hill = 10.60.0.0/16 shared\nmasquerade m: hill -> everywhere through blue\nallow a: " +
			"10.60.9.0/24 -> host h4 : ssh\nexpect e: always 10.60.9.0/24 -> host h4 : ssh", ""},
		{"what is for a router itself it sends on to nobody", red +
			"masquerade m: vpn -> everywhere through green\nallow a: vpn -> green : ssh\nexpect e: always vpn -> green : ssh", ""},
		{"an address that another peer of the list covers is tried too", red +
			"segment hill = 10.60.0.0/16\nblock b: host h1 at hill -> vpn : https\nexpect e: always host h1 at 203.0.113.0/24, hill -> " +
			"vpn : https",
			`e (always): https from h1 to outside does not pass; dropped outbound by block b (p.fence:8:7) [tcp 10.60.0.1 port 50000 -> ` +
				`192.0.2.7 port 443 out by eth0]`},
		{"redirected to another host, that one decides too", red +
			"redirect r: vpn -> host h1 : tcp 22 to host h4 : tcp 2222\nallow a: vpn -> host h1 : ssh\nexpect e: always vpn -> host " +
			"h1 : ssh",
			`e (always): ssh from outside to h1 does not pass; dropped inbound by stance inbound closed; redirect r (p.fence:7:10) ` +
				`changes where it goes [tcp 192.0.2.1 port 50000 -> 10.40.0.1 port 22 in by eth0]`},
		{"by the port it gets", red + "redirect r: vpn -> host h1 : tcp 22 to host h4 : tcp 2222\nallow a: vpn -> host h1 : ssh\nallow " +
			"b: vpn -> host h4 : tcp 2222\nexpect e: always vpn -> host h1 : ssh", ""},
		{"the inner port is not opened by itself", red +
			"redirect r: vpn -> host h1 : tcp 80 to tcp 8095\nallow a: vpn -> host h1 : tcp 80\nexpect e: never vpn -> host h1 : " +
			"tcp 8095", ""},
		{"between others, by a router", "role red\nrole green { forward closed }\nrole blue\nallow a: vpn -> everywhere : https through " +
			"green\nexpect e: never vpn -> 198.18.0.0/15 : ssh through green", ""},
		{"that lets it by", "role red\nrole green { forward closed }\nrole blue\nallow a: vpn -> everywhere : https through " +
			"green\nexpect e: never vpn -> 198.18.0.0/15 : https through green",
			`e (never vpn -> 198.18.0.0/15): https from outside to outside passes; admitted forward by allow a (p.fence:7:7) [tcp ` +
				`192.0.2.1 port 50000 -> 198.18.0.1 port 443 in by wan0 out by wan0]`},
		{"always, by its own decision", "role red\nrole green { forward closed }\nrole blue\nexpect e: always vpn -> 198.18.0.0/15 : " +
			"https through green",
			`e (always): https from outside to outside does not pass; dropped forward by stance forward closed [tcp 192.0.2.1 port 50000 ` +
				`-> 198.18.0.1 port 443 in by wan0 out by wan0]`},
		{"by steps: nobody gets there from where they may log in", red +
			"allow a: vpn -> host h1 : ssh\nallow b: host h2 -> host h4 : ssh\nexpect e: never vpn -> host h4 : any by steps", ""},
		{"who may log in may go on", red + "allow a: vpn -> host h1 : ssh\nallow b: host h1 -> host h3 : ssh\nallow c: host h3 -> host " +
			"h4 : postgresql\nexpect e: never vpn -> host h4 : postgresql by steps",
			`e (by steps: vpn -> h1 -> h3): postgresql from h3 to h4 passes; admitted inbound by allow c (p.fence:9:7) [tcp 10.60.3.1 ` +
				`port 50000 -> 203.0.113.9 port 5432 in by eth0]`},
		{"who may log in to it needs nothing more", red +
			"allow a: vpn -> host h1 : ssh\nallow b: host h1 -> host h4 : ssh guard\nexpect e: never vpn -> host h4 : postgresql by steps",
			`e (by steps: vpn -> h1 -> h4): a log-in from h1 to h4 passes; admitted inbound by allow b (p.fence:8:7) [tcp 10.40.0.1 port ` +
				`50000 -> 203.0.113.9 port 22 in by eth0]`},
		{"a redirect that changes where it goes is named", red +
			"redirect r: vpn -> host h1 : tcp 22 to host h4 : tcp 2222\nallow a: vpn -> host h1 : ssh\nallow b: vpn -> host h4 : tcp " +
			"2222\nexpect e: never vpn -> host h1 : ssh",
			`e (never vpn -> host h1): ssh from outside to h1 passes; admitted inbound by allow b (p.fence:9:7); redirect r ` +
				`(p.fence:7:10) changes where it goes [tcp 192.0.2.1 port 50000 -> 10.40.0.1 port 22 in by eth0]`},
		{"and it is no way for others", "role red\nrole green { forward closed }\nrole blue\nallow a: vpn -> host h3 : https through " +
			"green\nallow c: vpn -> host h3 : ssh\nexpect e: always vpn -> host h3 : ssh", ""},
	} {
		fl, found := fleet.ReadJSON("fleet.json", []byte(policytest.Fleet))
		require.Empty(t, found)
		_, found = check.Policy([]check.Source{{Name: "p.fence",
			Text: "policy p language 1\nnetwork vpn = 192.0.2.0/25\nsegment quay = 10.40.0.0/16 local\n" + c.text + "\n"}}, fl, now)
		got := ""
		for _, p := range found {
			if p.Code == "expectation" {
				got = strings.TrimSuffix(strings.TrimPrefix(p.Message, `the expectation "`), "")
				got = strings.Replace(got, `" does not hold`, "", 1) + "; " + p.Hint + " [" + p.Packet.String() + "]"
			}
		}
		require.Equal(t, c.want, got, c.what)
	}
}

// TestProofsAgreeWithPackets: where an expectation is proven no packet breaks
// it, and where it is broken the packet that is shown does, at both ends.
func TestProofsAgreeWithPackets(t *testing.T) {
	proven, broken := 0, 0
	for seed := range policytest.Trials(45) {
		rng := rand.New(rand.NewPCG(23, seed))
		pick := func(items ...string) string { return items[rng.IntN(len(items))] }
		kind, from, to, service := pick("never", "always"), pick("red", "blue", "office", "lab", "host h3"),
			pick("red", "green", "host h1", "fleet"), pick("ssh", "tcp 80", "udp 53", "tcp 22, 80")
		// (What routers do with packets has cases of its own, above.)
		text := policytest.WithoutRouters(policytest.Random(rng)) + fmt.Sprintf("expect e: %s %s -> %s : %s\n", kind, from, to, service)
		pol := policytest.Resolve(t, policytest.Fleet, text)
		fl, _ := fleet.ReadJSON("fleet.json", []byte(policytest.Fleet))
		_, found := check.Policy([]check.Source{{Name: "p.fence", Text: text}}, fl, now)
		var shown *packet.Packet
		for _, p := range found {
			if p.Code == "expectation" {
				shown = p.Packet
			}
		}
		w := &world{sp: packet.NewSpace(), pol: pol}
		w.sp.Since(now)
		if shown != nil {
			broken++
			passes, byGround := w.passes(*shown, kind == "never")
			require.False(t, byGround, "seed %d\n%s\n%s", seed, text, shown)
			require.Equal(t, kind == "never", passes, "seed %d\n%s\n%s", seed, text, shown)
			continue
		}
		proven++
		e := pol.Expects[0]
		for range 60 {
			p := w.random(rng, e)
			passes, byGround := w.passes(p, kind == "never")
			if !byGround && !w.expectedAway(p) {
				require.Equal(t, kind == "always", passes, "seed %d: %s is proven\n%s\n%s", seed, kind, text, p)
			}
		}
	}
	require.Greater(t, proven, 10)
	require.Greater(t, broken, 10)
}

var (
	samples = flag.Int("samples", 100, "how many packets each proof is held against")
)

// TestProofsBySecondOpinion: where an expectation is proven no packet breaks it by what the
// language page says word for word, also over routers and behind masquerades; and where it is
// broken some packet does.
func TestProofsBySecondOpinion(t *testing.T) {
	redirected := regexp.MustCompile(`(?m)^redirect .*\n`) // what they do has cases of its own, above
	proven, broken := 0, 0
	for seed := range policytest.Trials(26) {
		rng := rand.New(rand.NewPCG(37, seed))
		pick := func(items ...string) string { return items[rng.IntN(len(items))] }
		side := func() string {
			return pick("red", "blue", "green", "office", "lab", "host h3", "fleet", "red at hill", "red except hill",
				"green at 203.0.113.0/24, hill", "fleet except red at quay", "host h1 at quay, lab", "strangers", "quay, hill")
		}
		left, to := side(), pick("red", "green", "host h1", "fleet", "red at hill, green", "blue except quay", "red at quay, hill")
		if rng.IntN(3) == 0 {
			left, to = to, left
		}
		text := redirected.ReplaceAllString(policytest.Random(rng), "")
		if !strings.Contains(text, "masquerade") && rng.IntN(3) == 0 {
			text += pick("masquerade m: hill -> everywhere through red\n", "masquerade m: everywhere -> quay through green\n",
				"masquerade m: blue, office -> fleet through blue\n")
		}
		through := pick("", "", "", " through red", " through green, red")
		if through != "" && rng.IntN(2) == 0 { // and neither end is ours
			left, to = pick("office", "198.51.100.0/28", "10.60.9.0/24"),
				pick("lab except 10.40.3.1, 10.60.3.1, fd40::1, 10.40.0.1", "10.60.8.0/24", "office")
			text += fmt.Sprintf("allow y: %s -> %s : tcp 22, udp 53%s\n", left, to, through)
		}
		x := pick("", fmt.Sprintf("allow x: %s -> %s : tcp 22, tcp 80, udp 53\n", left, to))
		if through != "" {
			x = strings.Replace(x, "\n", through+"\n", 1)
		}
		text += x +
			fmt.Sprintf("expect e: %s %s -> %s : %s%s%s%s\n", pick("never", "always", "only"), left, to,
				pick("ssh", "tcp 80", "udp 53", "tcp 22, tcp 80"), pick("", "", " within red, blue", " within quay, lab, green"),
				pick("", "", " on quay", " on hill", " on quay, hill"), through)
		pol := policytest.Resolve(t, policytest.Fleet, text)
		_, found := check.Policy([]check.Source{{Name: "p.fence", Text: text}}, pol.Fleet, now)
		holds := !slices.ContainsFunc(found, func(p source.Problem) bool { return p.Code == "expectation" })
		file, _ := fence.Parse("p.fence", text)
		var from []*opiniontest.Opinion // now, and once rules have ended
		for _, day := range []int64{0, 60, 130, 300} {
			from = append(from, opiniontest.New(pol.Fleet, now+day*86400, policy.Registered, file))
		}
		breaks := false
		for _, p := range found {
			if p.Code == "expectation" {
				at := int64(now)
				if p.Packet.Time != nil {
					at = p.Packet.Time.Unix()
				}
				o := opiniontest.New(pol.Fleet, at, policy.Registered, file)
				breaks = o.Breaks(o.Expectation(0), *p.Packet)
			}
		}
		for n := 0; n < *samples || !holds && !breaks && n < 20**samples; n++ {
			o := from[rng.IntN(len(from))]
			p := o.Between(rng, o.Expectation(0))
			if breaks = breaks || o.Breaks(o.Expectation(0), p); breaks && holds {
				t.Fatalf("seed %d is held to be proven, and is broken by %s (user %q unit %q)\n%s", seed, p, p.User, p.Unit, text)
			}
		}
		if holds {
			proven++
			continue
		}
		broken++
		require.True(t, breaks, "seed %d is held to be broken\n%s\n%+v", seed, text,
			slices.DeleteFunc(found, func(p source.Problem) bool { return p.Code != "expectation" }))
	}
	require.Greater(t, proven, 10)
	require.Greater(t, broken, 10)
}

// world is a policy's hosts, each with its own decision.
type world struct {
	sp  *packet.Space
	pol *policy.Policy
}

func (w *world) owner(a netip.Addr) *fleet.Host {
	for _, h := range w.pol.Fleet.Hosts {
		if h.Addresses().Contains(a) {
			return h
		}
	}
	return nil
}

// passes sends a packet through the filters of its sender and its receiver, where
// they are ours: by any of their interfaces where the packet does not say. Of
// buckets it takes that they have room, or, for always, none.
func (w *world) passes(p packet.Packet, room bool) (passes, byGround bool) {
	passes = true
	for _, end := range []struct {
		host *fleet.Host
		dir  int
	}{{w.owner(p.Src), packet.Out}, {w.owner(p.Dst), packet.In}} {
		if end.host == nil {
			continue
		}
		plan := compile.ForHost(w.sp, w.pol, end.host, now)
		d, deciders := plan.Attributed(w.sp)
		some := false
		for _, i := range end.host.Interfaces {
			q := p
			q.Hook = end.dir
			if end.dir == packet.Out {
				q.In, q.Out = "", i.Name
			} else {
				q.Out = ""
				if q.In == "" || p.Hook == packet.Out {
					q.In = i.Name
				}
			}
			here := w.sp.Exactly(q)
			for _, b := range packet.Buckets(w.sp, d) {
				if room {
					here = w.sp.And(here, w.sp.HasToken(b))
				} else {
					here = w.sp.Minus(here, w.sp.HasToken(b))
				}
			}
			o := w.sp.Outcomes(w.sp.Only(d, here))[0]
			by := deciders[o.By-1]
			some = some || o.Verdict == packet.Admit && (room || by.Kind != compile.ByLeave)
			byGround = byGround || end.dir == packet.In && (by.Kind == compile.ByGround || by.Kind == compile.ByLocal)
		}
		if passes = passes && some; !passes { // what its sender refuses arrives nowhere
			break
		}
	}
	return passes, byGround
}

// expectedAway says that a packet comes by an interface that is not the one of its sender's segment.
func (w *world) expectedAway(p packet.Packet) bool {
	h := w.owner(p.Dst)
	if h == nil {
		return false
	}
	for _, seg := range w.pol.Segments() {
		if on := h.On(seg.Name, seg.Addrs); on != nil && seg.Addrs.Contains(p.Src) {
			return true
		}
	}
	return false
}

// random is a packet that an expectation is about.
func (w *world) random(rng *rand.Rand, e *policy.Expectation) packet.Packet {
	from, to := e.From.Addrs.Prefixes(), e.To.Addrs.Prefixes()
	for {
		src, dst := from[rng.IntN(len(from))].Addr(), to[rng.IntN(len(to))].Addr()
		if src.Is4() != dst.Is4() || w.owner(src) != nil && w.owner(src) == w.owner(dst) {
			continue
		}
		term := e.Terms[rng.IntN(len(e.Terms))]
		sport, dport := 50000, term.Ports.Lo
		p := packet.Packet{Hook: packet.In, Family: "ipv4", Src: src, Dst: dst, Protocol: packet.ProtocolName(term.Protocol),
			SrcPort: &sport, DstPort: &dport, State: "new"}
		if src.Is6() {
			p.Family = "ipv6"
		}
		return p
	}
}
