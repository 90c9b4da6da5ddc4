package check

import (
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
)

// wideOpen: see its documentation.
var wideOpen = Check{
	Code: "wide-open",
	Doc: `Everybody is admitted to a service that not everybody should reach.

Log-in, databases, caches and management are what is tried first. Narrow who may
connect; or, if it must be, accept it with a reason:

    allow front-door: everywhere -> jump : ssh  knowingly wide-open "pilots on the road"
`,
	run: func(p *pass) {
		for _, r := range p.rules() {
			if r.Block || !r.From.Everywhere || !r.To.Named {
				continue
			}
			for _, t := range r.Terms {
				if name := sensitiveIn(t); name != "" {
					p.warn(r, "wide-open", "name who is meant, or accept it: knowingly wide-open \"why\"", "the allow %q lets everybody reach %s", r.Name, name)
					break
				}
			}
		}
	},
}

// sensitive are the services that everybody should not reach, by protocol and port.
var sensitive = []struct {
	protocol, port int
	what           string
}{
	// log-in
	{packet.TCP, 22, "ssh"}, {packet.TCP, 23, "telnet"}, {packet.TCP, 513, "login"}, {packet.TCP, 3389, "ms-wbt-server (remote desktop)"}, {packet.TCP, 5900, "rfb (remote desktop)"},
	// files
	{packet.TCP, 445, "microsoft-ds (file shares)"}, {packet.TCP, 2049, "nfs"}, {packet.TCP, 873, "rsync"}, {packet.TCP, 139, "netbios-ssn (file shares)"},
	// databases
	{packet.TCP, 1433, "ms-sql-s"}, {packet.TCP, 1521, "ncube-lm (a database)"}, {packet.TCP, 3306, "mysql"}, {packet.TCP, 5432, "postgresql"}, {packet.TCP, 27017, "a document database (tcp 27017)"}, {packet.TCP, 9042, "a wide-column database (tcp 9042)"},
	// caches and queues
	{packet.TCP, 6379, "redis"}, {packet.TCP, 11211, "memcache"}, {packet.UDP, 11211, "memcache"}, {packet.TCP, 5672, "amqp"}, {packet.TCP, 9200, "wap-wsp (a search index)"},
	// management
	{packet.UDP, 161, "snmp"}, {packet.TCP, 623, "server management (623)"}, {packet.UDP, 623, "server management (623)"}, {packet.TCP, 830, "netconf-ssh"}, {packet.TCP, 2375, "a container runtime's control port"}, {packet.TCP, 6443, "a cluster's control port"}, {packet.TCP, 389, "ldap"}, {packet.UDP, 69, "tftp"}, {packet.TCP, 111, "sunrpc"}, {packet.UDP, 111, "sunrpc"},
}

// sensitiveIn names a sensitive service that a term admits, "" if none.
func sensitiveIn(t policy.Term) string {
	for _, s := range sensitive {
		if (t.Protocol == s.protocol || t.Protocol == policy.AnyProtocol) && t.Ports.Lo <= s.port && s.port <= t.Ports.Hi {
			return s.what
		}
	}
	return ""
}
