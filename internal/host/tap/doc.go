// Package tap hears from this host's kernel what happens to packets: what our rules refuse, by the
// group of the netlink log that they hand it to, and which connections begin, by the events of the
// connection tracker.
//
// # How it works
//
// Both are added up at once into sums of a bounded size (core/traffic); nothing is kept of a single
// packet. Drain hands the sums on and begins anew. The kernel drops messages where we are too slow:
// that this happened is counted, what was in them is not known.
//
// # What may be relied on
//
//   - Memory is bounded, whatever is sent: the sums by their number of flows, the socket by its buffer.
//   - Nothing here changes what becomes of a packet.
//   - Connections within the host itself are not told.
//
// # Files
//
//   - tap.go: the sums, and how they are drained
//   - refused.go: what our rules refuse
//   - begun.go: connections that begin
package tap
