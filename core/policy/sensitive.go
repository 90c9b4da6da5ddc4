package policy

import (
	"yellowfence.example/yfence/core/packet"
)

// LogIn are the services by which somebody gets a hold of a host, by protocol and port.
var LogIn = []Term{tcpPort(22), tcpPort(23), tcpPort(513), tcpPort(3389), tcpPort(5900), tcpPort(5985), tcpPort(5986)}

// tcpPort is a port of TCP in both families.
func tcpPort(port int) Term {
	return Term{Family: AnyFamily, Protocol: packet.TCP, Ports: packet.PortRange{Lo: port, Hi: port}, Type: AnyType, Code: AnyType}
}

// Sensitive are the services that everybody should not reach, by protocol and port.
var Sensitive = []struct {
	Protocol, Port int
	What           string
}{
	// log-in
	{packet.TCP, 22, "ssh"}, {packet.TCP, 23, "telnet"}, {packet.TCP, 513, "login"}, {packet.TCP, 3389, "ms-wbt-server (remote desktop)"},
	{packet.TCP, 5900, "rfb (remote desktop)"},
	// files
	{packet.TCP, 445, "microsoft-ds (file shares)"}, {packet.TCP, 2049, "nfs"}, {packet.TCP, 873, "rsync"},
	{packet.TCP, 139, "netbios-ssn (file shares)"},
	// databases
	{packet.TCP, 1433, "ms-sql-s"}, {packet.TCP, 1521, "ncube-lm (a database)"}, {packet.TCP, 3306, "mysql"},
	{packet.TCP, 5432, "postgresql"}, {packet.TCP, 27017, "a document database (tcp 27017)"},
	{packet.TCP, 9042, "a wide-column database (tcp 9042)"},
	// caches and queues
	{packet.TCP, 6379, "redis"}, {packet.TCP, 11211, "memcache"}, {packet.UDP, 11211, "memcache"}, {packet.TCP, 5672, "amqp"},
	{packet.TCP, 9200, "wap-wsp (a search index)"},
	// management
	{packet.UDP, 161, "snmp"}, {packet.TCP, 623, "server management (623)"}, {packet.UDP, 623, "server management (623)"},
	{packet.TCP, 830, "netconf-ssh"}, {packet.TCP, 2375, "a container runtime's control port"},
	{packet.TCP, 6443, "a cluster's control port"}, {packet.TCP, 389, "ldap"}, {packet.UDP, 69, "tftp"}, {packet.TCP, 111, "sunrpc"},
	{packet.UDP, 111, "sunrpc"},
}
