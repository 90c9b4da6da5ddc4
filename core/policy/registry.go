package policy

import (
	"slices"
	"sync"

	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/packet"
)

// registered gives services under the names that IANA's "Service Name and
// Transport Protocol Port Number Registry" (read 2026-11) has for them, each
// with the protocols it is really used with, written in our own language.
var registered = map[string]string{
	"amqp":          "tcp 5672",
	"bgp":           "tcp 179",
	"domain":        "tcp+udp 53",
	"ftp":           "tcp 21",
	"http":          "tcp 80",
	"https":         "tcp 443",
	"imap":          "tcp 143",
	"imaps":         "tcp 993",
	"ipp":           "tcp 631",
	"ipsec-nat-t":   "udp 4500",
	"isakmp":        "udp 500",
	"kerberos":      "tcp+udp 88",
	"ldap":          "tcp 389",
	"ldaps":         "tcp 636",
	"mqtt":          "tcp 1883",
	"ms-wbt-server": "tcp 3389",
	"mysql":         "tcp 3306",
	"netconf-ssh":   "tcp 830",
	"nfs":           "tcp 2049",
	"ntp":           "udp 123",
	"pop3":          "tcp 110",
	"pop3s":         "tcp 995",
	"postgresql":    "tcp 5432",
	"radius":        "udp 1812",
	"redis":         "tcp 6379",
	"rsync":         "tcp 873",
	"secure-mqtt":   "tcp 8883",
	"sip":           "tcp+udp 5060",
	"smtp":          "tcp 25",
	"snmp":          "udp 161",
	"snmptrap":      "udp 162",
	"ssh":           "tcp 22",
	"submission":    "tcp 587",
	"submissions":   "tcp 465",
	"syslog":        "udp 514",
	"telnet":        "tcp 23",
	"tftp":          "udp 69",
}

// registry is the table above read once, with ping.
var registry = sync.OnceValue(func() map[string][]Term {
	out := map[string][]Term{"ping": {
		{Family: packet.IPv4, Protocol: packet.ICMP, Type: 8, Code: AnyType},
		{Family: packet.IPv6, Protocol: packet.ICMPv6, Type: 128, Code: AnyType},
	}}
	for name, text := range registered {
		file, _ := fence.Parse("registry", "service x = "+text)
		for _, t := range file.Stmts[0].(*fence.ServiceDecl).Terms {
			out[name] = append(out[name], plain(t)...)
		}
	}
	return out
})

// RegisteredNames are the services that need no declaration.
func RegisteredNames() []string {
	names := []string{"ping", "any"}
	for name := range registered {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}

// ServiceAt names the registered service whose only or first port this is, "" if none.
func ServiceAt(protocol, port int) string {
	for name, terms := range registry() {
		for _, t := range terms {
			if t.Protocol == protocol && t.Ports.Lo == port && t.Ports.Hi == port {
				return name
			}
		}
	}
	return ""
}

// plain is a syntax term that is not a name, as terms.
func plain(t fence.ServiceTerm) (out []Term) {
	base := Term{Family: AnyFamily, Protocol: AnyProtocol, Ports: fence.PortRange{Lo: 0, Hi: 65535}, Type: AnyType, Code: AnyType}
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
