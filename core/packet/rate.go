package packet

import (
	"fmt"
	"slices"
)

// A PortRange is a run of ports, both ends included.
type PortRange struct{ Lo, Hi int }

// A Rate is a number per time: N in every so many Seconds, and up to N at once.
type Rate struct{ N, Seconds int }

// rateUnits are what the kernel counts by, in seconds, and how the language writes them.
var rateUnits = []struct {
	name, short string
	seconds     int
}{{"second", "s", 1}, {"minute", "m", 60}, {"hour", "h", 3600}, {"day", "d", 86400}}

// Kernel is the rate as the kernel has it: a whole number per second, minute, hour or day, by
// the shortest of them that makes it whole. ok is false where none does.
func (r Rate) Kernel() (n int, unit string, ok bool) {
	for _, u := range rateUnits {
		if r.N*u.seconds%r.Seconds == 0 {
			return r.N * u.seconds / r.Seconds, u.name, true
		}
	}
	return 0, "", false
}

// Slower says that r is the lower rate, or the same with the smaller bucket. 60 per 1m and 1
// per 1s are the same rate with other buckets.
func (r Rate) Slower(o Rate) bool {
	if a, b := r.N*o.Seconds, o.N*r.Seconds; a != b {
		return a < b
	}
	return r.N < o.N
}

// String is the rate as the language writes it: "4 per 1m".
func (r Rate) String() string {
	for _, u := range slices.Backward(rateUnits) {
		if r.Seconds%u.seconds == 0 {
			return fmt.Sprintf("%d per %d%s", r.N, r.Seconds/u.seconds, u.short)
		}
	}
	return "" // every number of seconds is one of seconds
}
