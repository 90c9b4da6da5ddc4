package policy

import (
	"slices"
	"strings"
	"sync"

	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/packet"
)

// registry is the table above read once, with ping.
var registry = sync.OnceValue(func() map[string][]Term {
	out := map[string][]Term{"ping": {
		{Family: packet.IPv4, Protocol: packet.ICMP, Type: 8, Code: AnyType},
		{Family: packet.IPv6, Protocol: packet.ICMPv6, Type: 128, Code: AnyType},
	}}
	for _, line := range strings.Split(strings.TrimSpace(registered), "\n") {
		name, text, _ := strings.Cut(line, " = ")
		file, _ := fence.Parse("registry", "service x = "+text)
		for _, t := range file.Stmts[0].(*fence.ServiceDecl).Terms {
			out[name] = append(out[name], plain(t)...)
		}
	}
	return out
})

// RegisteredNames are the services that need no declaration, by IANA's registry, sorted.
func RegisteredNames() []string {
	names := []string{"any"}
	for name := range registry() {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}

// ServiceAt names the registered service that is at a port, "" if none, or if the policy
// declares another service of that name.
func (p *Policy) ServiceAt(protocol, port int) string {
	name := ServiceAt(protocol, port)
	if slices.ContainsFunc(p.Services, func(s *Service) bool { return s.Name == name }) {
		return ""
	}
	return name
}

// ServiceFor is ServiceAt for a service that is this port of this protocol and nothing else:
// a statement may name it in place of them.
func (p *Policy) ServiceFor(protocol, port int) string {
	if name := p.ServiceAt(protocol, port); name != "" && name == ServiceFor(protocol, port) {
		return name
	}
	return ""
}

// ServiceFor names the registered service that is this port of this protocol and nothing
// else, "" if none.
func ServiceFor(protocol, port int) string {
	name := ServiceAt(protocol, port)
	if terms := ServiceTerms(name); len(terms) != 1 || terms[0].Protocol != protocol {
		return ""
	}
	return name
}

// ServiceAt names the registered service that is at a port, "" if none.
func ServiceAt(protocol, port int) string {
	return byPort()[[2]int{protocol, port}]
}

// byPort finds a registered service by protocol and port; of several that share
// one, the first by name.
var byPort = sync.OnceValue(func() map[[2]int]string {
	out := map[[2]int]string{}
	for _, name := range slices.Backward(RegisteredNames()) {
		for _, t := range registry()[name] {
			if t.HasPorts() && t.Ports.Lo == t.Ports.Hi {
				out[[2]int{t.Protocol, t.Ports.Lo}] = name
			}
		}
	}
	return out
})

// plain is a syntax term that is not a name, as terms.
func plain(t fence.ServiceTerm) (out []Term) {
	base := Term{Family: AnyFamily, Protocol: AnyProtocol, Ports: packet.PortRange{Lo: 0, Hi: 65535}, Type: AnyType, Code: AnyType}
	if t.Any {
		return []Term{base}
	}
	if t.OneFamily {
		base.Family = t.Family
	}
	if t.Ports != nil {
		base.Ports = *t.Ports
	}
	if t.Type != nil {
		base.Type = *t.Type
	}
	if t.Code != nil {
		base.Code = *t.Code
	}
	for _, n := range t.Protocols {
		term := base
		term.Protocol = n
		out = append(out, term)
	}
	return out
}

// ServiceTerms are the protocols and ports of a registered service; nil if there is none of the name.
func ServiceTerms(name string) []Term { return registry()[name] }
