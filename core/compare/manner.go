package compare

import (
	"slices"
	"strings"

	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/say"
)

// manners says what is done with the packets of a cause and what should be.
func (c *comparison) manners(n *cause, example packet.Packet) string {
	is, ought := c.manner(c.done, c.doneRates, n.set, example), c.manner(c.meant, c.meantRates, n.set, example)
	if is == ought { // it is about what exceeds a limit
		done, meant := c.exceeding(c.doneRates, example), c.exceeding(c.meantRates, example)
		exceeds, ought := done.Beside(meant), meant.Beside(done)
		if exceeds == ought { // the buckets are of the same rate, and hold other packets
			return is.Beside(say.Manner{Outcome: packet.Outcome{Reply: is.Reply, Translated: is.Translated}}) +
				", counted otherwise than it should be"
		}
		return is.Verdict.String() + is.Limit() + "; what exceeds it is " + exceeds + ", and should be " + ought
	}
	return is.Beside(ought) + ", and should be " + ought.Beside(is)
}

// manner is what is done with packets of a set, of which example is one.
func (c *comparison) manner(d, rated packet.Decision, set packet.Set, example packet.Packet) (m say.Manner) {
	m.Outcome = c.sp.Outcome(d, example)
	m.By = 0
	rated = c.sp.Only(rated, c.sp.And(set, c.sp.WellFormed()))
	m.AtMost = c.rates(rated, "", func(o packet.Outcome) bool { return o.Verdict == packet.Admit })
	m.LogUpTo = c.rates(rated, m.AtMost, func(o packet.Outcome) bool { return o.Verdict == m.Verdict && o.Logged })
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
func (c *comparison) exceeding(rated packet.Decision, example packet.Packet) (m say.Manner) {
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
