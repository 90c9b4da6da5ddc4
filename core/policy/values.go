package policy

import (
	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/packet"
)

// A Log is that a rule or a stance has the kernel write a line of what it decides.
type Log struct {
	UpTo *packet.Rate // how often at most; nil is each time
}

// An AtMost is how often an allow admits new connections: a token bucket for all senders
// together, or one for each source address.
type AtMost struct {
	packet.Rate
	PerSource bool
}

// A Sender narrows a rule, at the sending end, to what some users, units or programs send.
type Sender struct {
	Kind  packet.SenderKind
	Names []string
}

// logOf is a log of the tree as the policy has it.
func logOf(l *fence.Log) *Log {
	switch {
	case l == nil:
		return nil
	case l.UpTo == nil:
		return &Log{}
	}
	return &Log{UpTo: new(l.UpTo.Value())}
}

// atMostOf is a limit of the tree as the policy has it; nil where there is none.
func atMostOf(a *fence.AtMost) *AtMost {
	if a == nil {
		return nil
	}
	return &AtMost{a.Value(), a.PerSource}
}
