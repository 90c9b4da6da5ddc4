package cli

import "time"

// Times that people read are in UTC and say so, as in the policy: two people who speak of one entry of the record, or of
// the end of a rule, read the same.

// secondText is an instant to the second.
func secondText(t time.Time) string { return t.UTC().Format("2006-01-02 15:04:05 MST") }

// minuteText is an instant to the minute.
func minuteText(t time.Time) string { return t.UTC().Format("2006-01-02 15:04 MST") }

// clockText is an instant of today or of the night after it, to the second.
func clockText(t time.Time) string { return t.UTC().Format("15:04:05 MST") }

// dateText is the day of an instant.
func dateText(t time.Time) string { return t.UTC().Format(time.DateOnly) }

// momentText is when something was: the time of today, else the day.
func momentText(at, now time.Time) string {
	if now.Sub(at) < day {
		return clockText(at)
	}
	return dateText(at)
}
