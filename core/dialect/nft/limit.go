package nft

import (
	"net/netip"
	"strconv"
	"strings"
	"time"

	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
)

// defaultBurst is the kernel's where a limit says none (NFT_LIMIT_PKT_BURST_DEFAULT).
const defaultBurst = 5

// rateUnits are the times that rates are per.
var rateUnits = map[string]time.Duration{"second": time.Second, "minute": time.Minute, "hour": time.Hour, "day": 24 * time.Hour,
	"week": 7 * 24 * time.Hour}

// bucket reads a limit as the kernel counts it: a token comes back every so
// many nanoseconds (nft_limit_init in net/netfilter/nft_limit.c). over says
// that it asks for what exceeds it; ok is false for one that counts bytes.
func bucket(name string, e *expr) (b packet.Bucket, over, ok bool) {
	rate, err := strconv.Atoi(e.part)
	burst, said := e.arg(0).int()
	if !said || burst == 0 {
		burst = defaultBurst
	}
	over = e.arg(1).text == "over"
	unit := rateUnits[e.text]
	if e.kind != kindLimit || err != nil || rate < 1 || unit == 0 || e.arg(2).text != "" {
		return b, over, false
	}
	return packet.Bucket{Name: name, Every: int64(unit) / int64(rate), Burst: int64(burst)}, over, true
}

// objectName is a bucket's name: of our own table what we gave it, else with its table.
func objectName(k place) string {
	if k.family == Family && k.table == Table {
		return k.name
	}
	return k.String()
}

// happens is the packets for which something holds that depends on what came before,
// or on chance: what says it.
func (r *reader) happens(e *expr, what string) packet.Set {
	return r.sp.HasToken(packet.Bucket{Name: r.at + " " + e.String(), What: what})
}

// slowed is the packets that a statement with a limit lets by.
func (r *reader) slowed(c *kernel.Chain, e *expr, at string) packet.Set {
	switch e.kind {
	case kindCounted:
		if strings.HasPrefix(e.text, "quota name") { // whether it asks for more or less than it holds the quota says
			return r.sp.Unknown(e.text + " (" + at + ")")
		}
	case kindLimitNamed:
		if b, ok := r.limits[place{c.Family, c.Table, e.text}]; ok {
			return r.sp.HasToken(b)
		}
		return r.sp.Unknown(e.String() + " (" + at + ")")
	case kindLimit:
		b, over, ok := bucket(at, e)
		switch {
		case !ok:
		case over:
			return r.sp.Not(r.sp.HasToken(b))
		default:
			return r.sp.HasToken(b)
		}
	case kindSetWrite:
		if len(e.args) == 1 && !e.mentions(kindLimit) {
			return packet.All // it keeps a note, and lets everything by
		}
		if s, ok := r.perSource(c, e); ok {
			return s
		}
	}
	room := r.happens(e, e.String())
	if said := e.String(); strings.Contains(said, " over ") { // what exceeds it
		room = r.sp.Not(r.happens(e, strings.Replace(said, " over ", " ", 1)))
	}
	return room
}

// perSource reads a limit that is kept for each source in a set. A set whose
// elements are forgotten before their bucket is full again is something else.
func (r *reader) perSource(c *kernel.Chain, e *expr) (s packet.Set, ok bool) {
	k := place{c.Family, c.Table, strings.TrimPrefix(e.part, "@")}
	set := r.sets[k]
	b, over, isBucket := bucket(objectName(k), e.arg(1))
	if set == nil || set.size == 0 || over || !isBucket || len(e.args) != 2 || e.text != "update" ||
		time.Duration(set.timeout)*time.Second < time.Duration(b.Every*b.Burst) {
		return s, false
	}
	b.Sources = set.size
	source, header := e.arg(0), "ip"
	if source.kind == kindBoth {
		mask, err := netip.ParseAddr(source.arg(1).text)
		if err != nil || mask != netip.MustParseAddr("ffff:ffff:ffff:ffff::") {
			return s, false
		}
		source, header = source.arg(0), "ip6"
	}
	f, ok := fieldOf(source)
	if !ok || f.header != header || f.field != packet.Src {
		return s, false
	}
	return r.sp.And(r.scope(c, f), r.sp.HasToken(b)), true
}
