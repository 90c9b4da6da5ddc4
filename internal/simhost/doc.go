// Package simhost is a stand-in for a host whose filter is another system's: it takes lists of
// portable rules, finds out which networks its interfaces are attached to, enforces the list on
// real packets, knows which program sends them, and dumps what it has in force.
//
// It lives in a network namespace. Its own system is played by the kernel's filter, whose rules
// it makes of the list in its own way; a program is told by a group of users that it runs in.
//
// # What it may do otherwise than a real one
//
// It looks at its interfaces when it is asked to (Attach) and not by itself, and knows programs by a
// group of users instead of their path, since the kernel's filter cannot ask for a path. In all that a
// list decides it is held to the same answers as core/dialect/portable, by real packets.
package simhost
