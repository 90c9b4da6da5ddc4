package fleet

import (
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestSaltmarshIsRead(t *testing.T) {
	data, err := os.ReadFile("../../demo/saltmarsh/fleet.json")
	require.NoError(t, err)
	fl, problems := ReadJSON("fleet.json", data)
	require.Empty(t, problems)
	require.Len(t, fl.Hosts, 15)
	h := fl.Host("logbook-01")
	require.Equal(t, []string{"logbook"}, h.Roles)
	require.Equal(t, "nft", h.Dialect, "the default")
	require.Equal(t, "10.60.3.40/16", h.Interfaces[1].Addresses[0].String())
	require.Equal(t, "fleet.json:33:12", h.Pos.String())
	require.Equal(t, []string{"10.40.3.40", "10.60.3.40", "fd40::3:40", "fd60::3:40"}, func() (out []string) {
		for _, p := range h.Addresses().Prefixes() {
			out = append(out, p.Addr().String())
		}
		return out
	}())
	require.Nil(t, fl.Host("nobody"))
}

// TestMessages shows what is said of each mistake in a fleet file.
func TestMessages(t *testing.T) {
	host := func(fields string) string {
		return `{"hosts": [{"name": "a", "roles": ["r"], "interfaces": [], ` + fields + `}]}`
	}
	for _, c := range []struct{ text, want string }{
		{``, "1:1 fleet-syntax: this is not JSON: the document ends in the middle | "},
		{`{"hosts": [`, "1:12 fleet-syntax: this is not JSON: the document ends in the middle | "},
		{"{\"hosts\":\n  [}", "2:4 fleet-syntax: this is not JSON: invalid character '}' looking for beginning of value | "},
		{`[]`, "1:1 fleet-type: expected a fleet, found a list | "},
		{`{}`, `1:1 fleet-key: a fleet needs the key "hosts" | `},
		{`{"hosts": [], "hots": []}`, `1:15 fleet-key: a fleet has no key "hots" | did you mean "hosts"?`},
		{`{"hosts": [], "hosts": []}`, `1:15 fleet-key: the key "hosts" stands twice | leave one`},
		{`{"hosts": {}}`, "1:11 fleet-type: expected a list of hosts, found a object | "},
		{`{"hosts": [{"name": "a"}]}`, "1:12 fleet-key: a host needs the key \"roles\" | \n1:12 fleet-key: a host needs the key " +
			"\"interfaces\" | "},
		{host(`"own_console": "yes"`), "1:75 fleet-type: expected true or false, found a text | "},
		{host(`"dialect": "ntf"`), `1:71 fleet-dialect: "ntf" is not a dialect | the dialects are nft, iptables, portable, none`},
		{host(`"seen_as": ["1.2.3"]`), `1:72 fleet-address: "1.2.3" is not an address of a host | write 203.0.113.70/28 or ` +
			`2001:db8:1::70/64, with the length of the network's prefix on an interface`},
		{host(`"seen_as": ["::ffff:10.40.1.11"]`),
			`1:72 fleet-address: "::ffff:10.40.1.11" is not an address of a host | write 203.0.113.70/28 or 2001:db8:1::70/64, with the ` +
				`length of the network's prefix on an interface`},
		{host(`"seen_as": ["255.255.255.255"]`),
			`1:72 fleet-address: "255.255.255.255" is not an address of a host | write 203.0.113.70/28 or 2001:db8:1::70/64, with the ` +
				`length of the network's prefix on an interface`},
		{`{"hosts": [{"name": "A b", "roles": [], "interfaces": []}]}`,
			"1:21 fleet-name: \"A b\" is not a host's name | a host's name is made of small letters, digits, hyphens and dots\n1:37 " +
				"fleet-role: a host has at least one role | name the role whose rules it is to get"},
		{`{"hosts": [{"name": "a", "roles": ["r", "r"], "interfaces": [{"name": "far-too-long-a-name", "addresses": []}]}]}`,
			"1:41 fleet-role: the role \"r\" stands twice | leave one\n1:71 fleet-interface: \"far-too-long-a-name\" is not an " +
				"interface's name | it has at most 15 characters: letters, digits and . _ : @ -"},
		{`{"hosts": [{"name": "a", "roles": ["r"], "interfaces": [{"name": "e", "addresses": ["10.0.0.1/8"]}]},
 {"name": "a", "roles": ["r"], "interfaces": [{"name": "e", "addresses": ["10.0.0.1/8"]}]}]}`,
			"2:11 fleet-twice: the host \"a\" stands twice | the other is at f.json:1:21\n2:11 fleet-twice: the address 10.0.0.1 of a is " +
				"also a's | an address belongs to one interface of one host, unless it is `floating`; a is at f.json:1:21"},
		{`{"hosts": [{"name": "a", "roles": ["r"], "interfaces": [], "knowingly": [{"code": "no-way-in"}]}]}`,
			`1:74 fleet-key: an acceptance needs the key "because" | `},
		{host(`"instance": {"cloud": "dunlin"}`), "1:72 fleet-key: an instance needs the key \"id\" | "},
		{host(`"instance": {"cloud": "", "id": "p-1", "labels": {"tier": 3}}`),
			"1:82 fleet-type: expected the cloud's name, found nothing | \n1:118 fleet-type: expected a label's value as a text, found a " +
				"number | "},
		{host(`"instance": {"cloud": "c", "id": "p", "labels": {"a": "1", "a": "2"}}`),
			"1:119 fleet-key: the key \"a\" stands twice | leave one"},
		{host(`"floating": ["203.0.113.75/28"]`),
			`1:73 fleet-address: "203.0.113.75/28" is not an address of a host | write 203.0.113.70/28 or 2001:db8:1::70/64, with the ` +
				`length of the network's prefix on an interface`},
		{`{"hosts": [{"name": "a", "roles": ["r"], "interfaces": [{"name": "e", "addresses": ["10.0.0.1/8"], "dynamic": 1}], "instance": {"cloud": "c", "id": "p"}},
 {"name": "b", "roles": ["r"], "interfaces": [], "floating": ["10.0.0.1"], "instance": {"cloud": "c", "id": "p"}}]}`,
			"1:111 fleet-type: expected true or false, found a number | \n2:11 fleet-twice: the instance p of c is also a's | an " +
				"instance is one host; a is at f.json:1:21\n2:11 fleet-twice: the address 10.0.0.1 floats on b and stands on an " +
				"interface of a | write it as `floating` on every host that can have it, and on no interface"},
		{`{"service": {"addresses": [], "port": 99999}, "hosts": []}`,
			"1:39 fleet-type: expected a port | a port is a number from 1 to 65535"},
	} {
		_, problems := ReadJSON("f.json", []byte(c.text))
		var got []string
		for _, p := range problems {
			got = append(got, fmt.Sprintf("%d:%d %s: %s | %s", p.Line, p.Column, p.Code, p.Message, p.Hint))
		}
		require.Equal(t, c.want, strings.Join(got, "\n"), "%s", c.text)
	}
}

// TestFormats reads Saltmarsh's fleet in every format it can be written in, and back.
func TestFormats(t *testing.T) {
	data, err := os.ReadFile("../../demo/saltmarsh/fleet.json")
	require.NoError(t, err)
	fl, problems := Read("fleet.json", data)
	require.Empty(t, problems)
	for _, format := range []Format{JSON, YAML, CSV} {
		if format == CSV { // which cannot say these
			_, err := Write(fl, CSV)
			require.ErrorContains(t, err, "where the service is")
			fl.Service = Service{}
			_, err = Write(fl, CSV)
			require.ErrorContains(t, err, "all of jump-01")
			fl.Host("jump-01").OwnConsole = false
			_, err = Write(fl, CSV)
			require.ErrorContains(t, err, "all of charts-cloud-01")
			fl.Host("charts-cloud-01").Instance, fl.Host("charts-cloud-01").Dialect = nil, "nft"
		}
		text, err := Write(fl, format)
		require.NoError(t, err)
		back, problems := Read("fleet."+string(format), text)
		require.Empty(t, problems, "%s", text)
		require.Empty(t, Changes(fl, back), "%s", text)
		require.Equal(t, format, FormatOf("-", text), "told by how it begins")
	}
}

func TestMessagesInOtherFormats(t *testing.T) {
	for _, c := range []struct{ file, text, want string }{
		{"f.yaml", "hosts:\n  - name: a\n    rols: [r]\n    interfaces: []\n",
			"2:5 fleet-key: a host needs the key \"roles\" | \n3:5 fleet-key: a host has no key \"rols\" | did you mean \"roles\"?"},
		{"f.yaml", "hosts:\n  - {name: a, roles: [r], interfaces: [{name: e, addresses: [10.0.0.1/33]}]}\n",
			`2:62 fleet-address: "10.0.0.1/33" is not an address of a host | write 203.0.113.70/28 or 2001:db8:1::70/64, with the length ` +
				`of the network's prefix on an interface`},
		{"f.yaml", "hosts: [", "1:8 fleet-syntax: this is not YAML: sequence end token ']' not found | "},
		{"f.csv", "host,roles,dialect,interface,address\na,r,nft,eth0,10.0.0.1/8\na,x,nft,eth0,10.0.0.2/8\n",
			`3:3 fleet-twice: roles of a was "r" on an earlier line | write the same on every line of a host`},
		{"f.csv", "host,roles,dialect,interface,address\na,r,ntf,eth0,10.0.0/8\n",
			"2:5 fleet-dialect: \"ntf\" is not a dialect | the dialects are nft, iptables, portable, none\n2:14 fleet-address: " +
				"\"10.0.0/8\" is not an address of a host | write 203.0.113.70/28 or 2001:db8:1::70/64, with the length of the network's " +
				"prefix on an interface"},
		{"f.csv", "name,roles,dialect,interface,address\n",
			"1:1 fleet-syntax: the first line is not the head of the columns | write: host,roles,dialect,interface,address"},
		{"f.csv", "host,roles,dialect,interface,address\na,r\n",
			"2:1 fleet-syntax: this is not CSV of 5 columns: wrong number of fields | each line is host,roles,dialect,interface,address"},
	} {
		_, problems := Read(c.file, []byte(c.text))
		var got []string
		for _, p := range problems {
			got = append(got, fmt.Sprintf("%d:%d %s: %s | %s", p.Line, p.Column, p.Code, p.Message, p.Hint))
		}
		require.Equal(t, c.want, strings.Join(got, "\n"), "%s", c.text)
	}
}

// TestWhatIsEmptyReadsBack: a host without an address, a fleet without a service.
func TestWhatIsEmptyReadsBack(t *testing.T) {
	for _, text := range []string{`{"hosts": []}`, `{"hosts": [{"name": "a", "roles": ["r"], "interfaces": []}]}`,
		`{"hosts": [{"name": "a", "roles": ["r"], "interfaces": [{"name": "e", "addresses": []}]}]}`} {
		fl, problems := Read("f.json", []byte(text))
		require.Empty(t, problems)
		for _, format := range []Format{JSON, YAML} {
			written, err := Write(fl, format)
			require.NoError(t, err)
			back, problems := Read("f."+string(format), written)
			require.Empty(t, problems, "%s", written)
			require.Empty(t, Changes(fl, back))
			require.Equal(t, fl.Names(), back.Names())
		}
	}
}

// TestInstances: what only a cloud or a pair of hosts has is read, written and told.
func TestInstances(t *testing.T) {
	const text = `{"hosts": [
	 {"name": "a", "roles": ["r"], "dialect": "none", "interfaces": [{"name": "e", "addresses": ["10.0.0.1/8"], "dynamic": true}], "floating": ["203.0.113.75", "2001:db8::75"], "instance": {"cloud": "dunlin", "id": "p-1", "labels": {"zone": "b", "role": "r"}}},
	 {"name": "b", "roles": ["r"], "interfaces": [], "floating": ["203.0.113.75"]}]}`
	fl, problems := Read("f.json", []byte(text))
	require.Empty(t, problems)
	require.Equal(t, "[10.0.0.1/32 203.0.113.75/32 2001:db8::75/128]", fmt.Sprint(fl.Host("a").Addresses().Prefixes()),
		"it may come from any of them")
	for _, format := range []Format{JSON, YAML} {
		written, err := Write(fl, format)
		require.NoError(t, err)
		back, problems := Read("f."+string(format), written)
		require.Empty(t, problems, "%s", written)
		require.Empty(t, Changes(fl, back))
	}
	_, err := Write(fl, CSV)
	require.EqualError(t, err, "CSV cannot say all of a (own_console, seen_as, floating, instance); write JSON or YAML")
	plain, problems := Read("f.json", []byte(`{"hosts": [{"name": "a", "roles": ["r"], "interfaces": [{"name": "e", "addresses": `+
		`["10.0.0.1/8"]}]}, {"name": "b", "roles": ["r"], "interfaces": [], "floating": ["203.0.113.75"]}]}`))
	require.Empty(t, problems)
	require.Equal(t, []Change{
		{"changed", "a", "dialect: nft, was none"},
		{"changed", "a", "interfaces: e 10.0.0.1/8, was e 10.0.0.1/8 dynamic"},
		{"changed", "a", "floating: [], was [203.0.113.75 2001:db8::75]"},
		{"changed", "a", "instance: none, was dunlin p-1 role=r zone=b"},
	}, Changes(fl, plain))
}

func TestMergeAndChanges(t *testing.T) {
	old, _ := Read("f.csv", []byte("host,roles,dialect,interface,address\na,r,nft,eth0,10.0.0.1/8\nb,r,nft,eth0,10.0.0.2/8\n"))
	add, _ := Read("f.csv", []byte("host,roles,dialect,interface,address\nb,r s,nft,eth0,10.0.0.3/8\nc,s,nft,eth0,10.0.0.4/8\n"))
	merged := Merge(old, add)
	require.Equal(t, []string{"a", "b", "c"}, merged.Names())
	require.Equal(t, []Change{
		{"changed", "b", "roles: r, s, was r"},
		{"changed", "b", "interfaces: eth0 10.0.0.3/8, was eth0 10.0.0.2/8"},
		{"added", "c", "s; eth0 10.0.0.4/8"},
	}, Changes(old, merged))
	require.Equal(t, []Change{{"removed", "a", "r; eth0 10.0.0.1/8"}}, Changes(merged, add))
	require.Empty(t, Changes(old, old))
	require.Equal(t, []string{"a", "b"}, old.Names(), "the old fleet is left as it was")
}

// FuzzRead reads anything as YAML and as CSV.
func FuzzRead(f *testing.F) {
	f.Add("f.yaml", []byte("service: {addresses: [10.0.0.1], port: 1}\nhosts:\n- name: a\n  roles: [r]\n  interfaces: [{name: e, "+
		"addresses: ['::1/64']}]\n"))
	f.Add("f.yaml", []byte("a: &x [*x]\n---\n? b\n: !!c |\n d"))
	f.Add("f.csv", []byte("host,roles,dialect,interface,address\na,r s,nft,eth0,10.0.0.1/8\n\"\n"))
	f.Fuzz(func(t *testing.T, file string, data []byte) {
		fl, problems := Read(file, data)
		require.NotNil(t, fl)
		for _, p := range problems {
			require.Positive(t, p.Line)
			require.Positive(t, p.Column)
		}
	})
}

func FuzzReadJSON(f *testing.F) {
	f.Add([]byte(`{"service": {"addresses": ["10.0.0.1"], "port": 1}, "hosts": [{"name": "a", "roles": ["r"], "interfaces": [{"name": ` +
		`"e", "addresses": ["::1/64"]}]}]}`))
	f.Add([]byte(`{"hosts": [null, 1, true, {"name": []}]}`))
	f.Fuzz(func(t *testing.T, data []byte) {
		fl, problems := ReadJSON("f.json", data)
		require.NotNil(t, fl)
		for _, p := range problems {
			require.Positive(t, p.Line)
			require.Positive(t, p.Column)
		}
	})
}
