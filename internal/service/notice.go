package service

import (
	"time"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/internal/store"
)

// After an event about a host the next one waits, the longer the more there were in a row: what changes
// now and then is told at once, and a host whose state changes all the time is told of once in quiet, with
// how often it changed. After calm it is as if nothing was.
const (
	quiet = 5 * time.Minute
	calm  = 10 * time.Minute
)

// waits is how long the next event waits after so many in a row.
func waits(tells int) time.Duration {
	return min(5*time.Second<<(2*min(max(tells-1, 0), 8)), quiet) // 5 s, 20 s, 80 s, 5 min
}

// notice works out what is told of a host that is in a state now. is is what is kept of it; keep says
// that this is otherwise than was, tell that others are told. first is a host that was never looked at.
//
// What every publication and every wave does to every host is told by those: for others a host that is
// behind, or waits, is well.
func notice(was store.HostState, first bool, state api.State, now time.Time) (is store.HostState, keep, tell bool) {
	switch state {
	case api.Behind, api.Waiting, api.New, api.Others:
		state = api.InStep
	}
	is = was
	if first {
		is.Told, is.State, is.ToldAt = state, state, now.Add(-calm) // so that the first change is told at once
		return is, true, state != api.InStep
	}
	if state != was.State {
		is.State = state
		is.Changes++
		keep = true
	}
	if is.Changes > 0 && now.Sub(was.ToldAt) >= calm {
		is.Tells = 0
	}
	if is.Changes > 0 && now.Sub(was.ToldAt) >= waits(is.Tells) && (is.State != is.Told || is.Changes > 1) {
		return is, true, true
	}
	return is, keep, false
}

// told is what is kept once that was told.
func told(is store.HostState, now time.Time) store.HostState {
	is.Told, is.ToldAt, is.Changes = is.State, now, 0
	is.Tells++
	return is
}
