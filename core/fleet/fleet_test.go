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
	require.Len(t, fl.Hosts, 12)
	h := fl.Host("logbook-01")
	require.Equal(t, []string{"logbook"}, h.Roles)
	require.Equal(t, "nft", h.Dialect, "the default")
	require.Equal(t, "10.60.3.40/16", h.Interfaces[1].Addresses[0].String())
	require.Equal(t, "fleet.json:27:12", h.Pos.String())
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
		{`{"hosts": [{"name": "a"}]}`, "1:12 fleet-key: a host needs the key \"roles\" | \n1:12 fleet-key: a host needs the key \"interfaces\" | "},
		{host(`"own_console": "yes"`), "1:75 fleet-type: expected true or false, found a text | "},
		{host(`"dialect": "ntf"`), `1:71 fleet-dialect: "ntf" is not a dialect | the dialects are nft`},
		{host(`"seen_as": ["1.2.3"]`), `1:72 fleet-address: "1.2.3" is not an address | write 203.0.113.70/28 or 2001:db8:1::70/64, with the length of the network's prefix on an interface`},
		{`{"hosts": [{"name": "A b", "roles": [], "interfaces": []}]}`,
			"1:21 fleet-name: \"A b\" is not a host's name | a host's name is made of small letters, digits, hyphens and dots\n1:37 fleet-role: a host has at least one role | name the role whose rules it is to get"},
		{`{"hosts": [{"name": "a", "roles": ["r", "r"], "interfaces": [{"name": "far-too-long-a-name", "addresses": []}]}]}`,
			"1:41 fleet-role: the role \"r\" stands twice | leave one\n1:71 fleet-interface: \"far-too-long-a-name\" is not an interface's name | it has at most 15 characters, no blank and none of / * \" \\"},
		{`{"hosts": [{"name": "a", "roles": ["r"], "interfaces": [{"name": "e", "addresses": ["10.0.0.1/8"]}]},
 {"name": "a", "roles": ["r"], "interfaces": [{"name": "e", "addresses": ["10.0.0.1/8"]}]}]}`,
			"2:11 fleet-twice: the host \"a\" stands twice | the other is at f.json:1:21\n2:11 fleet-twice: the address 10.0.0.1 of a is also a's | an address belongs to one interface of one host; a is at f.json:1:21"},
		{`{"service": {"addresses": [], "port": 99999}, "hosts": []}`, "1:39 fleet-type: expected a port | a port is a number from 1 to 65535"},
	} {
		_, problems := ReadJSON("f.json", []byte(c.text))
		var got []string
		for _, p := range problems {
			got = append(got, fmt.Sprintf("%d:%d %s: %s | %s", p.Line, p.Column, p.Code, p.Message, p.Hint))
		}
		require.Equal(t, c.want, strings.Join(got, "\n"), "%s", c.text)
	}
}

func FuzzReadJSON(f *testing.F) {
	f.Add([]byte(`{"service": {"addresses": ["10.0.0.1"], "port": 1}, "hosts": [{"name": "a", "roles": ["r"], "interfaces": [{"name": "e", "addresses": ["::1/64"]}]}]}`))
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
