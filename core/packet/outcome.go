package packet

import (
	"fmt"
	"net/netip"
	"strings"
)

// A Verdict is what finally becomes of a packet.
type Verdict uint8

// The verdicts. NoVerdict is that of packets a decision says nothing of.
const (
	NoVerdict Verdict = iota
	Admit
	Drop
	Reject
	inTheSet // the leaf of All; no decision has it
)

// verdictNames are how answers, reports and the service's documents name the verdicts.
var verdictNames = []string{NoVerdict: "none", Admit: "admitted", Drop: "dropped", Reject: "rejected"}

// String is the verdict as an answer says it: "admitted".
func (v Verdict) String() string { return verdictNames[v] }

// An Outcome is all a decision says of a packet. Outcomes are compared with ==.
type Outcome struct {
	Verdict Verdict
	// Reply is how a rejected packet is answered.
	Reply Reply
	// Translated is what is changed of an admitted packet.
	Translated Translation
	// Logged says that the kernel writes a line about it.
	Logged bool
	// By is who decided: a caller's own number, 0 where nobody asked. Decisions
	// that are to be compared leave it out.
	By int32
}

// Refused says that the packet does not get past, whatever it is told.
func (o Outcome) Refused() bool { return o.Verdict == Drop || o.Verdict == Reject }

// A Reply is how a packet that is rejected is answered, in one spelling for both families: by
// a reset, or by the ICMP error that it names. A dump may name any; the policy's are these.
type Reply string

// The replies of a policy; NoReply is that of packets that are dropped or admitted.
const (
	NoReply         Reply = ""
	TCPReset        Reply = "tcp-reset"
	PortUnreachable Reply = "port-unreachable"
)

// A Translation is what a kernel changes of a connection that it admits. The zero
// Translation changes nothing.
type Translation struct {
	Here        bool       // it is given to the host itself
	To          netip.Addr // it is sent on to another host
	Port        int        // it goes to another port; 0 keeps it
	Masqueraded bool       // it is seen as the router's own
}

// Changes says that anything is changed.
func (t Translation) Changes() bool { return t != Translation{} }

// String is how packets are said to be translated: "sent on to 192.0.2.7:443, masqueraded".
func (t Translation) String() string {
	var parts []string
	switch {
	case t.To.IsValid() && t.Port != 0:
		parts = append(parts, "sent on to "+netip.AddrPortFrom(t.To, uint16(t.Port)).String())
	case t.To.IsValid():
		parts = append(parts, "sent on to "+t.To.String())
	case t.Port != 0:
		parts = append(parts, fmt.Sprintf("redirected to port %d", t.Port))
	case t.Here:
		parts = append(parts, "redirected to the host itself")
	}
	if t.Masqueraded {
		parts = append(parts, "masqueraded")
	}
	return strings.Join(parts, ", ")
}

// Translate is d with a translation of what it admits. Where d translates already, one more
// destination comes before its own, as a kernel asks no more once it has found one.
func (sp *Space) Translate(d Decision, t Translation) Decision {
	return sp.Map(d, func(o Outcome) Outcome {
		if o.Verdict != Admit {
			return o
		}
		masqueraded := o.Translated.Masqueraded || t.Masqueraded
		if t.Here || t.To.IsValid() || t.Port != 0 {
			o.Translated = t
		}
		o.Translated.Masqueraded = masqueraded
		return o
	})
}
