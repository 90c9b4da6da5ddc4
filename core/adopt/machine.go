package adopt

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/listeners"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
)

// A Machine is one host on which nothing filters yet, as it finds itself.
type Machine struct {
	Name       string
	Dialect    string // of the filter that it is to have
	Interfaces []fleet.Interface
	Listeners  []listeners.Listener
	LogIns     []LogIn // over the network, that are open
}

// A LogIn is an open connection by which somebody is logged in.
type LogIn struct{ Local, Remote netip.AddrPort }

// role is what a machine by itself is called in its policy.
const role = "machine"

// mostListeners bounds how many statements are proposed for what listens.
const mostListeners = 40

// Begin is a first policy of the name for a machine on which nothing filters, with its fleet: the
// log-ins that are open stay possible by a guard, it answers echo requests, and for whatever listens
// there is a statement that waits in a comment. Without a log-in the way in is what listens for
// some, from everywhere; without that the machine is said to have a console of its own.
func Begin(name string, m Machine) (text string, fl *fleet.Fleet) {
	h := &fleet.Host{Name: m.Name, Roles: []string{role}, Dialect: m.Dialect, Interfaces: m.Interfaces}
	p := &page{}
	p.comment("The rules of this machine. Each allow says who may begin what with it; nothing else comes in,")
	p.comment("and everything may go out. `yfence check` tells what is wrong, and `yfence settle` puts it in")
	p.comment("force: it is undone by itself unless you log in anew and keep it.")
	p.put(&fence.PolicyDecl{Ident: fence.Ident{Name: name}, Language: 1})
	p.blank()
	// The way in comes first: from where somebody is logged in now, else from anywhere by what listens
	// for log-ins, else by a console of the machine's own.
	in := &fence.Rule{Ident: fence.Ident{Name: "way-in"}, To: peersOf(role), Guard: true}
	switch from, port := m.cameFrom(); {
	case from != nil:
		p.comment("Where you were logged in from when this was written. Put the network here that you come from.")
		p.put(&fence.NetworkDecl{Ident: fence.Ident{Name: "login"}, Addrs: fence.Addresses{Items: items(from...)}})
		p.blank()
		in.From, in.Services = peersOf("login"), []fence.ServiceTerm{{Text: portService(packet.TCP, port, port)}}
	case port != 0:
		in.From, in.Services = peersOf("everywhere"), []fence.ServiceTerm{{Text: portService(packet.TCP, port, port)}}
	default:
		h.OwnConsole = true
	}
	p.put(&fence.RoleDecl{Ident: fence.Ident{Name: role}, Description: plain(m.Name)})
	p.blank()
	if in.Services != nil {
		p.comment("The way in: a guard is never refused, whatever else is said.")
		if in.From.Items[0].Text == "everywhere" {
			p.comment("Nobody is logged in over the network: name who may, in place of everywhere.")
		}
		p.put(in)
	} else {
		p.comment("Nobody is logged in over the network, and nothing listens for it: the fleet file says that the")
		p.comment("machine has a console of its own. If it has none, begin with a guard before you settle.")
	}
	p.put(&fence.Rule{Ident: fence.Ident{Name: "reachable"}, From: peersOf("everywhere"), To: peersOf(role),
		Services: []fence.ServiceTerm{{Text: "ping"}}})
	// What listens is proposed and not admitted: who is to reach it is for a person to say.
	if lines := m.waiting(in); len(lines) > 0 {
		p.blank()
		p.comment("What listens here and nobody may come to: take the # away from what somebody is to reach, and say who.")
		for _, l := range lines {
			p.comment("%s", l)
		}
	}
	return fence.Print(&p.file), &fleet.Fleet{Hosts: []*fleet.Host{h}}
}

// cameFrom is from where people are logged in, and the port that they came to; without a log-in
// the port that listens for some, or 0.
func (m Machine) cameFrom() (from []string, port int) {
	for _, l := range m.LogIns {
		if remote := l.Remote.Addr().Unmap(); !remote.IsLoopback() && !slices.Contains(from, remote.String()) {
			from, port = append(from, remote.String()), int(l.Local.Port())
		}
	}
	if from != nil {
		return from, port
	}
	for _, l := range m.Listeners {
		if l.Protocol == "tcp" && (l.Port == 22 || strings.HasPrefix(l.Process, "sshd")) && !ownAlone(l) {
			return nil, l.Port
		}
	}
	return nil, 0
}

// ownAlone says that only the machine itself can reach what listens.
func ownAlone(l listeners.Listener) bool {
	a, err := netip.ParseAddr(l.Address)
	return l.Interface == "lo" || err == nil && a.IsLoopback()
}

// waiting are the statements for what listens, but for what in admits and the ground does.
func (m Machine) waiting(in *fence.Rule) (lines []string) {
	said, names := map[string]bool{}, map[string]bool{"way-in": true, "reachable": true}
	if in.Services != nil {
		said[in.Services[0].Text] = true
	}
	all := slices.Clone(m.Listeners)
	slices.SortStableFunc(all, func(a, b listeners.Listener) int {
		return cmp.Or(cmp.Compare(a.Protocol, b.Protocol), cmp.Compare(a.Port, b.Port))
	})
	for _, l := range all {
		number := map[string]int{"tcp": packet.TCP, "udp": packet.UDP}[l.Protocol]
		what := portService(number, l.Port, l.Port)
		if ownAlone(l) || said[what] || l.Protocol == "udp" && (l.Port == 68 || l.Port == 546) { // which the ground admits
			continue
		}
		if said[what] = true; len(lines) == mostListeners {
			return append(lines, "… and more: yfence listeners --here")
		}
		name := slug(what)
		if registered := policy.ServiceFor(number, l.Port); registered == "" && slug(l.Process) != "" {
			name = slug(l.Process)
		}
		one := name
		for n := 2; names[one] || !fence.IsName(one); n++ {
			one = fmt.Sprintf("%s-%d", cmp.Or(name, "listener"), n)
		}
		names[one] = true
		rule := &fence.Rule{Ident: fence.Ident{Name: one}, From: peersOf("everywhere"), To: peersOf(role),
			Services: []fence.ServiceTerm{{Text: what}}}
		line := fence.Line(rule)
		if who := plain(oneLine(strings.Join(slices.DeleteFunc([]string{l.Process, l.Unit}, func(s string) bool { return s == "" }),
			", "))); who != "" {
			line += "  # " + who
		}
		lines = append(lines, line)
	}
	return lines
}
