package service

import "time"

// There are two times here. Clock is the date: the instant that policies are judged for, and
// that goes into records; tests set it. How long something may take is measured beside it, by
// what stands in this file, and goes on whatever the date is said to be.

// ends is the end of a time that begins now.
func ends(length time.Duration) time.Time { return time.Now().Add(length) }

// over says that an end has come.
func over(end time.Time) bool { return !time.Now().Before(end) }

// left is how long it is until an end; negative behind it.
func left(end time.Time) time.Duration { return time.Until(end) }

// A stopwatch tells how long ago it was begun.
type stopwatch struct{ begun time.Time }

// begin is a stopwatch that begins now.
func begin() stopwatch { return stopwatch{time.Now()} }

// runs is how long ago it was begun.
func (w stopwatch) runs() time.Duration { return time.Since(w.begun) }

// after says that it was begun after another.
func (w stopwatch) after(o stopwatch) bool { return w.begun.After(o.begun) }

// moment is now, for what is counted in such times.
func moment() time.Time { return time.Now() }
