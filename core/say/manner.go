package say

import (
	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/packet"
)

// A Manner is what is done with packets: while nothing is exceeded, and how much at most.
type Manner struct {
	packet.Outcome
	AtMost, LogUpTo string // rates; "" is without limit
}

// Passes says that packets of a direction get to where they go: "gets in".
func Passes(d packet.Direction) string {
	return []string{packet.Inbound: "gets in", packet.Outbound: "gets out", packet.Forward: "is forwarded"}[d]
}

// DoesNotPass says the contrary: "does not get in".
func DoesNotPass(d packet.Direction) string {
	return []string{packet.Inbound: "does not get in", packet.Outbound: "does not get out", packet.Forward: "is not forwarded"}[d]
}

// Limit says how much is admitted: " at most 4 per 1m", or " without a limit".
func (m Manner) Limit() string {
	if m.AtMost == "" {
		return " without a limit"
	}
	return " at most " + m.AtMost
}

// Beside says a manner as far as it differs from another, so that a sentence that names both
// says only what is different.
func (m Manner) Beside(other Manner) string {
	s := m.Verdict.String()
	switch {
	case m.Reply == other.Reply && m.Translated == other.Translated:
	case m.Verdict == packet.Admit && !m.Translated.Changes():
		s += " as it is"
	case m.Verdict == packet.Admit:
		s += " " + m.Translated.String()
	case m.Reply != packet.NoReply:
		s += " with " + string(m.Reply)
	}
	limited := m.AtMost != other.AtMost
	if limited {
		s += m.Limit()
	}
	if m.Logged == other.Logged && m.LogUpTo == other.LogUpTo {
		return s
	}
	switch {
	case m.Logged && m.LogUpTo != "":
		return s + " and logged up to " + m.LogUpTo
	case m.Logged && other.Logged:
		return s + " and logged without a limit"
	case m.Logged:
		return s + " and logged"
	case limited:
		return s + " and without a log"
	}
	return s + " without a log"
}

// Ground says what a part of the ground is about, "" of what is none that admits.
func Ground(part string) string { return ground[part] }

// ground is in the order of fence.GroundParts.
var ground = map[string]string{
	fence.PartLoopback:          "what the host says to itself",
	fence.PartReplies:           "every answer on a connection that stands (established, related)",
	fence.PartICMPErrors:        "what path MTU and traceroute need to hear (ICMP errors)",
	fence.PartNeighbours:        "IPv6 neighbour discovery",
	fence.PartDHCPClient:        "address configuration (DHCP)",
	fence.PartMulticastListener: "multicast group membership",
	fence.PartService:           "the way to the Yellow Fence service",
}
