package packet

import (
	"fmt"
	"net/netip"
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

var verdictNames = []string{NoVerdict: "none", Admit: "admitted", Drop: "dropped", Reject: "rejected"}

func (v Verdict) String() string { return verdictNames[v] }

// An Outcome is all a decision says of a packet. Outcomes are compared with ==.
type Outcome struct {
	Verdict Verdict
	// With is how a rejected packet is answered, in one spelling for both
	// families: "tcp-reset", or an ICMP error such as "port-unreachable". Of one that
	// is admitted it says how it is translated: "masqueraded".
	With string
	// Logged says that the kernel writes a line about it.
	Logged bool
	// By is who decided: a caller's own number, 0 where nobody asked. Decisions
	// that are to be compared leave it out.
	By int32
}

// Refused says that the packet does not get past, whatever it is told.
func (o Outcome) Refused() bool { return o.Verdict == Drop || o.Verdict == Reject }

// Masqueraded is how packets are said to be translated that get the router's own address.
const Masqueraded = "masqueraded"

// Redirected is how packets are said to be translated that are given to the host
// itself, at another port if it is not 0.
func Redirected(port int) string {
	if port == 0 {
		return "redirected to the host itself"
	}
	return fmt.Sprintf("redirected to port %d", port)
}

// SentOn is how packets are said to be translated that get another destination, and
// another port if it is not 0.
func SentOn(to netip.Addr, port int) string {
	if port == 0 {
		return "sent on to " + to.String()
	}
	return "sent on to " + netip.AddrPortFrom(to, uint16(port)).String()
}

// Translation is d with how its admitted packets are translated besides.
func Translation(sp *Space, d Decision, how string) Decision {
	return sp.Map(d, func(o Outcome) Outcome {
		if o.Verdict == Admit && o.With != "" {
			o.With = how + ", " + o.With
		} else if o.Verdict == Admit {
			o.With = how
		}
		return o
	})
}
