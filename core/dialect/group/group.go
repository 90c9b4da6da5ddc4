package group

import (
	"fmt"
	"net/netip"
	"strconv"
	"strings"

	"yellowfence.example/yfence/core/dialect"
	"yellowfence.example/yfence/core/packet"
)

// A Document is security groups and who is in them: what we write, and the form of a dump.
type Document struct {
	Version int      `json:"version" enum:"1"`
	Kind    string   `json:"kind" enum:"security-groups"`
	Cloud   string   `json:"cloud,omitempty" doc:"the cloud's name, as the fleet file says it"`
	Groups  []Group  `json:"groups" nullable:"false"`
	Members []Member `json:"members,omitempty" nullable:"false" doc:"which instances are in which groups; of several groups, what one admits is admitted"`
}

// A Group is a security group: what none of its rules admits is dropped.
type Group struct {
	Name     string `json:"name"`
	Says     string `json:"says,omitempty" doc:"what it is for, for people"`
	Inbound  []Rule `json:"inbound" nullable:"false" doc:"who may begin what with a member"`
	Outbound []Rule `json:"outbound" nullable:"false" doc:"what a member may begin with whom"`
}

// directions are those that groups speak of.
var directions = []packet.Direction{packet.Inbound, packet.Outbound}

// Rules are the group's rules of one direction.
func (g Group) Rules(d packet.Direction) []Rule {
	if d == packet.Outbound {
		return g.Outbound
	}
	return g.Inbound
}

// A Member is an instance and the groups it is in.
type Member struct {
	Instance  string       `json:"instance"`
	Groups    []string     `json:"groups" nullable:"false"`
	Addresses []netip.Addr `json:"addresses,omitempty" nullable:"false" doc:"as the cloud has them; else as the fleet file says"`
}

// Kind is what a Document says of itself.
const Kind = "security-groups"

// Is says that a text is meant as a Document.
func Is(text []byte) bool { return dialect.IsDocument(text, Kind) }

// The protocols that have names in a rule.
var protocols = map[string]int{"tcp": packet.TCP, "udp": packet.UDP, "sctp": packet.SCTP, "icmp": packet.ICMP, "icmpv6": packet.ICMPv6}

// protocolName is a protocol by the name that documents have for it, or by its number.
func protocolName(n int) string {
	for name, number := range protocols {
		if number == n {
			return name
		}
	}
	return strconv.Itoa(n)
}

// The protocols whose ports rules can tell, and those whose types.
var (
	hasPorts = []int{packet.TCP, packet.UDP, packet.SCTP}
	hasTypes = []int{packet.ICMP, packet.ICMPv6}
)

// span reads "22" or "8443-8446".
func span(text string, limit int) (lo, hi int, err error) {
	first, last, ranged := strings.Cut(text, "-")
	if lo, err = strconv.Atoi(first); err == nil {
		if hi = lo; ranged {
			hi, err = strconv.Atoi(last)
		}
	}
	if err != nil || lo < 0 || hi < lo || hi > limit {
		return 0, 0, fmt.Errorf("%q is neither a number from 0 to %d nor a range of them", text, limit)
	}
	return lo, hi, nil
}
