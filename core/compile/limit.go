package compile

import (
	"cmp"
	"time"

	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
)

// A Log is the line a rule has the kernel write.
type Log struct {
	Name string       // what its bucket is called
	UpTo *packet.Rate // nil is every time
	// Manner is said in each line, behind who decides.
	Manner string
}

// Bucket is what slows the log of one family where UpTo is said; a host has one for each rule.
func (l *Log) Bucket(family int) packet.Bucket { return bucket(l.Name+endings[family], *l.UpTo, 0) }

// endings tell the buckets of the two families apart.
var endings = []string{packet.IPv4: ".4", packet.IPv6: ".6"}

// when is the packets that are logged, of those the log is about.
func (l *Log) when(sp *packet.Space) packet.Set {
	if l.UpTo == nil {
		return packet.All
	}
	return perFamily(sp, l.Bucket)
}

// A Limit is how much a rule admits, and what becomes of the rest.
type Limit struct {
	policy.AtMost
	Name      string // the rule's
	Excess    packet.Verdict
	ExcessLog *Log
}

// Sources is how many sources a bucket for each is kept for. What more there
// are exceeds the limit, so that nobody can fill a host's memory.
const Sources = 65536

// Bucket is the rule's bucket for one family.
func (l *Limit) Bucket(family int) packet.Bucket {
	if l.PerSource {
		return bucket(l.Name+".source"+endings[family], l.Rate, Sources)
	}
	return bucket(l.Name+endings[family], l.Rate, 0)
}

// room is the packets that the limit lets by.
func (l *Limit) room(sp *packet.Space) packet.Set { return perFamily(sp, l.Bucket) }

// perFamily is the packets that the bucket of their family lets by.
func perFamily(sp *packet.Space, bucket func(family int) packet.Bucket) (room packet.Set) {
	for _, family := range []int{packet.IPv4, packet.IPv6} {
		room = sp.Or(room, sp.And(sp.Value(packet.Family, family), sp.HasToken(bucket(family))))
	}
	return room
}

// bucket is a rate as the kernel has it: a whole number per unit, N at once.
func bucket(name string, r packet.Rate, sources int) packet.Bucket {
	n, unit, _ := r.Kernel() // the parser refuses what is no whole number
	units := map[string]time.Duration{"second": time.Second, "minute": time.Minute, "hour": time.Hour, "day": 24 * time.Hour}
	return packet.Bucket{Name: name, Every: int64(units[unit]) / int64(n), Burst: int64(r.N), Sources: sources}
}

// byFreedom orders allows by how freely they admit: those without a limit are
// all alike and first, then those that count each source by itself, then by
// rate and size of the bucket, then by name.
func byFreedom(a, b piece) int {
	switch {
	case a.limit == nil || b.limit == nil:
		return present(a.limit != nil) - present(b.limit != nil)
	case a.limit.PerSource != b.limit.PerSource:
		return present(b.limit.PerSource) - present(a.limit.PerSource)
	}
	return byRate(a.limit.Rate, b.limit.Rate, a, b)
}

// Freer says that of two allows which match a packet a decides, and not b: one without a limit
// before one with it, then one that counts each source by itself, then the larger rate.
func Freer(a, b *policy.Rule) bool {
	return byFreedom(piece{rule: a, limit: a.AtMost}, piece{rule: b, limit: b.AtMost}) < 0
}

// byRefusal orders blocks: those that drop are all alike and first.
func byRefusal(a, b piece) int {
	return present(a.rule.Verdict != packet.Drop) - present(b.rule.Verdict != packet.Drop)
}

// byLog orders rules by how freely they log: those that always do are all alike
// and first, then by rate and size of the bucket, then by name; those that never
// do are all alike and last.
func byLog(a, b piece) int { return compareLogs(a.log, b.log) }

// compareLogs orders logs by how much they write: a limited one behind one without, the slower
// behind the faster.
func compareLogs(a, b *Log) int {
	switch {
	case a == nil || b == nil:
		return present(a == nil) - present(b == nil)
	case a.UpTo == nil || b.UpTo == nil:
		return present(a.UpTo != nil) - present(b.UpTo != nil)
	case a.UpTo.Slower(*b.UpTo):
		return 1
	case b.UpTo.Slower(*a.UpTo):
		return -1
	}
	return cmp.Compare(a.Name, b.Name)
}

// freer is the log that counts of two that could.
func freer(a, b *Log) *Log {
	if compareLogs(a, b) <= 0 {
		return a
	}
	return b
}

// byRate orders rules by their rates, the faster first, and those of one rate by name.
func byRate(r, s packet.Rate, a, b piece) int {
	switch {
	case r.Slower(s):
		return 1
	case s.Slower(r):
		return -1
	}
	return cmp.Compare(a.rule.Name, b.rule.Name)
}

// present is 1 for yes: it orders what is there behind what is not.
func present(yes bool) int {
	if yes {
		return 1
	}
	return 0
}
