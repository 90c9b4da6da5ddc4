package traffic

import (
	"maps"
	"math"
	"slices"

	"yellowfence.example/yfence/core/packet"
)

// How much a batch and a record hold, and for how many days.
const (
	BatchFlows   = 1000 // of what was refused, and of connections, in a batch
	RecordFlows  = 2000 // of either, in what is kept of a host
	Statements   = 2000 // in either
	FlowDays     = 30   // of flows
	HitDays      = 90   // of how often statements decided
	nameLength   = 200  // of a statement
	farthestDays = 1    // a host's clock may be ahead
)

// A Batch is what a host tells of a while. Batches of one Epoch are numbered from 1 on; one is
// told until it was taken, so that the next can follow.
type Batch struct {
	Epoch   string `json:"epoch" maxLength:"64" doc:"what the numbers are of: another one where the host has lost count"`
	Number  int64  `json:"number" minimum:"1"`
	At      int64  `json:"at" doc:"when it was last added to, in seconds since 1970"`
	Hits    []Hit  `json:"hits,omitempty" nullable:"false" doc:"what came to counters; a statement that is in force and was not told before comes with nothing"`
	InForce bool   `json:"in_force,omitempty" doc:"hits name all statements that are in force there"`
	Refused *Told  `json:"refused,omitempty" doc:"what was refused"`
	Seen    *Told  `json:"seen,omitempty" doc:"connections that began"`
	Lost    int64  `json:"lost,omitempty" doc:"messages of the kernel's that were not counted: there were too many"`
	Watches bool   `json:"watches,omitempty" doc:"the host listens to which connections begin"`
}

// Empty says that a batch tells nothing.
func (b *Batch) Empty() bool {
	return len(b.Hits) == 0 && !b.InForce && b.Refused.empty() && b.Seen.empty() && b.Lost == 0
}

// Add adds what came since to a batch that was not sent yet.
func (b *Batch) Add(more Batch) {
	b.At, b.Lost = max(b.At, more.At), b.Lost+more.Lost
	b.Watches = more.Watches
	sums := map[string]*Hit{}
	for _, h := range slices.Concat(b.Hits, more.Hits) {
		if more.InForce && !slices.ContainsFunc(more.Hits, func(m Hit) bool { return m.key() == h.key() }) && h.Packets == 0 {
			continue // it is not in force any more, and nothing came to it
		}
		if sums[h.key()] == nil {
			sums[h.key()] = &Hit{By: h.By, Way: h.Way}
		}
		sums[h.key()].Packets += h.Packets
		sums[h.key()].Bytes += h.Bytes
	}
	b.Hits, b.InForce = sorted(sums), b.InForce || more.InForce
	b.Refused, b.Seen = joined(b.Refused, more.Refused), joined(b.Seen, more.Seen)
}

// joined is what was told twice as one.
func joined(a, b *Told) *Told {
	if b.empty() {
		return a
	}
	if a.empty() {
		return b
	}
	s := NewSums(BatchFlows)
	s.Take(a)
	s.Take(b)
	return s.Told()
}

// A Statement is how one statement fares on a host.
type Statement struct {
	By    string          `json:"by"`
	Way   string          `json:"way,omitempty"`
	Since int64           `json:"since"`          // from when on it is counted there
	Until int64           `json:"until"`          // to when it was; a host is heard of now and then
	Gone  bool            `json:"gone,omitempty"` // it is not in force there any more
	Last  int64           `json:"last,omitempty"` // when something last came to it; 0 is never
	Days  map[int][]int64 `json:"days,omitempty"` // packets and bytes, by day since 1970 in UTC
}

// A Record is what the service keeps of what a host counted and saw.
type Record struct {
	Epoch   string                `json:"epoch"`
	Number  int64                 `json:"number"`
	At      int64                 `json:"at"` // when it last told something
	Lost    int64                 `json:"lost,omitempty"`
	Hits    map[string]*Statement `json:"hits"`              // by statement and way
	Kinds   [2]int64              `json:"kinds"`             // how many flows there are, refused and seen, when it was stored
	Watched int64                 `json:"watched,omitempty"` // since when connections are listened to; 0 is not
	Refused *Sums                 `json:"-"`
	Seen    *Sums                 `json:"-"`
}

// NewRecord is the record of a host that told nothing yet.
func NewRecord() *Record {
	return &Record{Hits: map[string]*Statement{}, Refused: NewSums(RecordFlows), Seen: NewSums(RecordFlows)}
}

// Take adds a batch that came at an instant to a record, once: fresh is false for one that it has
// taken already. What a batch says of times is not believed where it is ahead of that instant.
// kept gives what is kept of a flow that was seen; who strangers are is not known here.
func (r *Record) Take(b Batch, at int64, kept func(Flow) Flow) (fresh bool) {
	if b.Epoch == r.Epoch && b.Number <= r.Number {
		return false
	}
	r.Epoch, r.Number, r.Lost = b.Epoch, b.Number, r.Lost+b.Lost
	begun := b.At
	if begun > at || Day(begun) < Day(at)-FlowDays {
		begun = at
	}
	r.At = max(r.At, begun)
	r.takeHits(b, begun)
	switch {
	case b.Watches && r.Watched == 0:
		r.Watched = begun
	case !b.Watches:
		r.Watched = 0
	}
	asIs := func(f Flow) Flow { return f }
	take(r.Refused, b.Refused, begun, asIs)
	take(r.Seen, b.Seen, begun, kept)
	return true
}

// takeHits adds what came to statements.
func (r *Record) takeHits(b Batch, at int64) {
	told := map[string]bool{}
	for _, h := range b.Hits {
		key := h.key()
		if r.Hits[key] == nil && len(r.Hits) >= Statements || !IsStatement(h.By) || len(h.By) > nameLength || h.Packets < 0 || h.Bytes < 0 {
			continue
		}
		told[key] = true
		s := r.Hits[key]
		if s == nil || s.Gone {
			was := s
			s = &Statement{By: h.By, Way: h.Way, Since: at}
			if r.Hits[key] = s; was != nil {
				s.Last, s.Days = was.Last, was.Days
			}
		}
		if h.Packets > 0 {
			s.Last = max(s.Last, at)
			if s.Days == nil {
				s.Days = map[int][]int64{}
			}
			day := s.Days[Day(at)]
			if len(day) != 2 {
				day = make([]int64, 2)
			}
			s.Days[Day(at)] = []int64{day[0] + h.Packets, day[1] + h.Bytes}
		}
	}
	// What is not named by a batch that names all is in force no more; its past stays for its time.
	for key, s := range r.Hits {
		if b.InForce && !told[key] {
			s.Gone = true
		}
		if !s.Gone {
			s.Until = at
		}
		maps.DeleteFunc(s.Days, func(day int, _ []int64) bool { return day < Day(at)-HitDays })
		if s.Gone && len(s.Days) == 0 {
			delete(r.Hits, key)
		}
	}
}

// take adds flows to those of a record.
func take(to *Sums, more *Told, at int64, kept func(Flow) Flow) {
	to.Forget(Day(at) - FlowDays)
	if more == nil {
		return
	}
	all := more.Flows[:min(len(more.Flows), BatchFlows)]
	to.Over += more.Over
	for _, s := range more.Flows[len(all):] {
		to.Over += s.Since(math.MinInt)
	}
	if to.Len()+len(all) > to.Most {
		to.Room(len(all))
	}
	for _, s := range all {
		if _, ok := packet.DirectionOf(s.Direction); !ok || !s.Src.IsValid() || !s.Dst.IsValid() || len(s.By) > nameLength {
			continue
		}
		days := map[int]int64{}
		for day, n := range s.Days {
			if n > 0 && n < math.MaxInt64/2 {
				days[min(max(day, Day(at)-FlowDays), Day(at)+farthestDays)] += n
			}
		}
		s.Days, s.Flow = days, kept(s.Flow)
		s.First, s.Last = min(s.First, at), min(s.Last, at)
		to.Merge(s)
	}
}
