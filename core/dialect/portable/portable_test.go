package portable_test

import (
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/dialect"
	"yellowfence.example/yfence/core/dialect/portable"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy/policytest"
)

const deskFleet = `{"hosts": [
 {"name": "desk-01", "roles": ["desk"], "dialect": "portable", "own_console": true, "interfaces": [
  {"name": "nic0", "addresses": ["10.40.7.1/16", "fd40::7:1/64"], "segment": "quay-lan"}, {"name": "nic1", "addresses": ["10.60.7.1/16"]}]}]}`

const head = "policy p language 1\nnetwork office = 198.51.100.0/24, 2001:db8:5::/48\nnetwork pests = 198.51.100.128/25\nsegment " +
	"quay-lan = 10.40.0.0/16, fd40::/48\nsegment hill-lan = 10.60.0.0/16\n"

const now = 1_795_600_000

func plan(t testing.TB, sp *packet.Space, rules string) *compile.Plan {
	pol := policytest.Resolve(t, deskFleet, head+rules+"\n")
	return compile.ForHost(sp, pol, pol.Fleet.Hosts[0], now)
}

// TestRules: what a policy says comes as rules of the list, and is read back as the very same.
func TestRules(t *testing.T) {
	for _, c := range []struct{ what, rules, want string }{
		{"a port for a network", "role desk\nallow a: office -> desk : tcp 22, 8443-8446",
			"admit tcp 22, tcp 8443-8446 from 198.51.100.0/24, 2001:db8:5::/48"},
		{"over one segment", "role desk\nallow a: everywhere -> desk : ssh arriving quay-lan", "admit tcp 22 by quay-lan"},
		{"over a segment that the fleet does not name", "role desk\nallow a: everywhere -> desk : ssh arriving hill-lan",
			"admit tcp 22 by 10.60.0.0/16"},
		{"one program", "role desk { outbound closed }\nallow a: desk -> everywhere : https from program /usr/bin/charts, /usr/bin/tiles " +
			"from user pat", "admit tcp 443 sent by user pat sent by program /usr/bin/charts, /usr/bin/tiles"},
		{"one program is kept off the network", "role desk\nblock a: desk -> everywhere : any from program /usr/bin/gossip by reject",
			"reject any sent by program /usr/bin/gossip"},
		{"an exception", "role desk\nallow a: office -> desk : ssh over b log\nblock b: pests -> desk : any",
			"admit tcp 22 from 198.51.100.0/24, 2001:db8:5::/48, logged"},
		{"for a while", "role desk\nallow a: office -> desk : ssh until 2030-01-01",
			"admit tcp 22 from 198.51.100.0/24, 2001:db8:5::/48 until 2030-01-02T00:00:00Z"},
	} {
		t.Run(c.what, func(t *testing.T) {
			sp := packet.NewSpace()
			p := plan(t, sp, c.rules)
			files, err := portable.Form{}.Write(sp, p)
			require.NoError(t, err)
			require.EqualValues(t, "portable", files[0].Kind)
			require.NoError(t, dialect.Prove(portable.Form{}, sp, p, files))
			d, err := portable.Parse([]byte(files[0].Text))
			require.NoError(t, err)
			require.Equal(t, files[0].Text, d.String())
			var got []string
			for _, l := range []*portable.List{d.Inbound, d.Outbound} {
				if l == nil {
					continue
				}
				for _, r := range l.Rules {
					if strings.HasSuffix(r.Comment, " a") {
						got = append(got, r.String())
					}
				}
			}
			require.Equal(t, []string{c.want}, got)
		})
	}
}

// TestRefused: what a list cannot say is named, and nothing is written.
func TestRefused(t *testing.T) {
	for rules, want := range map[string]string{
		"role desk\nallow a: office -> desk : ssh at most 4 per 1m":                                  "allow a: at most",
		"role desk\nallow a: office -> desk : ssh log up to 4 per 1m":                                "allow a: log up to",
		"role desk\nallow a: office -> desk : ssh encrypted":                                         "allow a: encrypted",
		"role desk { outbound closed }\nallow a: desk -> office : ssh from unit x.service":           "allow a: from unit",
		"role desk\nredirect r: office -> desk : tcp 80 to tcp 8080\nallow a: office -> desk : http": "redirect r: translation",
	} {
		sp := packet.NewSpace()
		_, err := portable.Form{}.Write(sp, plan(t, sp, rules))
		require.EqualError(t, err, "the rules of desk-01 cannot be written for portable: it has no way yet to say "+want)
	}
}

// TestProve: a rule that is left out of a list is found.
func TestProve(t *testing.T) {
	sp := packet.NewSpace()
	p := plan(t, sp, "role desk { outbound closed }\nallow a: office -> desk : ssh, https\nblock b: pests -> desk : any by reject\nallow "+
		"c: desk -> office : smtp from program /usr/bin/mail")
	files, err := portable.Form{}.Write(sp, p)
	require.NoError(t, err)
	d, err := portable.Parse([]byte(files[0].Text))
	require.NoError(t, err)
	for _, l := range []*portable.List{d.Inbound, d.Outbound} {
		all := l.Rules
		for i, r := range all {
			l.Rules = append(append([]portable.Rule{}, all[:i]...), all[i+1:]...)
			err := dialect.Prove(portable.Form{}, sp, p, []dialect.File{{Kind: "portable", Text: d.String()}})
			require.ErrorContains(t, err, "the rules written for desk-01 are wrong", "without %s", r)
		}
		l.Rules = all
	}
}

// TestNetworksAreFoundOut: which network an interface is on is a matter of its addresses.
func TestNetworksAreFoundOut(t *testing.T) {
	sp := packet.NewSpace()
	p := plan(t, sp, "role desk\nallow a: everywhere -> desk : ssh arriving quay-lan")
	files, err := portable.Form{}.Write(sp, p)
	require.NoError(t, err)
	d, err := portable.Parse([]byte(files[0].Text))
	require.NoError(t, err)
	require.Equal(t, []string{"nic0", "lo"}, d.On([]string{"quay-lan", portable.Loopback}))
	d.Interfaces[0].Addresses, d.Interfaces[1].Addresses = d.Interfaces[1].Addresses, d.Interfaces[0].Addresses
	require.Equal(t, []string{"nic1"}, d.On([]string{"quay-lan"}))
}

// TestBadDocuments: half a list, or none, is no list.
func TestBadDocuments(t *testing.T) {
	list := func(rules string) string {
		return `{"version": 1, "kind": "portable-rules", "host": "h", "networks": [{"name": "n", "prefixes": ["10.0.0.0/8"]}], ` +
			`"interfaces": [], "inbound": {"rules": [` + rules + `], "otherwise": "drop"}}`
	}
	for text, want := range map[string]string{
		`{"version": 1, "kind": "portable-rules", "host": `: "this is no whole list of portable rules: unexpected EOF",
		`{"version": 2, "kind": "portable-rules"}`:          "it is of version 2; this program reads version 1",
		`{"version": 1, "kind": "security-groups"}`:         `its kind is "security-groups", not "portable-rules"`,
		list("") + "x": "something follows behind the list, at byte 175",
		strings.Replace(list(""), `"drop"`, `"maybe"`,
			1): `inbound: otherwise is "maybe", neither admit nor drop`,
		list(`{"does": "admit", "networks": ["m"]}`): `inbound rule 1: there is no network "m" in the list`,
		list(`{"does": "pass"}`): `inbound rule 1: it does "pass", which is none of ` +
			`admit, drop and reject`,
		list(`{"does": "admit", "from": ["10.0.0/8"]}`): `inbound rule 1: "10.0.0/8" is no prefix, as in 10.40.0.0/16`,
		list(`{"does": "admit", "states": ["newish"]}`): `inbound rule 1: "newish" is no state: they are ` +
			`new, established, related, invalid, untracked`,
		list(`{"does": "admit", "services": [{"ports": "22"}]}`): `inbound rule 1: the protocol "" has no ports`,
		list(`{"does": "admit", "services": [{"protocol": "tcp", "ports": "9-2"}]}`): `inbound rule 1: the ports "9-2" are neither a ` +
			`number to 65535 nor a range of them`,
		list(`{"does": "admit", "services": [{"protocol": "icmp", "type": 300}]}`): "inbound rule 1: the icmp type 300 " +
			"is not from 0 to 255",
		list(`{"does": "admit", "unless": [{"services": [{"protocol": "tpc"}]}]}`): `inbound rule 1, unless: "tpc" is no protocol: ` +
			`tcp, udp, sctp, icmp, icmpv6, or a number to 255`,
	} {
		d, err := portable.Parse([]byte(text))
		if err == nil {
			_, err = portable.Read(packet.NewSpace(), d)
		}
		require.EqualError(t, err, want)
	}
}

// FuzzRead: whatever is in a list, it is read or refused.
func FuzzRead(f *testing.F) {
	for seed := range uint64(10) {
		sp := packet.NewSpace()
		pol := policytest.Resolve(f, policytest.Fleet, policytest.Random(rand.New(rand.NewPCG(7, seed))))
		for _, h := range pol.Fleet.Hosts {
			if files, err := (portable.Form{}).Write(sp, compile.ForHost(sp, pol, h, now)); err == nil {
				f.Add(files[0].Text)
			}
		}
	}
	f.Fuzz(func(t *testing.T, text string) {
		d, err := portable.Parse([]byte(text))
		if err != nil {
			return
		}
		sp := packet.NewSpace()
		sp.Bound(200_000)
		_ = packet.Try(func() {
			if rs, err := portable.Read(sp, d); err == nil {
				rs.Decision(sp)
			}
		})
	})
}
