package traffic

import (
	"strings"

	"yellowfence.example/yfence/core/compile"
)

// Refused is how many packets the statements that refuse decided about, by day since 1970 in UTC, over the
// hosts whose records are given.
func Refused(records map[string]*Record, since int64) map[int]int64 {
	out := map[int]int64{}
	for _, r := range records {
		for _, s := range r.Hits {
			if !refuses(s.By) {
				continue
			}
			for day, counted := range s.Days {
				if day >= Day(since) && len(counted) > 0 {
					out[day] += counted[0]
				}
			}
		}
	}
	return out
}

// refuses says that a statement refuses what it decides about: blocks do, and a stance that is closed.
func refuses(by string) bool {
	kind, name, _ := strings.Cut(by, " ")
	return kind == string(compile.ByBlock) || kind == string(compile.ByStance) && strings.HasSuffix(name, " closed")
}
