// Package policytest gives tests policies to work on: Saltmarsh Harbour's, and
// random ones of the kinds people write.
package policytest

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
)

// Trials is how many random cases a test goes through, of which it has the usual number: that many in a run of all tests,
// and times the number that TRIALS of the environment says where somebody has more time (`make trials`). A case is made of
// its number alone, so one that fails is found again by the same TRIALS or more.
func Trials(usual uint64) uint64 {
	times, err := strconv.ParseUint(os.Getenv("TRIALS"), 10, 16)
	if err != nil || times == 0 {
		times = 1
	}
	return usual * times
}

// Resolve makes a policy of texts, which must be free of problems.
func Resolve(t testing.TB, fleetJSON string, texts ...string) *policy.Policy {
	t.Helper()
	fl, problems := fleet.ReadJSON("fleet.json", []byte(fleetJSON))
	require.Empty(t, problems)
	var files []*fence.File
	for i, text := range texts {
		file, problems := fence.Parse(fmt.Sprintf("%d.fence", i), text)
		require.Empty(t, problems, "%s", text)
		files = append(files, file)
	}
	pol, problems := policy.Resolve(policy.Input{Files: files, Fleet: fl})
	require.Empty(t, problems, "%s", strings.Join(texts, "\n"))
	return pol
}

// Saltmarsh is Saltmarsh Harbour's policy with its fleet; root is the way from
// the test to the project's folder.
func Saltmarsh(t testing.TB, root string) *policy.Policy {
	t.Helper()
	fleetJSON, err := os.ReadFile(filepath.Join(root, "demo", "saltmarsh", "fleet.json"))
	require.NoError(t, err)
	fl, problems := fleet.ReadJSON("fleet.json", fleetJSON)
	require.Empty(t, problems)
	in, problems := policy.Read(SaltmarshFiles(t, root), fl)
	require.Empty(t, problems)
	pol, problems := policy.Resolve(in)
	require.Empty(t, problems)
	return pol
}

// SaltmarshFiles are the files of that policy, its lists of addresses included.
func SaltmarshFiles(t testing.TB, root string) (files []policy.Source) {
	t.Helper()
	dir := filepath.Join(root, "demo", "saltmarsh")
	for _, pattern := range []string{"*.fence", "teams/*/*.fence", "lists/*"} {
		paths, err := filepath.Glob(filepath.Join(dir, pattern))
		require.NoError(t, err)
		for _, path := range paths {
			text, err := os.ReadFile(path)
			require.NoError(t, err)
			name, err := filepath.Rel(dir, path)
			require.NoError(t, err)
			files = append(files, policy.Source{Name: filepath.ToSlash(name), Text: string(text)})
		}
	}
	return files
}

// Fleet is the fleet of random policies: hosts on one segment, on two, and none.
const Fleet = `{"service": {"addresses": ["10.40.0.5", "fd40::5"], "port": 8480}, "hosts": [
 {"name": "h1", "roles": ["red"], "interfaces": [{"name": "eth0", "addresses": ["10.40.0.1/16", "fd40::1/64"]}, {"name": "eth1", "addresses": ["10.60.0.1/16", "fd60::1/64"]}, {"name": "wan0", "addresses": ["203.0.113.1/28", "2001:db8:1::1/64"]}]},
 {"name": "h2", "roles": ["red", "blue"], "interfaces": [{"name": "eth0", "addresses": ["10.40.3.1/16"]}], "seen_as": ["198.51.100.7"]},
 {"name": "h3", "roles": ["blue"], "interfaces": [{"name": "eth0", "addresses": ["10.60.3.1/16", "fd60::3:1/64"]}]},
 {"name": "h4", "roles": ["green"], "interfaces": [{"name": "wan0", "addresses": ["203.0.113.9/28"]}]}]}`

// Random is the text of a random policy for Fleet. What it says hangs together
// in every way that the language allows: exceptions, overlapping blocks, logs.
func Random(rng *rand.Rand) string {
	pick := func(items ...string) string { return items[rng.IntN(len(items))] }
	var b strings.Builder
	b.WriteString("policy random language 1\nnetwork office = 198.51.100.0/24, 2001:db8:5::/48 except 198.51.100.9\nnetwork lab = " +
		"10.40.3.0/24, 10.60.3.0/24, fd40::/64\n")
	trial := func() string {
		if rng.IntN(4) > 0 {
			return ""
		}
		return pick(" on trial until 2027-01-31", " on trial until 2027-04-30 else open", " on trial until 2026-11-20")
	}
	fmt.Fprintf(&b, "segment quay = 10.40.0.0/16, fd40::/48%s\nsegment hill = 10.60.0.0/16, fd60::/48%s\nnetwork both = lab, hill%s\n",
		pick("", " local"), pick("", " shared"), pick("", "", " shared"))
	b.WriteString("peers crowd = red, host h3\npeers mixed = blue at hill, office\npeers nested = crowd except blue at quay\n")
	b.WriteString("service web = tcp 80, 443\nservice http = http, tcp 8080\nservice nearly = any except web, udp 1000-1010\nservice mix " +
		"= tcp+udp 1000-2000, udp 53, icmp 3/1, ping\n")
	for _, role := range []string{"red", "blue", "green"} {
		fmt.Fprintf(&b, "role %s { %s %s %s %s %s }\n", role, pick("", "inbound closed", "inbound open", "inbound closed"+trial()),
			pick("", "outbound closed", "outbound closed", "outbound closed"+trial()),
			pick("", "", "forward closed", "forward closed"+trial()),
			pick("", "refuse by reject", "refuse by drop", "log refused", "log refused up to 10 per 1m",
				"refuse by reject log refused up to 2 per 1h"),
			pick("", "", "", "", "ground { inbound replies off }", "ground { forward replies off }",
				"ground { icmp-errors from quay, office   invalid off }"))
	}
	ours := []string{"red", "blue", "green", "fleet", "host h1", "red, host h3", "red at hill", "fleet except red",
		"fleet except red at quay", "red except hill", "host h1 at quay, lab", "red at hill, green except 203.0.113.9", "fleet at blue",
		"red at blue", "fleet except red at blue", "green, red at host h1", "crowd", "mixed", "nested", "crowd at blue",
		"fleet except crowd", "mixed, host h3 at hill"}
	hosts := func() string { return pick(ours...) }
	others := func() string {
		return pick("office", "lab", "quay", "everywhere", "198.51.100.7", "office, lab", "lab except 10.40.3.7",
			"everywhere except office", "10.0.0.0/8, fd00::/8", "strangers", "everywhere except red at hill", "lab, office except hill",
			"strangers except office", "strangers at hill", "everywhere at red", "lab at strangers", "office at 198.51.100.0/28",
			"multicast", "broadcast, 224.0.0.0/24", "everywhere except multicast, broadcast")
	}
	services := func() string {
		return pick("ssh", "web", "http", "mix", "any", "tcp 22, 80", "udp 1000-2000", "ping", "protocol 47", "icmp", "icmpv6 128",
			"domain, ntp", "tcp 0-65535", "any except ping", "any except mix, icmpv6", "nearly, ping")
	}
	sides := func() string {
		switch rng.IntN(3) {
		case 0:
			return hosts() + " -> " + hosts()
		case 1:
			return hosts() + " -> " + others()
		}
		return others() + " -> " + hosts()
	}
	rates := func() string { return pick("4 per 1m", "4 per 1m", "10 per 1m", "100 per 1h", "1 per 1s") }
	logs := func(often ...string) string {
		if l := pick(often...); l != "" && rng.IntN(3) == 0 {
			return l + " up to " + rates()
		} else {
			return l
		}
	}
	// way is where a rule's packets go.
	way := func(on string, narrowed string) string {
		switch {
		case rng.IntN(3) == 0:
			return pick(on, on, " on quay, hill", " arriving quay", " arriving hill, quay")
		case rng.IntN(3) == 0 && !strings.Contains(narrowed, "encrypted"):
			return " through " + pick("red", "green", "red, green")
		}
		return ""
	}
	within := func() string {
		return pick("", "", "", "", "", " within red, blue", " within quay, hill", " within red, lab", " within green, host h1",
			" within fleet, strangers", " within crowd, green", " within mixed, red")
	}
	// circumstances narrow a rule to what a packet itself does not show.
	circumstances := func(sides string) (s string) {
		if rng.IntN(6) == 0 {
			s += pick(" from 2027-01-15 until 2028-02-29", " from 2026-11-27T06:00Z until 2027-03-31", " until 2027-03-31",
				" until 2027-06-30", " until 2026-12-24T12:00Z")
		}
		if rng.IntN(10) == 0 {
			s += " encrypted"
		}
		if from, _, _ := strings.Cut(sides, " ->"); rng.IntN(4) == 0 && slices.Contains(ours, from) {
			s += pick(" from user backup", " from user backup, www", " from unit mirror.service", " from user root from unit web.service")
		}
		return s
	}
	if rng.IntN(4) == 0 {
		fmt.Fprintf(&b, "join %s\n", pick("quay, hill through red", "quay, hill through red, green", "office, quay through green",
			"office, quay, hill through red", "office, hill"))
	}
	if rng.IntN(5) == 0 {
		fmt.Fprintf(&b, "ground { %s }\n", pick("icmp-errors off", "inbound icmp-errors from quay", "outbound replies off",
			"dhcp-client off multicast-listener off", "neighbours from fe80::/10", "invalid off", "service from red at quay"))
	}
	if rng.IntN(8) == 0 {
		fmt.Fprintf(&b, "leave l: %s via %s\n", pick("green : forwarded", "fleet : inbound", "host h1 : outbound"),
			pick("eth1", "ctr*", "eth1, ctr*"))
	}
	var blocks []string
	for i := range rng.IntN(5) {
		name := fmt.Sprintf("b%d", i)
		blocks = append(blocks, name)
		s := sides()
		narrowed := circumstances(s)
		together := pick("", "", "", "", " until 2027-02-28 owner pat", " from 2026-11-28 until 2027-12-31", " off because \"x\"")
		end := "\n"
		if together != "" {
			fmt.Fprintf(&b, "with%s { ", together)
			end = " }\n"
		}
		fmt.Fprintf(&b, "block %s: %s : %s%s%s%s%s%s", name, s, services(), within(), way(" on quay", narrowed),
			pick("", " by reject", " by drop")+beforeEnd(trial(), narrowed+together), logs("", " log"), narrowed)
		b.WriteString(end)
	}
	for i := range 1 + rng.IntN(8) {
		over := ""
		if len(blocks) > 0 && rng.IntN(2) == 0 {
			over = " over " + pick(blocks...)
			if extra := pick(blocks...); rng.IntN(2) == 0 && !strings.HasSuffix(over, extra) {
				over += ", " + extra
			}
		}
		most := ""
		if rng.IntN(3) == 0 {
			most = " at most " + rates() + pick("", " per source")
		}
		s := sides()
		narrowed := circumstances(s)
		fmt.Fprintf(&b, "allow a%d: %s : %s%s%s%s%s%s%s\n", i, s, services(), within(), way(" on hill", narrowed), most,
			logs("", "", " log"), narrowed, over)
	}
	if rng.IntN(6) == 0 { // so many that they are not tried one by one
		for i := range 14 {
			lo := 20 + rng.IntN(80)
			fmt.Fprintf(&b, "allow p%d: %s -> %s : tcp %d-%d, udp %d\n", i, pick("office", "lab", "everywhere", "blue"),
				pick("host h1", "red", "fleet"), lo, lo+rng.IntN(30), 50+rng.IntN(9))
		}
	}
	if rng.IntN(3) == 0 {
		for i := range 1 + rng.IntN(3) {
			fmt.Fprintf(&b, "redirect r%d: %s\n", i,
				pick("office -> red : tcp 443 to tcp 1500", "everywhere -> fleet : tcp 22 to tcp 2222",
					"lab -> everywhere : tcp 80 through red to tcp 8080",
					"lab -> everywhere : udp 1500 through red to host h3 at hill : udp 1053",
					"everywhere -> host h1 : tcp 80 to host h2 at quay : tcp 8080", "10.0.0.0/8 -> host h1 at quay : udp 53 to udp 1053",
					"everywhere -> 198.51.100.0/24 : tcp 22 through red to 10.60.3.7 : tcp 22"))
		}
		if rng.IntN(2) == 0 {
			fmt.Fprintf(&b, "masquerade m: %s\n",
				pick("hill -> everywhere through red", "hill -> everywhere through green via wan*, eth0",
					"fleet, office -> everywhere through green via ctr0, zz*", "lab -> office through green",
					"quay, hill -> everywhere except lab through red, green"))
		}
	}
	return b.String()
}

var routers = regexp.MustCompile(`(?m)^(redirect|masquerade) .*\n| through \w+(, \w+)*`)

// WithoutRouters is the text of a random policy without what makes more hosts decide
// than those at the two ends.
func WithoutRouters(text string) string { return routers.ReplaceAllString(text, "") }

// Circumstance gives a packet what it does not show by itself, as in "user backup",
// "unit web.service", "encrypted" or "at 2027-03-31T23:59:59Z"; other words are left alone.
func Circumstance(t testing.TB, p packet.Packet, said string) packet.Packet {
	t.Helper()
	switch kind, name, _ := strings.Cut(said, " "); kind {
	case "user":
		p.User = name
	case "unit":
		p.Unit = name
	case "encrypted":
		p.IPsec = true
	case "at":
		at, err := time.Parse(time.RFC3339, name)
		require.NoError(t, err)
		p.Time = &at
	}
	return p
}

// beforeEnd is a trial of something that says nothing of when it ends.
func beforeEnd(trial, says string) string {
	if strings.Contains(says, "until") {
		return ""
	}
	return trial
}
