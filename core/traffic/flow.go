package traffic

import (
	"cmp"
	"math"
	"net/netip"
	"slices"

	"go4.org/netipx"

	"yellowfence.example/yfence/core/packet"
)

// A Flow is packets, or connections, that are told as one. Ends are single addresses, or the
// prefix that is kept of one.
type Flow struct {
	By        string       `json:"by,omitempty" doc:"who refuses, as rules name it: 'block pests'; nothing is said of connections"`
	Direction string       `json:"direction" enum:"in,out,through"`
	In        string       `json:"in,omitempty" doc:"the interface it came in by, where that is known"`
	Out       string       `json:"out,omitempty" doc:"the interface it was to leave by"`
	Src       netip.Prefix `json:"src"`
	Dst       netip.Prefix `json:"dst"`
	Protocol  int          `json:"protocol" doc:"by its number"`
	Port      int          `json:"port" doc:"that it was sent to; the type of ICMP; -1 is many ports, one after the other"`
}

// ManyPorts is the port of a flow that stands for a search for open ports.
const ManyPorts = -1

// searched is from how many ports on, of one sender and protocol, they are told as a search.
const searched = 16

// Kept is a flow as it is kept for people to read: of strangers' addresses their prefix only, of
// 24 or 48 bits. Without strangers everybody is one.
func (f Flow) Kept(strangers *netipx.IPSet) Flow {
	blurred := func(p netip.Prefix) netip.Prefix {
		bits := map[bool]int{true: 24, false: 48}[p.Addr().Is4()]
		if p.Bits() <= bits || strangers != nil && !strangers.Contains(p.Addr()) {
			return p
		}
		return netip.PrefixFrom(p.Addr(), bits).Masked()
	}
	f.Src, f.Dst = blurred(f.Src), blurred(f.Dst)
	return f
}

// A Sum is how often there was a flow.
type Sum struct {
	Flow
	First int64         `json:"first" doc:"in seconds since 1970"`
	Last  int64         `json:"last"`
	Days  map[int]int64 `json:"days" doc:"how often, by day since 1970 in UTC"`
}

// Since is how often there was a flow from a day on.
func (s *Sum) Since(day int) (n int64) {
	for d, times := range s.Days {
		if d >= day {
			n += times
		}
	}
	return n
}

// Day is the day of an instant, counted from 1970 in UTC.
func Day(at int64) int { return int(math.Floor(float64(at) / 86400)) }

// Sums are flows with how often there were, so many and no more.
type Sums struct {
	Most  int   // how many flows it holds
	Over  int64 // what came when it was full, and was not of a flow that it holds
	flows map[Flow]*Sum
	ports map[Flow]map[int]bool // of flows without their port: those that were tried, until it is a search
}

// NewSums are sums of so many flows at most.
func NewSums(most int) *Sums {
	return &Sums{Most: most, flows: map[Flow]*Sum{}, ports: map[Flow]map[int]bool{}}
}

// Len is how many flows there are.
func (s *Sums) Len() int { return len(s.flows) }

// Add counts a flow n times at an instant, in seconds since 1970.
func (s *Sums) Add(f Flow, n, at int64) {
	s.Merge(Sum{Flow: f, First: at, Last: at, Days: map[int]int64{Day(at): n}})
}

// Merge counts a flow as often as another sum of it did. A sender who was refused at many ports is
// one flow, of many ports: whoever looks for open ones would fill the sums with them.
func (s *Sums) Merge(more Sum) {
	if more.By != "" && more.Port != ManyPorts && slices.Contains(packet.PortProtocols, more.Protocol) && s.isSearch(more.Flow) {
		more.Port = ManyPorts
	}
	had := s.flows[more.Flow]
	if had == nil {
		if len(s.flows) >= s.Most {
			s.Over += more.Since(math.MinInt)
			return
		}
		had = &Sum{Flow: more.Flow, First: more.First, Last: more.Last, Days: map[int]int64{}}
		s.flows[more.Flow] = had
	}
	had.First, had.Last = min(had.First, more.First), max(had.Last, more.Last)
	for day, n := range more.Days {
		had.Days[day] += n
	}
}

// isSearch notes a port that was tried, and says whether these are many by now. Those that were
// told one by one until then become one flow.
func (s *Sums) isSearch(f Flow) bool {
	port := f.Port
	f.Port = ManyPorts
	if _, already := s.flows[f]; already {
		return true
	}
	if s.ports[f] == nil {
		if len(s.ports) >= s.Most {
			return false
		}
		s.ports[f] = map[int]bool{}
	}
	if s.ports[f][port] = true; len(s.ports[f]) < searched {
		return false
	}
	var whole *Sum
	for tried := range s.ports[f] {
		one := f
		one.Port = tried
		had := s.flows[one]
		if had == nil {
			continue
		}
		delete(s.flows, one)
		if had.Port = ManyPorts; whole == nil {
			whole = had
			s.flows[f] = whole
			continue
		}
		whole.First, whole.Last = min(whole.First, had.First), max(whole.Last, had.Last)
		for day, n := range had.Days {
			whole.Days[day] += n
		}
	}
	delete(s.ports, f)
	return true
}

// All are the sums, the latest first.
func (s *Sums) All() []Sum {
	out := make([]Sum, 0, len(s.flows))
	for _, sum := range s.flows {
		out = append(out, *sum)
	}
	slices.SortFunc(out, func(a, b Sum) int {
		return cmp.Or(cmp.Compare(b.Last, a.Last), cmp.Compare(a.By, b.By), cmp.Compare(a.Direction, b.Direction), a.Src.Compare(b.Src),
			a.Dst.Compare(b.Dst), cmp.Compare(a.Protocol, b.Protocol), cmp.Compare(a.Port, b.Port), cmp.Compare(a.In, b.In),
			cmp.Compare(a.Out, b.Out))
	})
	return out
}

// Forget leaves out all that was before a day, and flows of which nothing is left.
func (s *Sums) Forget(before int) {
	for f, sum := range s.flows {
		for day := range sum.Days {
			if day < before {
				delete(sum.Days, day)
			}
		}
		if len(sum.Days) == 0 {
			delete(s.flows, f)
		}
	}
}

// Room makes room for n more flows: those that were seen last stay. What goes is counted in Over.
func (s *Sums) Room(n int) {
	all := s.All()
	for _, sum := range all[min(max(s.Most-n, 0), len(all)):] {
		s.Over += sum.Since(math.MinInt)
		delete(s.flows, sum.Flow)
	}
}

// Told is sums as they are sent and stored.
type Told struct {
	Over  int64 `json:"over,omitempty" doc:"what was not of these flows: there were too many"`
	Flows []Sum `json:"flows" nullable:"false"`
}

// Told are the sums with the latest flow first.
func (s *Sums) Told() *Told { return &Told{s.Over, s.All()} }

// Take adds what was told to the sums; nil is nothing.
func (s *Sums) Take(t *Told) {
	if t == nil {
		return
	}
	for _, sum := range t.Flows {
		s.Merge(sum)
	}
	s.Over += t.Over
}

// empty says that nothing is told.
func (t *Told) empty() bool { return t == nil || len(t.Flows) == 0 && t.Over == 0 }
