package compare

import (
	"slices"
	"strings"

	"yellowfence.example/yfence/core/packet"
)

// manners says what is done with the packets of a cause and what should be.
func (c *comparison) manners(n *cause, example packet.Packet) string {
	is, ought := c.manner(c.done, c.doneRates, n.set, example), c.manner(c.meant, c.meantRates, n.set, example)
	if is == ought { // it is about what exceeds a limit
		done, meant := c.exceeding(c.doneRates, example), c.exceeding(c.meantRates, example)
		exceeds, ought := done.beside(meant), meant.beside(done)
		if exceeds == ought { // the buckets are of the same rate, and hold other packets
			return is.beside(manner{Outcome: packet.Outcome{With: is.With}}) + ", counted otherwise than it should be"
		}
		return is.Verdict.String() + is.limit() + "; what exceeds it is " + exceeds + ", and should be " + ought
	}
	return is.beside(ought) + ", and should be " + ought.beside(is)
}

// manner is what is done with packets: while nothing is exceeded, and how much at most.
type manner struct {
	packet.Outcome
	atMost, logUpTo string // rates; "" is without limit
}

func (c *comparison) manner(d, rated packet.Decision, set packet.Set, example packet.Packet) (m manner) {
	m.Outcome = c.sp.Outcome(d, example)
	m.By = 0
	rated = c.sp.Only(rated, c.sp.And(set, c.sp.WellFormed()))
	m.atMost = c.rates(rated, "", func(o packet.Outcome) bool { return o.Verdict == packet.Admit })
	m.logUpTo = c.rates(rated, m.atMost, func(o packet.Outcome) bool { return o.Verdict == m.Verdict && o.Logged })
	return m
}

// rates says the buckets that decide whether packets are in a part of a decision, but for one.
func (c *comparison) rates(d packet.Decision, but string, part func(packet.Outcome) bool) string {
	var rates []string
	for _, b := range packet.Buckets(c.sp, c.sp.Where(d, part)) {
		if rate := b.String(); rate != but && !slices.Contains(rates, rate) {
			rates = append(rates, rate)
		}
	}
	return strings.Join(rates, " and ")
}

// exceeding is what becomes of a packet for which no bucket has a token that it needs to
// be admitted. Those that decide whether a line is written of it have one.
func (c *comparison) exceeding(rated packet.Decision, example packet.Packet) (m manner) {
	rated = c.sp.Only(rated, c.sp.Exactly(example))
	for _, b := range packet.Buckets(c.sp, c.sp.Where(rated, func(o packet.Outcome) bool { return o.Verdict == packet.Admit })) {
		rated = c.sp.AssumeToken(rated, b, false)
	}
	for _, o := range c.sp.Outcomes(c.sp.WithinLimits(rated)) {
		m.Outcome = o // the only one, since all else is decided
	}
	m.By = 0
	return m
}

func (m manner) limit() string {
	if m.atMost == "" {
		return " without a limit"
	}
	return " at most " + m.atMost
}

// beside says a manner as far as it differs from another.
func (m manner) beside(other manner) string {
	s := m.Verdict.String()
	switch {
	case m.With == other.With:
	case m.Verdict == packet.Admit && m.With == "":
		s += " as it is"
	case m.Verdict == packet.Admit:
		s += " " + m.With
	case m.With != "":
		s += " with " + m.With
	}
	limited := m.atMost != other.atMost
	if limited {
		s += m.limit()
	}
	if m.Logged == other.Logged && m.logUpTo == other.logUpTo {
		return s
	}
	switch {
	case m.Logged && m.logUpTo != "":
		return s + " and logged up to " + m.logUpTo
	case m.Logged && other.Logged:
		return s + " and logged without a limit"
	case m.Logged:
		return s + " and logged"
	case limited:
		return s + " and without a log"
	}
	return s + " without a log"
}
