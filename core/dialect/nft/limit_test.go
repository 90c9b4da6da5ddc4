package nft_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/dialect/nft"
	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy/policytest"
)

// oneRule reads an inbound (or outbound) chain with one rule that accepts, and the objects beside it.
func oneRule(t *testing.T, sp *packet.Space, names *kernel.Names, hook, objects, expr string) packet.Set {
	t.Helper()
	text := fmt.Sprintf(`{"nftables": [%s {"chain": {"family": "inet", "table": "yellowfence", "name": "c", "type": "filter", "hook": "%s", "prio": 0, "policy": "drop"}},
		{"rule": {"family": "inet", "table": "yellowfence", "chain": "c", "handle": 7, "expr": [%s, {"accept": null}]}}]}`, objects, hook, expr)
	rs, err := nft.ReadJSON(sp, []byte(text), names)
	require.NoError(t, err, text)
	return sp.And(sp.Where(rs.Decision(sp), func(o packet.Outcome) bool { return o.Verdict == packet.Admit }),
		sp.Value(packet.Hook, map[string]int{"input": packet.In, "output": packet.Out, "forward": packet.Through}[hook]))
}

// TestLimits reads what can limit a rule: as a bucket where it is one, as a
// circumstance of its own where it is another, and never as nothing.
func TestLimits(t *testing.T) {
	const table = `"family": "inet", "table": "yellowfence"`
	perSource := func(size, timeout, op, elem, stmt string) (objects, expr string) {
		return fmt.Sprintf(`{"set": {%s, "name": "s", "type": "ipv4_addr", "flags": ["timeout"]%s%s}},`, table, size, timeout),
			fmt.Sprintf(`{"set": {"op": "%s", "elem": %s, "set": "@s", "stmt": [%s]}}`, op, elem, stmt)
	}
	const four = `{"payload": {"protocol": "ip", "field": "saddr"}}`
	const six = `{"&": [{"payload": {"protocol": "ip6", "field": "saddr"}}, "ffff:ffff:ffff:ffff::"]}`
	const limit = `{"limit": {"rate": 4, "burst": 4, "per": "minute"}}`
	for _, c := range []struct {
		what    string
		objects string
		expr    string
		want    string
	}{
		{"a rate of its own", "", limit, "inet yellowfence/c handle 7: 4 per 1m"},
		{"the kernel's burst where none is said", "", `{"limit": {"rate": 1, "per": "second"}}`, "inet yellowfence/c handle 7: 5 per 5s"},
		{"what exceeds it", "", `{"limit": {"rate": 4, "burst": 4, "per": "minute", "inv": true}}`,
			"inet yellowfence/c handle 7: 4 per 1m, exceeded"},
		{"one of a name", `{"limit": {` + table + `, "name": "x.4", "rate": 4, "per": "minute", "burst": 4}},`, `{"limit": "x.4"}`,
			"x.4: 4 per 1m"},
		{"one whose name is not there", "", `{"limit": "x.4"}`, "unknown limit name \"x.4\" (inet yellowfence/c handle 7)"},
		{"bytes", "", `{"limit": {"rate": 4, "per": "minute", "rate_unit": "kbytes"}}`,
			"inet yellowfence/c handle 7 limit rate 4 kbytes/minute: limit rate 4 kbytes/minute"},
		{"more connections than so many", "", `{"ct count": {"val": 20, "inv": true}}`,
			"inet yellowfence/c handle 7 ct count over 20: ct count 20, exceeded"},
		{"a quota of a name, which says by itself what it asks", "", `{"quota": "q"}`,
			"unknown quota name \"q\" (inet yellowfence/c handle 7)"},
		{"chance", "", `{"match": {"op": "==", "left": {"numgen": {"mode": "random", "mod": 2, "offset": 0}}, "right": 0}}`,
			"inet yellowfence/c handle 7 numgen random mod 2 0: by chance"},
		{"a quota", "", `{"quota": {"val": 5, "val_unit": "bytes"}}`, "inet yellowfence/c handle 7 quota 5 bytes: quota 5 bytes"},
	} {
		sp := packet.NewSpace()
		require.Equal(t, c.want, whatItAsks(sp, oneRule(t, sp, nil, "input", c.objects, c.expr)), c.what)
	}
	const other = "inet yellowfence/c handle 7 update @s { " // a circumstance of its own, and no such bucket
	for _, c := range []struct {
		what, size, timeout, op, elem, stmt, want string
	}{
		{"per source", `, "size": 100`, `, "timeout": 60`, "update", four, limit, "s: 4 per 1m per source"},
		{"per network of IPv6", `, "size": 100`, `, "timeout": 60`, "update", six, limit, "s: 4 per 1m per source"},
		{"forgotten before it is full", `, "size": 100`, `, "timeout": 59`, "update", four, limit, other},
		{"kept for ever", `, "size": 100`, "", "update", four, limit, other},
		{"without bound", "", `, "timeout": 60`, "update", four, limit, other},
		{"forgotten in the midst", `, "size": 100`, `, "timeout": 60`, "add", four, limit, "inet yellowfence/c handle 7 add @s { "},
		{"per destination", `, "size": 100`, `, "timeout": 60`, "update", strings.Replace(four, "saddr", "daddr", 1), limit, other},
		{"per other networks", `, "size": 100`, `, "timeout": 60`, "update",
			strings.Replace(six, "ffff:ffff:ffff:ffff", "ffff:ffff:ffff", 1), limit, other},
		{"what exceeds it", `, "size": 100`, `, "timeout": 60`, "update", four, strings.Replace(limit, `"per"`, `"inv": true, "per"`, 1),
			other},
		{"a count of connections", `, "size": 100`, `, "timeout": 60`, "update", four, `{"ct count": {"val": 3}}`, other},
	} {
		sp := packet.NewSpace()
		objects, expr := perSource(c.size, c.timeout, c.op, c.elem, c.stmt)
		got := whatItAsks(sp, oneRule(t, sp, nil, "input", objects, expr))
		require.True(t, strings.HasPrefix(got, c.want), "%s: %s", c.what, got)
	}
	sp := packet.NewSpace()
	objects, expr := perSource("", `, "timeout": 60`, "add", four, "")
	require.Equal(t, sp.And(sp.WellFormed(), sp.Value(packet.Hook, packet.In)), oneRule(t, sp, nil, "input", objects, expr),
		"a note that is kept of sources lets all by")
}

// whatItAsks says which bucket or unknown a set depends on.
func whatItAsks(sp *packet.Space, s packet.Set) string {
	if unknowns := sp.UnknownsOf(s); len(unknowns) > 0 {
		return "unknown " + unknowns[0]
	}
	buckets := packet.Buckets(sp, s)
	if len(buckets) == 0 {
		return "nothing"
	}
	text := buckets[0].Name + ": " + buckets[0].String()
	if sp.And(s, sp.HasToken(buckets[0])) == packet.Empty {
		text += ", exceeded"
	}
	return text
}

// TestCircumstancesOfADump: matches on time, IPsec, users and control groups.
func TestCircumstancesOfADump(t *testing.T) {
	names := &kernel.Names{Users: map[string]int{"backup": 34, "www-data": 33}, Gone: []int{4711},
		Control: map[int]string{4712: "system.slice/web.service"}, Absent: []string{"unit gone.service"}}
	match := func(left, op, right string) string {
		return fmt.Sprintf(`{"match": {"left": %s, "op": "%s", "right": %s}}`, left, op, right)
	}
	const user, unit, when, came, goes = `{"meta": {"key": "skuid"}}`, `{"socket": {"key": "cgroupv2"}}`, `{"meta": {"key": "time"}}`,
		`{"meta": {"key": "ipsec"}}`, `{"rt": {"key": "ipsec"}}`
	set := `{"set": {"family": "inet", "table": "yellowfence", "name": "s", "type": "uid", "comment": "user backup", "elem": [34]}},`
	for _, c := range []struct {
		what, hook, objects, expr string
		names                     *kernel.Names
		circumstance              string // of the packet
		want                      string
	}{
		{"a user by his number", "output", "", match(user, "==", "34"), names, "user backup", "yes"},
		{"not another", "output", "", match(user, "==", "34"), names, "user www-data", "no"},
		{"nor one without a name", "output", "", match(user, "==", "34"), names, "user user number 1000", "no"},
		{"who is somebody all the same", "output", "", match(user, "==", "1000"), names, "user user number 1000", "yes"},
		{"in a set", "output", set, match(user, "==", `"@s"`), names, "user backup", "yes"},
		{"anybody but", "output", "", match(user, "!=", "34"), names, "user www-data", "yes"},
		{"which needs somebody", "output", "", match(user, "!=", "34"), names, "", "no"},
		{"root is 0 everywhere", "output", "", match(user, "==", "0"), nil, "user root", "yes"},
		{"a number that nobody explains", "output", "", match(user, "==", "34"), nil, "user backup", "uncertain"},
		{"a range of them", "output", "", match(user, "==", `{"range": [1000, 2000]}`), names, "user backup", "no"},
		{"a range that holds one", "output", "", match(user, "==", `{"range": [30, 40]}`), names, "user backup", "yes"},
		{"not a range that holds one", "output", "", match(user, "!=", `{"range": [30, 40]}`), names, "user backup", "no"},
		{"a range that is too wide to be told", "output", "", match(user, "==", `{"range": [1000, 60000]}`), names, "user backup",
			"uncertain"},
		{"a control group by its path", "output", "", match(unit, "==", `"system.slice/backup.service"`), nil, "unit backup.service",
			"yes"},
		{"not another", "output", "", match(unit, "==", `"system.slice/backup.service"`), nil, "unit web.service", "no"},
		{"one that is gone", "output", "", match(unit, "==", `4711`), names, "unit backup.service", "no"},
		{"one whose path the host tells", "output", "", match(unit, "==", `4712`), names, "unit web.service", "yes"},
		{"a slice, which holds whom nobody tells", "output", "", match(unit, "==", `"system.slice"`), nil, "unit web.service", "uncertain"},
		{"which only the host can tell", "output", "", match(unit, "==", `4711`), nil, "unit backup.service", "uncertain"},

		{"before an instant", "input", "", match(when, "<", `"2027-04-01 00:00:00"`), nil, "at 2027-03-31T23:59:59Z", "yes"},
		{"not from then on", "input", "", match(when, "<", `"2027-04-01 00:00:00"`), nil, "at 2027-04-01T00:00:00Z", "no"},
		{"from an instant on", "input", "", match(when, ">=", `"2027-04-01 00:00:00"`), nil, "at 2027-04-01T00:00:00Z", "yes"},
		{"to the nanosecond is not to the second", "input", "", match(when, ">", `"2027-04-01 00:00:00"`), nil, "at 2027-04-01T00:00:00Z",
			"uncertain"},
		{"after an instant", "input", "", match(when, ">", `"2027-04-01 00:00:00"`), nil, "at 2027-04-01T00:00:01Z", "yes"},
		{"not after one", "input", "", match(when, ">", `"2027-04-01 00:00:00"`), nil, "at 2027-03-31T23:59:59Z", "no"},
		{"up to an instant", "input", "", match(when, "<=", `"2027-04-01 00:00:00"`), nil, "at 2027-04-01T00:00:00Z", "uncertain"},
		{"between two", "input", "", match(when, "==", `{"range": ["2027-04-01 00:00:00", "2027-04-02 00:00:00"]}`), nil,
			"at 2027-04-01T00:00:00Z", "yes"},
		{"not between two", "input", "", match(when, "!=", `{"range": ["2027-04-01 00:00:00", "2027-04-02 00:00:00"]}`), nil,
			"at 2027-04-01T12:00:00Z", "no"},
		{"no time", "input", "", match(when, "<", `"soon"`), nil, "", "uncertain"},
		{"an hour of the day", "input", "", match(`{"meta": {"key": "hour"}}`, "<", `"17:00"`), nil, "", "uncertain"},

		{"came by IPsec", "input", "", match(came, "==", "true"), nil, "encrypted", "yes"},
		{"did not", "input", "", match(came, "==", "true"), nil, "", "no"},
		{"missing", "input", "", match(came, "==", "false"), nil, "", "yes"},
		{"will go by IPsec", "output", "", match(goes, "==", "true"), nil, "encrypted", "yes"},
		{"how it came, of what is sent", "output", "", match(came, "==", "true"), nil, "encrypted", "uncertain"},
		{"how it will go, of what is forwarded", "forward", "", match(goes, "==", "true"), nil, "encrypted", "uncertain"},
	} {
		sp := packet.NewSpace()
		admitted := oneRule(t, sp, c.names, c.hook, c.objects, c.expr)
		p := policytest.Circumstance(t, tcp("198.51.100.1", 4000, 22, "new"), c.circumstance)
		switch c.hook {
		case "output":
			p.Hook, p.In, p.Out = packet.Out, "", "eth0"
		case "forward":
			p.Hook, p.Out = packet.Through, "eth1"
		}
		got := "uncertain"
		switch one := sp.Exactly(p); {
		case sp.Within(one, sp.Certain(admitted)):
			got = "yes"
		case sp.And(one, sp.Possible(admitted)) == packet.Empty:
			got = "no"
		}
		require.Equal(t, c.want, got, c.what)
	}
}

// TestFillingSenders: what a host knows its users and units by is put in as part of the same load.
func TestFillingSenders(t *testing.T) {
	const rules = "table inet yellowfence {\n\tset from.user.backup {\n\t\ttypeof meta skuid\n\t\tcomment \"user backup\"\n\t}\n\n\tset " +
		"from.unit..78 {\n\t\ttypeof socket cgroupv2 level 2\n\t\tcomment \"unit x@1.service\"\n\t}\n\n" +
		"\tchain outbound {\n\t\tmeta skuid @from.user.backup socket cgroupv2 level 2 @from.unit..78 accept\n\t}\n}\n"
	require.Equal(t, []nft.Sender{{Set: "from.user.backup", Sender: packet.Sender{Kind: packet.ByUser, Name: "backup"}},
		{Set: "from.unit..78", Sender: packet.Sender{Kind: packet.ByUnit, Name: "x@1.service"}}}, nft.SendersOf(rules))
	require.Equal(t, rules, nft.Fill(rules, nil), "whom the host does not have sends nothing")
	filled := nft.Fill(rules, map[string]nft.Filling{"from.user.backup": {Element: "34"},
		"from.unit..78": {Element: `"a.slice/a-b.slice/x@1.service"`, Level: 3}})
	require.Contains(t, filled, "socket cgroupv2 level 3 @from.unit..78 accept")
	require.True(t, strings.HasSuffix(filled,
		"}\nadd element inet yellowfence from.user.backup { 34 }\nadd element inet yellowfence from.unit..78 { "+
			"\"a.slice/a-b.slice/x@1.service\" }\n"))

	asked, err := nft.Asked([]byte(`{"nftables": [
		{"set": {"family": "inet", "table": "yellowfence", "name": "from.user.backup", "type": "uid", "comment": "user backup", "elem": [34, {"range": [1000, 1001]}]}},
		{"set": {"family": "inet", "table": "yellowfence", "name": "from.unit.x", "type": "cgroupsv2", "comment": "unit x", "elem": ["system.slice/x", 77]}},
		{"set": {"family": "inet", "table": "other", "name": "x", "type": "uid", "comment": "user mallory"}},
		{"rule": {"family": "inet", "table": "other", "chain": "c", "expr": [{"match": {"left": {"meta": {"key": "skuid"}}, "op": "==", "right": {"set": [33, 34]}}}, {"accept": null}]}},
		{"rule": {"family": "inet", "table": "other", "chain": "c", "expr": [{"match": {"left": {"socket": {"key": "cgroupv2"}}, "op": "==", "right": 78}}]}},
		{"rule": {"family": "inet", "table": "other", "chain": "c", "expr": [{"match": {"left": {"meta": {"key": "skgid"}}, "op": "==", "right": 79}}]}}]}`))
	require.NoError(t, err)
	require.Equal(t, nft.Question{
		Senders: []nft.Sender{{Set: "from.user.backup", Sender: packet.Sender{Kind: packet.ByUser, Name: "backup"}},
			{Set: "from.unit.x", Sender: packet.Sender{Kind: packet.ByUnit, Name: "x"}}},
		Users: []int{33, 34, 1000, 1001}, Groups: []int{79}, Control: []int{77, 78},
	}, asked)
	_, err = nft.Asked([]byte("half a"))
	require.Error(t, err)
}
