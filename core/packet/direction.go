package packet

import "slices"

// A Direction is one of the ways a packet crosses a host; its number is the packet's value of
// the field Hook.
type Direction int

// The directions.
const (
	Inbound  Direction = In
	Outbound Direction = Out
	Forward  Direction = Through
)

// Directions are all of them.
var Directions = []Direction{Inbound, Outbound, Forward}

// The names of the directions: as a policy says them, and as a question or a finding does.
var (
	directionNames = []string{Inbound: "inbound", Outbound: "outbound", Forward: "forward"}
	directionWords = []string{Inbound: "in", Outbound: "out", Forward: "through"}
)

// DirectionNamed is the direction that a policy says by a name, "inbound", "outbound" or
// "forward"; ok is false where none is.
func DirectionNamed(name string) (d Direction, ok bool) {
	i := slices.Index(directionNames, name)
	return Direction(i), i >= 0
}

// DirectionOf is the direction that a question or a finding says by a word: "in".
func DirectionOf(word string) (d Direction, ok bool) {
	i := slices.Index(directionWords, word)
	return Direction(i), i >= 0
}

// String is the direction as policies say it: "inbound".
func (d Direction) String() string { return directionNames[d] }

// Word is the direction as questions and findings say it: "in".
func (d Direction) Word() string { return directionWords[d] }

// Local is the field that holds the host's own address; of what is forwarded, that of the
// receiver.
func (d Direction) Local() Field {
	if d == Outbound {
		return Src
	}
	return Dst
}

// Peer is the field that holds the other end's address: the source of what comes in, the
// destination of what goes out. Of what is forwarded the source counts as the peer.
func (d Direction) Peer() Field {
	if d == Outbound {
		return Dst
	}
	return Src
}

// Interface is the field that holds the interface on the way to the peer: by which it came in,
// or goes out.
func (d Direction) Interface() Field {
	if d == Outbound {
		return OutIface
	}
	return InIface
}

// Crossing is the packets that cross a host in one direction. Each packet crosses it in one.
func (sp *Space) Crossing(d Direction) Set { return sp.Value(Hook, int(d)) }
