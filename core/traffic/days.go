package traffic

// RefusedByDay is how many packets were refused on each day since 1970 in UTC from an instant on, of those that
// the hosts whose records are given told of.
func RefusedByDay(records map[string]*Record, since int64) map[int]int64 {
	out := map[int]int64{}
	for _, r := range records {
		for _, sum := range r.Refused.All() {
			for day, times := range sum.Days {
				if day >= Day(since) {
					out[day] += times
				}
			}
		}
	}
	return out
}
