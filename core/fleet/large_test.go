package fleet

import (
	"encoding/json"
	"fmt"
	"runtime"
	"strings"
	"testing"

	"github.com/goccy/go-yaml"
	"github.com/stretchr/testify/require"
)

// many is a fleet of many hosts, in each format.
func many(hosts int) map[Format]string {
	fl := &Fleet{}
	for i := range hosts {
		fl.Hosts = append(fl.Hosts, &Host{})
		text := fmt.Sprintf(`{"name": "host-%d", "roles": ["r%d", "s%d"], "dialect": "nft", "interfaces": [{"name": "eth0", "addresses": `+
			`["10.%d.%d.%d/8", "2001:db8::%x/64"]}]}`, i, i%40, i%7, i>>16, i>>8&255, i&255, i+1)
		one, problems := ReadJSON("", []byte(`{"hosts": [`+text+`]}`))
		if problems != nil {
			panic(problems[0])
		}
		fl.Hosts[i] = one.Hosts[0]
	}
	out := map[Format]string{}
	for _, f := range []Format{JSON, YAML, CSV} {
		text, err := Write(fl, f)
		if err != nil {
			panic(err)
		}
		out[f] = string(text)
	}
	compact, _ := json.Marshal(fl)
	out["in one line"] = string(compact)
	return out
}

func name(f Format) string {
	if f == "in one line" {
		return "f.json"
	}
	return "f." + string(f)
}

// TestLargeFleetsAreTheSame in every format, with hosts in their places.
func TestLargeFleetsAreTheSame(t *testing.T) {
	texts := many(3000)
	want, problems := Read("f.json", []byte(texts[JSON]))
	require.Empty(t, problems)
	for f, text := range texts {
		got, problems := Read(name(f), []byte(text))
		require.Empty(t, problems, f)
		require.Empty(t, Changes(want, got), f)
		h := got.Hosts[2999]
		line := strings.Split(text, "\n")[h.Pos.Line-1]
		require.True(t, strings.HasPrefix(string([]rune(line)[h.Pos.Column-1:]), h.Name) ||
			strings.HasPrefix(string([]rune(line)[h.Pos.Column-1:]), `"`+h.Name), "%s %s %.100q", f, h.Pos, line)
	}
}

// TestYAMLLayouts: however a list of hosts is laid out, it is read as the library reads all
// of it at once.
func TestYAMLLayouts(t *testing.T) {
	host := func(indent, name string) string {
		return strings.ReplaceAll("~- name: "+name+"\n~  roles: [r]\n~  interfaces:\n~  - {name: eth0, addresses: []}\n", "~", indent)
	}
	for _, c := range []struct{ text, hosts string }{
		{"hosts:\n" + host("", "a") + host("", "b"), "a b"},
		{"hosts:\n" + host("  ", "a") + host("  ", "b"), "a b"},
		{"# fleet\n\nhosts: # all\n\n# the first\n" + host("  ", "a") + "\n# the next\n" + host("  ", "b") +
			"\nservice:\n  addresses: [10.0.0.5]\n  port: 8480\n", "a b"},
		{"service:\n  addresses: [10.0.0.5]\n  port: 8480\nhosts:\n" + host("", "a"), "a"},
		{"hosts: [{name: a, roles: [r], interfaces: []}]\n", "a"},
		{"{\"hosts\": [{\"name\": \"a\", \"roles\": [\"r\"],\n \"interfaces\": []}]}", "a"},
		{"hosts:\n-\n  name: a\n  roles:\n  - r\n  interfaces: []\n", "a"},
		{"hosts:\n- name: 'a'\n  roles: [\"r\"]\n  interfaces: []", "a"},
		{"hosts:\r\n- name: a\r\n  roles: [r]\r\n  interfaces: []\r\n", "a"},
	} {
		fl, problems := Read("f.yaml", []byte(c.text))
		require.Empty(t, problems, "%s", c.text)
		var names []string
		for _, h := range fl.Hosts {
			names = append(names, h.Name)
		}
		require.Equal(t, c.hosts, strings.Join(names, " "), "%s", c.text)
		var whole struct{ Hosts []struct{ Name string } }
		require.NoError(t, yaml.Unmarshal([]byte(c.text), &whole))
		require.Len(t, whole.Hosts, len(fl.Hosts))
	}
	_, problems := Read("f.yaml", []byte("hosts:\n- name: a\n  roles: [r]\n  interfaces: []\n\nservice:\n  addresses: [10.0.0.5]\n  "+
		"prot: 1\n"))
	last := problems[len(problems)-1]
	require.Equal(t, []int{8, 3}, []int{last.Line, last.Column}, "what comes after the hosts stays in its lines")
	_, problems = Read("f.yaml", []byte("hosts:\n"+strings.Repeat(host("", "a"), 2000)+"- name: [\n"))
	require.Len(t, problems, 1)
	require.GreaterOrEqual(t, problems[0].Line, 8000, "%v", problems[0])
}

// TestHostileFleetFiles are told in one clear problem, and take memory that is linear in
// their length.
func TestHostileFleetFiles(t *testing.T) {
	deep := "f:1:1 fleet-syntax: lists and objects stand in one another more than 32 deep"
	for _, c := range []struct{ file, text, want string }{
		{"f.yaml", strings.Repeat("- ", 200_000), "a line of a YAML fleet file has at most 16384 bytes"},
		{"f.yaml", strings.Repeat("- ", 5_000), deep},
		{"f.yaml", strings.Repeat(strings.Repeat("- ", 30)+"x\n", 20_000), "laid out as a block"},
		{"f.yaml", strings.Repeat("[", 10_000), deep},
		{"f.yaml", strings.Repeat("[\n", 100_000), "more than 32 deep"},
		{"f.yaml", strings.Repeat("a: \"\n[[[[[[[[\n", 50_000), "fleet-s"},
		{"f.yaml", "hosts:\n" + strings.Repeat("- {a: [{b: [{c: [{d: [{}]}]}]}]}\n", 20_000), "a host has no key"},
		{"f.yaml", "hosts:\n- " + strings.Repeat("a: &x [*x]\n  ", 20_000), "fleet-"},
		{"f.yaml", func() (s string) {
			for i := range 3000 {
				s += strings.Repeat(" ", i) + "a:\n"
			}
			return s
		}(), "more than 32 deep"},
		{"f.json", strings.Repeat("[", 1_000_000), "more than 32 deep"},
		{"f.json", strings.Repeat(`{"a":`, 1_000_000), "more than 32 deep"},
		{"f.json", `{"hosts": [` + strings.Repeat(`{},`, 250_000) + `{}]}`, "it may have up to 200000 hosts, this one has 250001"},
		{"f.json", `{"hosts": [{"name": "a", "roles": [` + strings.Repeat(`"r",`, 500_000) + `"r"], "interfaces": []}]}`,
			"there are 500001 roles in this list, more than the 100"},
		{"f.csv", "host,roles,dialect,interface,address\n" + func() (s string) {
			var b strings.Builder
			for i := range 200_000 {
				fmt.Fprintf(&b, "a,r,nft,e%d,10.0.0.1/8\n", i)
			}
			return b.String()
		}(), "there are 200000 interfaces in this list"},
		{"f.csv", strings.Repeat("\"\n", 300_000), "fleet-syntax"},
		{"f.json", strings.Repeat(" ", MaxFile+1), "the fleet file is too large to be read"},
	} {
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		_, problems := Read(c.file, []byte(c.text))
		runtime.ReadMemStats(&after)
		require.NotEmpty(t, problems)
		require.LessOrEqual(t, len(problems), maxProblems)
		said := ""
		for _, p := range problems {
			said += fmt.Sprintf("f:%d:%d %s: %s %s\n", p.Line, p.Column, p.Code, p.Message, p.Hint)
		}
		require.Contains(t, said, strings.TrimPrefix(c.want, "f:1:1 "), "%.60q", c.text)
		require.Less(t, (after.TotalAlloc-before.TotalAlloc)/uint64(len(c.text)+1000), uint64(1500),
			"%.60q: all that was allocated, for a byte", c.text)
	}
}

// BenchmarkRead reads a fleet of 10,000 hosts in each format.
func BenchmarkRead(b *testing.B) {
	for f, text := range many(10_000) {
		b.Run(string(f), func(b *testing.B) {
			b.SetBytes(int64(len(text)))
			for b.Loop() {
				if _, problems := Read(name(f), []byte(text)); problems != nil {
					b.Fatal(problems[0])
				}
			}
		})
	}
}
