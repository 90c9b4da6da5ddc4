package iptables_test

import (
	"flag"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/dialect/iptables"
	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/core/policy/policytest"
)

var update = flag.Bool("update", false, "write golden files anew")

func written(t *testing.T, pol *policy.Policy, host string) map[string]string {
	t.Helper()
	sp := packet.NewSpace()
	files, err := iptables.Form{}.Write(sp, compile.ForHost(sp, pol, pol.Fleet.Host(host), 0))
	require.NoError(t, err)
	texts := map[string]string{}
	for _, f := range files {
		texts[string(f.Kind)] = f.Text
	}
	return texts
}

// TestWrite keeps the texts of two of Saltmarsh's hosts as people read them.
func TestWrite(t *testing.T) {
	pol := policytest.Saltmarsh(t, "../../..")
	for _, host := range []string{"jump-01", "pilotage-01"} {
		for kind, got := range written(t, pol, host) {
			golden := "testdata/" + host + "." + kind
			if *update {
				require.NoError(t, os.MkdirAll("testdata", 0o755))
				require.NoError(t, os.WriteFile(golden, []byte(got), 0o644))
			}
			want, err := os.ReadFile(golden)
			require.NoError(t, err)
			require.Equal(t, string(want), got)
		}
	}
}

// TestNamesThatAreTooLong are cut, and told apart.
func TestNamesThatAreTooLong(t *testing.T) {
	const long = "a-rule-whose-name-is-longer-than-any-tool-of-the-kernel-takes"
	pol := policytest.Resolve(t, policytest.Fleet, "policy p language 1\nrole red\nrole blue\nrole green\n"+
		"allow "+long+": 192.0.2.1, 192.0.2.3, 192.0.2.5 -> red : ssh, https at most 4 per 1m log\nallow "+long[:len(long)-1]+
		"x: 192.0.2.7, 192.0.2.9 -> red : ssh at most 2 per 1m log\n")
	texts := written(t, pol, "h1")
	chains := map[string]bool{}
	for line := range strings.Lines(texts["iptables"] + texts["ipset"]) {
		for option, most := range map[string]int{"--log-prefix ": 29, ":yf-": 25, "create ": 31, "-A yf-": 25} {
			if _, rest, ok := strings.Cut(line, option); ok {
				name := strings.Split(rest, " ")[0]
				if strings.HasPrefix(rest, `"`) {
					name = strings.Split(rest, `"`)[1]
				}
				require.LessOrEqual(t, len(name), most, line)
				if option == ":yf-" {
					require.False(t, chains[name], "two chains of one name: %s", name)
					chains[name] = true
				}
			}
		}
	}
	require.Contains(t, texts["iptables"], `--comment "allow `+long+`"`, "the comment says the name in full")
}

// TestOver: what is put in force over what was there asks ours first, takes away what
// is no longer ours, and names nothing of anybody else's.
func TestOver(t *testing.T) {
	const rules = "# h: written\n*filter\n:yf-inbound - [0:0]\n-A yf-inbound -j ACCEPT\nCOMMIT\n"
	for _, c := range []struct{ what, saved, want string }{
		{"a kernel without tables", "", "*filter\n:yf-inbound - [0:0]\n-A yf-inbound -j ACCEPT\n-I INPUT 1 -j yf-inbound\nCOMMIT\n"},
		{"ours stands first already", "*filter\n:INPUT ACCEPT [5:6]\n:yf-inbound - [0:0]\n[5:6] -A INPUT -j yf-inbound\n[0:0] -A INPUT " +
			"-j DROP\nCOMMIT\n",
			"*filter\n:yf-inbound - [0:0]\n-A yf-inbound -j ACCEPT\nCOMMIT\n"},
		{"somebody came before us", "*filter\n:INPUT ACCEPT [0:0]\n:yf-inbound - [0:0]\n-A INPUT -p tcp -j ACCEPT\n-A INPUT -j " +
			"yf-inbound\nCOMMIT\n",
			"*filter\n:yf-inbound - [0:0]\n-A yf-inbound -j ACCEPT\n-D INPUT -j yf-inbound\n-I INPUT 1 -j yf-inbound\nCOMMIT\n"},
		{"chains of an earlier policy", "*nat\n:PREROUTING ACCEPT [0:0]\n:yf-redirects - [0:0]\n-A PREROUTING -j yf-redirects\n-A " +
			"yf-redirects -p tcp -m tcp --dport 80 -j REDIRECT --to-ports 81\nCOMMIT\n" +
			"*filter\n:INPUT ACCEPT [0:0]\n:FORWARD ACCEPT [0:0]\n:other - [0:0]\n:yf-forward - [0:0]\n:yf-inbound - [0:0]\n-A INPUT -j " +
			"yf-inbound\n-A FORWARD -j yf-forward\n-A FORWARD -j other\nCOMMIT\n",
			"*nat\n:yf-redirects - [0:0]\n-D PREROUTING -j yf-redirects\n-X yf-redirects\nCOMMIT\n" +
				"*filter\n:yf-forward - [0:0]\n:yf-inbound - [0:0]\n-A yf-inbound -j ACCEPT\n-D FORWARD -j yf-forward\n-X " +
				"yf-forward\nCOMMIT\n"},
	} {
		require.Equal(t, c.want, iptables.Over(rules, c.saved), c.what)
	}
	require.Equal(t, "*filter\n:INPUT DROP [1:2]\n[3:4] -A INPUT -j ACCEPT\nCOMMIT\n",
		iptables.Before("# Generated\n*mangle\n:INPUT ACCEPT [0:0]\nCOMMIT\n*filter\n:INPUT DROP [1:2]\n[3:4] -A INPUT -j "+
			"ACCEPT\nCOMMIT\n# Completed\n"))
	require.Equal(t, []string{"yf4.old.0123abcd"},
		iptables.StaleSets("create yf4.new.89abcdef hash:net family inet\n",
			[]string{"yf4.new.89abcdef", "yf4.old.0123abcd", "somebody", "yf4.else"}))
}

// TestSenders: users and units are named in what is written, and filled in with what
// a host knows them by; whom it has not sends nothing.
func TestSenders(t *testing.T) {
	pol := policytest.Resolve(t, policytest.Fleet,
		"policy p language 1\nrole red { outbound closed }\nrole blue\nrole green\nallow a: red -> everywhere : ssh  from user backup, "+
			"ghost  from unit \"mirror@1.service\"\n")
	text := written(t, pol, "h1")["iptables"]
	require.Equal(t, []packet.Sender{{Kind: packet.ByUser, Name: "backup"}, {Kind: packet.ByUnit, Name: "mirror@1.service"},
		{Kind: packet.ByUser, Name: "ghost"}}, iptables.SendersOf(text))
	filled := iptables.Fill(text, func(s packet.Sender) string {
		return map[string]string{"user backup": "34", "unit mirror@1.service": "system.slice/mirror@1.service"}[s.String()]
	})
	require.Contains(t, filled, `--dport 22 -m owner --uid-owner 34 -m cgroup --path system.slice/mirror@1.service -m comment --comment `+
		`"allow a; from user backup; from unit mirror@1.service" -j ACCEPT`)
	require.Contains(t, filled, "--uid-owner 4294967294 -m cgroup")
	users, _ := iptables.Asked(filled)
	require.Contains(t, users, iptables.Nobody)
	rs, err := iptables.Read(packet.NewSpace(), packet.IPv4, "f", filled, iptables.Host{Users: map[int]string{34: "backup"}})
	require.NoError(t, err)
	var comments []string
	for _, c := range rs.Chains {
		for _, r := range c.Rules {
			if strings.HasPrefix(r.Comment, "allow") {
				comments = append(comments, r.Comment)
			}
		}
	}
	require.Equal(t, []string{"allow a", "allow a"}, comments, "whom the comment names is not part of whose rule it is")
	require.True(t, iptables.Form{}.Ours(&kernel.Chain{Family: "ip6", Table: "nat", Name: "yf-redirects"}))
}
