package forms_test

import (
	"flag"
	"fmt"
	"os"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/dialect"
	"yellowfence.example/yfence/core/dialect/forms"
	"yellowfence.example/yfence/core/dialect/iptables"
	"yellowfence.example/yfence/core/dialect/nft"
	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy/policytest"
)

var update = flag.Bool("update", false, "write the tables of docs/dialects.md anew")

// known is what the examples of the table ask of their host.
const (
	nftObjects = "\tset friends {\n\t\ttype ipv4_addr\n\t\telements = { 192.0.2.1, 192.0.2.7 }\n\t}\n\tset tries {\n\t\ttype " +
		"ipv4_addr\n\t\tsize 100\n\t\tflags dynamic,timeout\n\t\ttimeout 1m\n\t}\n" +
		"\tlimit talk {\n\t\trate 4/minute burst 4 packets\n\t}\n\tchain more {\n\t\ttcp sport 80 accept\n\t}\n"
	ipsets = "create friends hash:ip family inet\nadd friends 192.0.2.1\ncreate pairs hash:ip,port family inet\nadd pairs " +
		"192.0.2.1,tcp:22\ncreate shortly hash:ip family inet timeout 60\nadd shortly 192.0.2.1 timeout 9\n"
	routed = "default via 192.0.2.254 dev eth0\nlocal 192.0.2.3 dev eth0 table local\n"
)

// TestMatchesAreRead: what the table says of each example is so.
func TestMatchesAreRead(t *testing.T) {
	routes, err := kernel.ReadRoutes(routed)
	require.NoError(t, err)
	for _, k := range append(append([]forms.Kind(nil), forms.Matches...), forms.Actions...) {
		if k.NFT != "" {
			hook := map[string]string{"": "filter hook input priority 0", "OUTPUT": "filter hook output priority 0",
				"raw": "filter hook prerouting priority -300", "mangle": "filter hook prerouting priority -150",
				"nat": "nat hook prerouting priority -100"}[k.In]
			if k.NFT == "masquerade" {
				hook = "nat hook postrouting priority 100"
			}
			sp := packet.NewSpace()
			rs, err := nft.ReadText(sp, "f", []byte("table inet t {\n"+nftObjects+"\tchain c {\n\t\ttype "+hook+"; policy drop;\n\t\t"+
				strings.Replace(ending(k.NFT, "accept"), " drop", " drop\n\t\taccept", 1)+"\n\t}\n}\n"),
				&kernel.Names{Users: map[string]int{"backup": 34}, Groups: map[string]int{"backup": 34}, Routes: routes})
			require.NoError(t, err, k.NFT)
			require.Equal(t, k.Read.String(), how(sp, rs).String(), "%s: %s", k.What, k.NFT)
		}
		if k.IPTables != "" {
			table, chain := "filter", "INPUT"
			switch k.In {
			case "OUTPUT":
				chain = k.In
			case "raw", "mangle", "nat":
				table, chain = k.In, "PREROUTING"
			}
			rule := k.IPTables
			if !strings.Contains(rule, "-j ") {
				rule += " -j ACCEPT"
			}
			if strings.HasSuffix(rule, " -j DROP") {
				rule += fmt.Sprintf("\n-A %s -j ACCEPT", chain) // so that it decides
			}
			sp := packet.NewSpace()
			sets, err := iptables.ReadSets(ipsets)
			require.NoError(t, err)
			rs, err := iptables.Read(sp, packet.IPv4, "f",
				fmt.Sprintf("*%s\n:%s DROP [0:0]\n:more - [0:0]\n-A more -j ACCEPT\n-A %[2]s %s\nCOMMIT\n", table, chain, rule),
				iptables.Host{Users: map[int]string{34: "backup"}, Groups: map[int]string{34: "backup"}, Sets: sets, Routes: routes})
			require.NoError(t, err, rule)
			require.Equal(t, k.Read.String(), how(sp, rs).String(), "%s: %s", k.What, rule)
		}
	}
}

// ending adds a verdict to a rule that is a match alone.
func ending(rule, verdict string) string {
	for _, does := range []string{" accept", " drop", "reject", "log", "jump", "vmap", "mark set", "redirect", "dnat ", "masquerade",
		"notrack", "counter", "flow add", "queue", "tproxy"} {
		if strings.Contains(" "+rule, does) && rule != "ct status dnat" {
			return rule
		}
	}
	return rule + " " + verdict
}

// how tells what a ruleset's decision depends on. That a connection which stands may
// have been translated before is told by itself.
func how(sp *packet.Space, rs *kernel.Ruleset) forms.How {
	rs.Tracks = [2]bool{true, true}
	d := sp.Answered(rs.Decision(sp), kernel.Translated, false)
	d = sp.Answered(d, kernel.LaterPorts, false)
	for _, c := range rs.Chains {
		d = sp.Answered(d, "whether chain "+c.Place()+" changed the target of a connection that stands", false)
	}
	for _, rule := range []string{"th dport 53", "whether it came in a frame to others than its address says",
		`whether routes lead an address of many, of none or of the host itself by eth0`} {
		d = sp.Answered(d, rule, false)
	}
	switch admitted := sp.Where(d, func(o packet.Outcome) bool { return o.Verdict == packet.Admit }); {
	case len(sp.UnknownsOf(admitted)) > 0:
		return forms.Uncertain
	case len(packet.Buckets(sp, d)) > 0:
		return forms.Circumstance
	}
	return forms.Exactly
}

// TestMatchesAreWritten: rules of the policy are written as the table says.
func TestMatchesAreWritten(t *testing.T) {
	many := "198.51.100.1, 198.51.100.3, 198.51.100.5, 198.51.100.7, 198.51.100.9"
	for _, k := range append(append([]forms.Kind(nil), forms.Matches...), forms.Actions...) {
		if k.Written == "" {
			continue
		}
		pol := policytest.Resolve(t, policytest.Fleet,
			"policy p language 1\nnetwork office = 198.51.100.0/24, 2001:db8:5::/48\nnetwork many = "+many+
				"\nsegment wire = 10.0.0.0/8\nrole red { outbound closed }\nrole blue\nrole green\n"+k.Written+"\n")
		for _, f := range kernels {
			sp := packet.NewSpace()
			plan := compile.ForHost(sp, pol, pol.Fleet.Host("h1"), 0)
			files, err := f.Write(sp, plan)
			require.NoError(t, err, k.Written)
			require.NoError(t, dialect.Prove(f, sp, plan, files))
			example := map[string]string{"nft": k.NFT, "iptables": k.IPTables}[f.Name()]
			if example == "" {
				continue
			}
			// The words of the example that are not values stand in the text too.
			text := joined(files)
			for _, word := range words.FindAllString(example, -1) {
				require.Contains(t, text, word, "%s is written as in %s:\n%s", k.Written, example, text)
			}
		}
	}
}

// words are those of an example that its dialect has for the thing itself.
var words = regexp.MustCompile(`--(?:dports|icmp-type|src-range|match-set|ctstate|uid-owner|path|pol|datestop|hashlimit-\S+) ` +
	`|(?:l4proto|dport|saddr|ipsec|limit name|update|ct state|skuid|cgroupv2|reject|drop|accept|log prefix|jump|DROP|ACCEPT|REJECT|LOG)\b`)

// TestDialectsAreDocumented: docs/dialects.md lists what the table does.
func TestDialectsAreDocumented(t *testing.T) {
	const name = "../../../docs/dialects.md"
	text, err := os.ReadFile(name)
	require.NoError(t, err)
	want := string(text)
	for head, kinds := range map[string][]forms.Kind{"asks": forms.Matches, "does": forms.Actions} {
		var rows strings.Builder
		code := func(s string) string {
			if s == "" {
				return "–"
			}
			return "`" + strings.ReplaceAll(s, "|", `\|`) + "`"
		}
		for _, k := range kinds {
			read := k.Read.String()
			if k.Note != "" {
				read += "; " + k.Note
			}
			fmt.Fprintf(&rows, "| %s | %s | %s | %s | %s |\n", k.What, code(k.NFT), code(k.IPTables), read, code(k.Written))
		}
		table := regexp.MustCompile(`(?s)(\| what a rule ` + head + ` \| [^\n]*\n\|[-|]*\|\n).*?\n(\n|$)`)
		require.Regexp(t, table, want)
		want = table.ReplaceAllStringFunc(want, func(old string) string {
			return strings.Join(strings.SplitAfterN(old, "\n", 3)[:2], "") + rows.String() + "\n"
		})
	}
	if *update {
		require.NoError(t, os.WriteFile(name, []byte(want), 0o644))
		return
	}
	require.Equal(t, want, string(text), "go test ./core/dialect/forms -update writes the tables anew")
}
