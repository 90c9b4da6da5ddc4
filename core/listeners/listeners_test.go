package listeners_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/listeners"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy/policytest"
)

const fleetFile = `{"hosts": [
 {"name": "db", "roles": ["db"], "dialect": "nft", "interfaces": [{"name": "eth0", "addresses": ["203.0.113.7/28", "2001:db8:1::7/64"]}, {"name": "eth1", "addresses": ["10.40.3.7/16"]}]},
 {"name": "app", "roles": ["app"], "dialect": "nft", "interfaces": [{"name": "eth1", "addresses": ["10.40.3.8/16"]}]}]}`

const rules = `policy p language 1
segment quay = 10.40.0.0/16
role db
role app
allow data: app -> db : tcp 5432 on quay
allow site: everywhere -> db : tcp 443, udp 443
allow late: app -> db : tcp 9000-9010
`

// TestCompare is what is said of each listener, and of what nothing listens on.
func TestCompare(t *testing.T) {
	pol := policytest.Resolve(t, fleetFile, rules)
	for _, c := range []struct {
		what string
		l    listeners.Listener
		kind string
		says string
	}{
		{"on the address that is meant", listeners.Listener{Protocol: "tcp", Address: "10.40.3.7", Port: 5432, Process: "postgres",
			Unit: "postgresql.service"}, listeners.AsMeant,
			"tcp 5432 on 10.40.3.7 (postgres, postgresql.service), as allow data means it"},
		{"on all addresses where one is meant", listeners.Listener{Protocol: "tcp", Address: "0.0.0.0", Port: 5432, Process: "postgres"},
			listeners.TooWide,
			"tcp 5432 on all IPv4 addresses (postgres) listens on 203.0.113.7 too, where by the policy nobody may come to it; only " +
				"10.40.3.7 is meant"},
		{"on all of both families", listeners.Listener{Protocol: "tcp", Port: 443}, listeners.AsMeant,
			"tcp 443 on all addresses, as allow site means it"},
		{"on loopback", listeners.Listener{Protocol: "tcp", Address: "127.0.0.1", Port: 6379}, listeners.OwnAlone,
			"tcp 6379 on 127.0.0.1 is for the host's own programs"},
		{"bound to loopback's interface", listeners.Listener{Protocol: "udp", Interface: "lo", Port: 53}, listeners.OwnAlone,
			"udp 53 on all addresses is for the host's own programs"},
		{"with nobody admitted", listeners.Listener{Protocol: "tcp", Address: "::", Port: 8000, Unit: "old.service"}, listeners.Shut,
			"tcp 8000 on all IPv6 addresses (old.service) listens, and by the policy nobody may come to it"},
		{"of the other protocol", listeners.Listener{Protocol: "udp", Address: "10.40.3.7", Port: 5432}, listeners.Shut,
			"udp 5432 on 10.40.3.7 listens, and by the policy nobody may come to it"},
		{"in a range of ports", listeners.Listener{Protocol: "tcp", Address: "10.40.3.7", Port: 9004}, listeners.AsMeant,
			"tcp 9004 on 10.40.3.7, as allow late means it"},
		{"bound to one interface", listeners.Listener{Protocol: "tcp", Address: "0.0.0.0", Interface: "eth1", Port: 5432},
			listeners.AsMeant, "tcp 5432 on all IPv4 addresses, as allow data means it"},
		{"on an address nobody knows", listeners.Listener{Protocol: "tcp", Address: "192.0.2.9", Port: 443}, listeners.Shut,
			"tcp 443 on 192.0.2.9 listens on an address that the fleet file does not say"},
	} {
		t.Run(c.what, func(t *testing.T) {
			sp := packet.NewSpace()
			notes := listeners.Compare(sp, compile.ForHost(sp, pol, pol.Fleet.Host("db"), 0), nil,
				listeners.Seen{Listeners: []listeners.Listener{c.l}})
			require.Equal(t, []string{c.kind, c.says}, []string{notes[0].Kind, notes[0].Says})
		})
	}
	idle := func(found ...listeners.Listener) (out []string) {
		sp := packet.NewSpace()
		for _, n := range listeners.Compare(sp, compile.ForHost(sp, pol, pol.Fleet.Host("db"), 0), nil, listeners.Seen{Listeners: found}) {
			if n.Kind == listeners.Nobody {
				out = append(out, n.Says)
			}
		}
		return out
	}
	require.Equal(t, []string{"tcp 5432 is admitted by allow data, and nothing listens there",
		"tcp 9000-9010 is admitted by allow late, and nothing listens there",
		"tcp 443 is admitted by allow site, and nothing listens there", "udp 443 is admitted by allow site, and nothing listens there"},
		idle())
	require.Equal(t, []string{"tcp 9000-9010 is admitted by allow late, and nothing listens there",
		"udp 443 is admitted by allow site, and nothing listens there"},
		idle(listeners.Listener{Protocol: "tcp", Port: 443}, listeners.Listener{Protocol: "tcp", Address: "10.40.3.7", Port: 5432}))
	require.Contains(t, idle(listeners.Listener{Protocol: "tcp", Address: "203.0.113.7", Port: 5432}),
		"tcp 5432 is admitted by allow data, and nothing listens there", "where it listens nobody is admitted")
	closed := policytest.Resolve(t, fleetFile, "policy p language 1\nrole db { inbound open }\nrole app\n")
	sp := packet.NewSpace()
	notes := listeners.Compare(sp, compile.ForHost(sp, closed, closed.Fleet.Host("db"), 0), nil,
		listeners.Seen{Listeners: []listeners.Listener{{Protocol: "tcp", Port: 22}}})
	require.Equal(t, "tcp 22 on all addresses, as the stance means it", notes[0].Says)
}

// TestUnitsOfServices: one that runs though nobody may come to it, and one that is down
// though its port is open.
func TestUnitsOfServices(t *testing.T) {
	pol := policytest.Resolve(t, fleetFile, rules+`service data  = tcp 5432  unit postgresql.service
service books = tcp 8443-8446, udp 8443  unit books@a.service, books@b.service
service late  = tcp 9000-9010  unit late.service
`)
	for _, c := range []struct {
		what  string
		runs  []string
		found []listeners.Listener
		want  []string // of the notes about services that name their units
	}{
		{"not known", nil, nil, nil},
		{"nothing runs", []string{}, nil, []string{
			"down postgresql.service is down, though tcp 5432 of service data is admitted (allow data)",
			"down late.service is down, though tcp 9000-9010 of service late is admitted (allow late)"}},
		{"as it should be", []string{"postgresql.service", "late.service"},
			[]listeners.Listener{{Protocol: "tcp", Address: "10.40.3.7", Port: 5432}, {Protocol: "tcp", Port: 9001}}, nil},
		{"runs, and listens to nobody yet", []string{"postgresql.service", "late.service"}, nil, nil},
		{"nobody may come", []string{"postgresql.service", "late.service", "books@b.service"}, nil,
			[]string{"shut books@b.service runs, and by the policy nobody may come to tcp 8443-8446 of service books ()",
				"shut books@b.service runs, and by the policy nobody may come to udp 8443 of service books ()"}},
		{"nobody may come, as its listener shows", []string{"postgresql.service", "late.service", "books@b.service"},
			[]listeners.Listener{{Protocol: "tcp", Port: 8444, Unit: "books@b.service"}, {Protocol: "udp", Port: 8443}}, nil},
	} {
		t.Run(c.what, func(t *testing.T) {
			sp := packet.NewSpace()
			var got []string
			down := 0
			for _, n := range listeners.Compare(sp, compile.ForHost(sp, pol, pol.Fleet.Host("db"), 0), pol.Services,
				listeners.Seen{Listeners: c.found, Runs: c.runs}) {
				if n.Unit != "" {
					got = append(got, n.Kind+" "+n.Says+" ("+strings.Join(n.Rules, ", ")+")")
				}
				if n.Kind == listeners.Down {
					down++
				}
				require.False(t, n.Kind == listeners.Nobody && down > 0 && strings.Contains(n.Says, "5432"),
					"why nobody listens is told once")
			}
			require.Equal(t, c.want, got)
		})
	}
}
