package traffic

import "net/netip"

// Probes are the connections that our own service had hosts open to try their rules, with how often:
// they are nobody's traffic.
type Probes map[Flow]int64

// packetsOfProbe is how many packets one probe sends at most where nobody answers.
const packetsOfProbe = 4

// Add adds one: ICMP's port is its type.
func (p Probes) Add(src, dst netip.Addr, protocol, port int) {
	if src.IsValid() && dst.IsValid() {
		p[Flow{Src: netip.PrefixFrom(src, src.BitLen()), Dst: netip.PrefixFrom(dst, dst.BitLen()), Protocol: protocol, Port: port}]++
	}
}

// LeaveOut takes probes out of what hosts told: of each flow as many as the probes may have been, and
// all of it where nothing is left. Whoever sends more than that from the same host stays.
func (p Probes) LeaveOut(records map[string]*Record) {
	if len(p) == 0 {
		return
	}
	for _, r := range records {
		r.Refused.leaveOut(p, packetsOfProbe)
		r.Seen.leaveOut(p, 1)
	}
}

// leaveOut takes so many of each flow out for each of its probes.
func (s *Sums) leaveOut(p Probes, each int64) {
	for f, sum := range s.flows {
		less := each * p[Flow{Src: f.Src, Dst: f.Dst, Protocol: f.Protocol, Port: f.Port}]
		for day, n := range sum.Days {
			if less <= 0 {
				break
			}
			taken := min(n, less)
			if less -= taken; taken == n {
				delete(sum.Days, day)
			} else {
				sum.Days[day] = n - taken
			}
		}
		if len(sum.Days) == 0 {
			delete(s.flows, f)
		}
	}
}
