package service

import (
	"time"

	"yellowfence.example/yfence/internal/api"
	"yellowfence.example/yfence/internal/store"
)

// quiet is how long after an event about a host the next one waits: a host whose state changes all the
// time is told of once in that time, with how often it changed.
const quiet = 5 * time.Minute

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
		is.Told, is.State, is.ToldAt = state, state, now.Add(-quiet) // so that the first change is told at once
		return is, true, state != api.InStep
	}
	if state != was.State {
		is.State = state
		is.Changes++
		keep = true
	}
	if is.Changes > 0 && now.Sub(was.ToldAt) >= quiet && (is.State != is.Told || is.Changes > 1) {
		return is, true, true
	}
	return is, keep, false
}
