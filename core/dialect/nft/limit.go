package nft

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/netip"
	"time"

	"yellowfence.example/yfence/core/dialect"
	"yellowfence.example/yfence/core/packet"
)

// defaultBurst is the kernel's where a limit says none (NFT_LIMIT_PKT_BURST_DEFAULT).
const defaultBurst = 5

var rateUnits = map[string]time.Duration{"second": time.Second, "minute": time.Minute, "hour": time.Hour, "day": 24 * time.Hour, "week": 7 * 24 * time.Hour}

// bucket reads a limit as the kernel counts it: a token comes back every so
// many nanoseconds (nft_limit_init in net/netfilter/nft_limit.c). over says
// that it asks for what exceeds it; ok is false for one that counts bytes.
func bucket(name string, f map[string]any) (b packet.Bucket, over, ok bool) {
	n, okRate := number(f["rate"])
	burst, said := number(f["burst"])
	if !said || burst == 0 {
		burst = defaultBurst
	}
	over, _ = f["inv"].(bool)
	unit := rateUnits[text(f["per"])]
	if !okRate || n < 1 || unit == 0 || f["rate_unit"] != nil && text(f["rate_unit"]) != "packets" {
		return b, over, false
	}
	return packet.Bucket{Name: name, Every: int64(unit) / int64(n), Burst: int64(burst)}, over, true
}

// objectName is a bucket's name: of our own table what we gave it, else with its table.
func objectName(k setKey) string {
	if k.family == Family && k.table == Table {
		return k.name
	}
	return fmt.Sprintf("%s %s/%s", k.family, k.table, k.name)
}

// slowed is the packets that a statement with a limit lets by. What depends on
// what came before in another way is an unknown of this very place.
func (r *reader) slowed(c *dialect.Chain, kind string, arg, statement any, at string) packet.Set {
	unknown := func() packet.Set { return r.sp.Unknown(fmt.Sprintf("%s (%s)", exprText(statement), at)) }
	switch kind {
	case "limit":
		if name := text(arg); name != "" {
			if b, ok := r.limits[setKey{c.Family, c.Table, name}]; ok {
				return r.sp.Room(b)
			}
			return unknown()
		}
		b, over, ok := bucket(at, anyMap(arg))
		if !ok {
			return unknown()
		}
		if room := r.sp.Room(b); !over {
			return room
		}
		return r.sp.Not(r.sp.Room(b))
	case "set":
		m := anyMap(arg)
		statements, _ := m["stmt"].([]any)
		if len(statements) == 0 {
			if limited, _ := json.Marshal(arg); bytes.Contains(limited, []byte(`"limit"`)) {
				return unknown()
			}
			return packet.All // it keeps a note, and lets everything by
		}
		if s, ok := r.perSource(c, m, statements); ok {
			return s
		}
	}
	return unknown()
}

// perSource reads a limit that is kept for each source in a set. A set whose
// elements are forgotten before their bucket is full again is something else.
func (r *reader) perSource(c *dialect.Chain, m map[string]any, statements []any) (s packet.Set, ok bool) {
	k := setKey{c.Family, c.Table, trimAt(text(m["set"]))}
	set := r.sets[k]
	b, over, isBucket := bucket(objectName(k), anyMap(anyMap(statements[0])["limit"]))
	if set == nil || set.size == 0 || over || !isBucket || len(statements) != 1 || text(m["op"]) != "update" ||
		time.Duration(set.timeout)*time.Second < time.Duration(b.Every*b.Burst) {
		return s, false
	}
	b.Sources = set.size
	elem := m["elem"]
	if masked, is := anyMap(elem)["&"].([]any); is && len(masked) == 2 {
		mask, err := netip.ParseAddr(text(masked[1]))
		if f, ok := fieldOf(masked[0]); err != nil || !ok || f.header != "ip6" || mask != netip.MustParseAddr("ffff:ffff:ffff:ffff::") {
			return s, false
		}
		elem = masked[0]
	} else if f, ok := fieldOf(elem); !ok || f.header != "ip" {
		return s, false
	}
	f, _ := fieldOf(elem)
	if f.field != packet.Src {
		return s, false
	}
	return r.sp.And(f.scope(r.sp), r.sp.Room(b)), true
}

func trimAt(name string) string {
	if name != "" && name[0] == '@' {
		return name[1:]
	}
	return name
}
