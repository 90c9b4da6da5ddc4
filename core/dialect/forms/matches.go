package forms

// A Kind is one thing that a rule asks or does, with how each dialect says it.
type Kind struct {
	What     string
	NFT      string // a rule that has it; "" where the dialect has none
	IPTables string // the same, behind -A CHAIN
	In       string // chain and table that rules with it stand in, where that is not filter INPUT: OUTPUT, raw, nat, mangle
	// Written is a rule of the policy that is written so; "" where none is.
	Written string
	// Read says how it is understood.
	Read How
	Note string
}

// How something is read.
type How int

// What is read exactly decides; what is a circumstance is told as one, and holds for
// some packets and not for others; what is uncertain makes answers that depend on it
// uncertain, by name.
const (
	Exactly How = iota
	Circumstance
	Uncertain
)

// hows are how docs/dialects.md says it.
var hows = []string{Exactly: "exactly", Circumstance: "as a circumstance", Uncertain: "as uncertain"}

// String is the word for it.
func (h How) String() string { return hows[h] }

// Matches are what rules ask of packets.
var Matches = []Kind{
	{What: "protocol", NFT: "meta l4proto 47", IPTables: "-p gre", Written: "allow x: office -> red : protocol 47"},
	{What: "destination port, ports, range", NFT: "tcp dport { 22, 1000-2000 }", IPTables: "-p tcp -m multiport --dports 22,1000:2000",
		Written: "allow x: office -> red : tcp 22, 1000-2000"},
	{What: "source port", NFT: "udp sport 53", IPTables: "-p udp -m udp --sport 53"},
	{What: "port of any transport", NFT: "th dport 53", Note: "of a protocol without ports, whatever stands there is uncertain"},
	{What: "either port", IPTables: "-p tcp -m multiport --ports 22,80"},
	{What: "TCP flags", NFT: "tcp flags & (syn | ack) == syn", IPTables: "-p tcp -m tcp --tcp-flags SYN,ACK SYN"},
	{What: "ICMP type and code", NFT: "icmp type destination-unreachable icmp code 1", IPTables: "-p icmp -m icmp --icmp-type 3/1",
		Written: "allow x: office -> red : icmp 3/1"},
	{What: "ICMPv6 type and code", NFT: "icmpv6 type { 1, 128 }", Written: "allow x: office -> red : icmpv6 128",
		Note: "in ip6tables `-m icmp6 --icmpv6-type 128`"},
	{What: "address, prefix", NFT: "ip saddr 192.0.2.0/24", IPTables: "-s 192.0.2.0/24", Written: "allow x: 192.0.2.0/24 -> red : ssh"},
	{What: "range of addresses", NFT: "ip saddr 192.0.2.5-192.0.2.9", IPTables: "-m iprange --src-range 192.0.2.5-192.0.2.9",
		Written: "allow x: 192.0.2.5-192.0.2.9 -> red : ssh"},
	{What: "set", NFT: "ip saddr @friends", IPTables: "-m set --match-set friends src", Written: "allow x: many -> red : ssh",
		Note: "of ipset: of addresses, networks, ports, interfaces, and lists of sets; with nomatch"},
	{What: "set whose elements come and go, to refuse", NFT: "ip saddr @tries drop", IPTables: "-m set --match-set shortly src -j DROP",
		Note: "as it was listed, which is said; to accept, uncertain for who is not in it yet"},
	{What: "extension header of IPv6, to refuse", NFT: "rt type 0 drop",
		Note: "packets are taken to have none, which is said; in ip6tables `-m rt --rt-type 0`; to accept, uncertain"},
	{What: "kind of frame, to refuse", NFT: "meta pkttype broadcast drop", IPTables: "-m pkttype --pkt-type broadcast -j DROP",
		Note: "a frame is taken to go to whom the address says, which is said; of what is sent to many it is uncertain"},
	{What: "concatenation", NFT: "ip saddr . tcp dport { 192.0.2.1 . 22, 192.0.2.2 . 80 }", IPTables: "-m set --match-set pairs src,dst"},
	{What: "inbound interface, pattern of names", NFT: `iifname "eth*"`, IPTables: "-i eth+",
		Written: "allow x: office -> red : ssh arriving wire"},
	{What: "outbound interface", NFT: `oifname != "eth0"`, IPTables: "! -o eth0", In: "OUTPUT",
		Written: "allow x: red -> office : ssh arriving wire"},
	{What: "connection state", NFT: "ct state established,related", IPTables: "-m conntrack --ctstate RELATED,ESTABLISHED",
		Written: "allow x: office -> red : ssh", Note: "`-m state` too"},
	{What: "changed destination", NFT: "ct status dnat", IPTables: "-m conntrack --ctstate DNAT",
		Note: "of connections that stand it is uncertain where it decides"},
	{What: "mark", NFT: "meta mark & 0x000000ff == 0x00000005", IPTables: "-m mark --mark 0x5/0xff"},
	{What: "connection mark", NFT: "ct mark 0x00000005", IPTables: "-m connmark --mark 0x5"},
	{What: "sending user", NFT: "meta skuid 34", IPTables: "-m owner --uid-owner 34", In: "OUTPUT",
		Written: "allow x: red -> office : ssh from user backup", Note: "by its name where a report tells names"},
	{What: "sending group", NFT: "meta skgid 34", IPTables: "-m owner --gid-owner 34", In: "OUTPUT"},
	{What: "sending unit", NFT: `socket cgroupv2 level 2 "system.slice/backup.service"`,
		IPTables: "-m cgroup --path system.slice/backup.service", In: "OUTPUT",
		Written: "allow x: red -> office : ssh from unit backup.service", Note: "the path is filled in when rules are settled"},
	{What: "IPsec", NFT: "meta ipsec exists", IPTables: "-m policy --dir in --pol ipsec",
		Written: "allow x: office -> red : ssh encrypted", Note: "read, and not judged: the kernels we test on carry none"},
	{What: "time", NFT: "meta time < 1900000000", IPTables: "-m time --datestop 2030-03-17T17:46:39",
		Written: "allow x: office -> red : ssh until 2030-03-17T17:46:40Z", Note: "iptables takes none past 2038"},
	{What: "fragment", NFT: "ip frag-off & 8191 != 0", IPTables: "-f"},
	{What: "kind of address", NFT: "fib daddr type local", IPTables: "-m addrtype --dst-type LOCAL",
		Note: "by the routes of a report; else uncertain, but for multicast"},
	{What: "way that the routes tell", NFT: `fib daddr oifname "eth0"`, Note: "by the routes of a report"},
	{What: "what a connection began with", NFT: "ct original ip saddr 192.0.2.1 ct state new",
		IPTables: "-m conntrack --ctstate NEW --ctorigsrc 192.0.2.1",
		Note:     "of packets that begin one; of the rest it is uncertain where it decides"},
	{What: "way back", NFT: "fib saddr . iif oif missing", IPTables: "-m rpfilter --invert", In: "raw", Note: "by the routes of a report"},
	{What: "rate", NFT: "limit rate 4/minute burst 4 packets", IPTables: "-m limit --limit 4/min --limit-burst 4", Read: Circumstance},
	{What: "rate of a name", NFT: `limit name "talk"`,
		IPTables: "-m hashlimit --hashlimit-upto 4/min --hashlimit-burst 4 --hashlimit-name talk",
		Written:  "allow x: office -> red : ssh at most 4 per 1m", Read: Circumstance},
	{What: "rate per source", NFT: "update @tries { ip saddr limit rate 4/minute burst 4 packets }",
		IPTables: "-m hashlimit --hashlimit-upto 4/min --hashlimit-burst 4 --hashlimit-mode srcip --hashlimit-name tries " +
			"--hashlimit-htable-max 100", Written: "allow x: office -> red : ssh at most 4 per 1m per source", Read: Circumstance},
	{What: "number of connections", NFT: "ct count over 20", IPTables: "-m connlimit --connlimit-above 20", Read: Circumstance},
	{What: "who was seen lately", NFT: "add @tries { ip saddr limit rate over 10/minute }",
		IPTables: "-m recent --update --seconds 60 --hitcount 4 --name tries --rsource", Read: Circumstance},
	{What: "quota", NFT: "quota over 10 mbytes", IPTables: "-m quota --quota 10000", Read: Circumstance,
		Note: "one of a name is uncertain"},
	{What: "chance", NFT: "numgen random mod 2 0", IPTables: "-m statistic --mode random --probability 0.5", Read: Circumstance},
	{What: "length", NFT: "meta length 64", IPTables: "-m length --length 64", Read: Uncertain},
	{What: "time to live, class of service", NFT: "ip ttl 64", IPTables: "-m ttl --ttl-eq 64", Read: Uncertain},
	{What: "hardware address", NFT: "ether saddr 02:00:00:00:00:01", IPTables: "-m mac --mac-source 02:00:00:00:00:01", Read: Uncertain},
	{What: "contents", NFT: "@th,64,32 1", IPTables: "-m string --string x --algo bm", Read: Uncertain},
	{What: "everything else", NFT: "ct helper \"ftp\"", IPTables: "-m socket", Read: Uncertain},
}

// Actions are what rules do with packets.
var Actions = []Kind{
	{What: "accept", NFT: "tcp dport 22 accept", IPTables: "-p tcp -m tcp --dport 22 -j ACCEPT", Written: "allow x: office -> red : ssh"},
	{What: "drop", NFT: "tcp dport 22 drop", IPTables: "-p tcp -m tcp --dport 22 -j DROP", Written: "block x: office -> red : ssh"},
	{What: "reject, with whatever answer", NFT: "tcp dport 22 reject with tcp reset",
		IPTables: "-p tcp -m tcp --dport 22 -j REJECT --reject-with tcp-reset", Written: "block x: office -> red : ssh by reject"},
	{What: "log", NFT: `tcp dport 22 log prefix "x: "`, IPTables: `-p tcp -m tcp --dport 22 -j LOG --log-prefix "x: "`,
		Written: "allow x: office -> red : ssh log", Note: "iptables cuts what a line begins with at 29 letters"},
	{What: "jump, goto, return", NFT: "tcp dport 22 jump more", IPTables: "-p tcp -m tcp --dport 22 -j more",
		Written: "allow x: office -> red : ssh, https at most 4 per 1m"},
	{What: "verdict map", NFT: "tcp dport vmap { 22 : accept, 80 : drop }"},
	{What: "mark", NFT: "meta mark set meta mark | 0x00000010", IPTables: "-j MARK --set-xmark 0x10/0x10", In: "mangle"},
	{What: "mark from a map", NFT: "meta mark set tcp dport map { 22 : 0x00000001, 80 : 0x00000002 }", In: "mangle"},
	{What: "connection mark", NFT: "ct mark set meta mark", IPTables: "-j CONNMARK --save-mark --nfmask 0xffffffff --ctmask 0xffffffff",
		In: "mangle"},
	{What: "redirect", NFT: "tcp dport 80 redirect to :8080", IPTables: "-p tcp -m tcp --dport 80 -j REDIRECT --to-ports 8080", In: "nat",
		Note: "which of several addresses it gives a packet is uncertain where a rule asks for it"},
	{What: "another destination", NFT: "tcp dport 80 dnat ip to 192.0.2.9:8080",
		IPTables: "-p tcp -m tcp --dport 80 -j DNAT --to-destination 192.0.2.9:8080", In: "nat",
		Note: "one address, or a map of such; a few, where it does not matter which; " +
			"by the routes of a report it is known where it goes on"},
	{What: "another source", NFT: "masquerade", IPTables: "-j MASQUERADE", In: "nat",
		Note: "where a later rule asks for the source it is uncertain"},
	{What: "no tracking", NFT: "udp dport 53 notrack", IPTables: "-p udp -m udp --dport 53 -j CT --notrack", In: "raw"},
	{What: "what changes no verdict", NFT: "counter packets 0 bytes 0",
		IPTables: "-p tcp -m tcp --tcp-flags SYN,RST SYN -j TCPMSS --clamp-mss-to-pmtu", In: "mangle",
		Note: "counters, priorities, helpers, zones, classes, times to live, limits of segments, copies"},
	{What: "flow table", NFT: "flow add @fast", Read: Circumstance, Note: "read, and not judged: the kernels we test on carry none"},
	{What: "queue to a program", NFT: "queue to 1", IPTables: "-j NFQUEUE --queue-num 1", Read: Uncertain},
	{What: "transparent proxy", NFT: "tproxy to :49500",
		IPTables: "-p tcp -j TPROXY --on-port 49500 --on-ip 0.0.0.0 --tproxy-mark 0x0/0x0", In: "mangle", Read: Uncertain},
}
