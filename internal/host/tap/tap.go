package tap

import (
	"context"
	"net"
	"net/netip"
	"sync"
	"time"

	"yellowfence.example/yfence/core/traffic"
)

// How long what is known of the host's interfaces and addresses holds.
const lookAgain = 30 * time.Second

// mostNames is how many names of interfaces are remembered: interfaces come and go.
const mostNames = 1000

// A Tap is sums of what the kernel told since they were last drained.
type Tap struct {
	mu      sync.Mutex
	refused *traffic.Sums
	begun   *traffic.Sums // nil where connections are not listened to
	lost    int64

	names map[uint32]string // of interfaces, by number
	own   map[netip.Addr]bool
	known time.Time // since when both are known
}

// Open begins to listen, until ctx ends, in the network namespace of the calling thread: to what our
// rules refuse, and with connections to which ones begin. What cannot be listened to is an error; the
// other part goes on.
func Open(ctx context.Context, connections bool) (t *Tap, refused, begun error) {
	t = &Tap{refused: traffic.NewSums(traffic.BatchFlows)}
	refused = t.hearRefused(ctx)
	if connections {
		t.begun = traffic.NewSums(traffic.BatchFlows)
		begun = t.hearBegun(ctx)
	}
	return t, refused, begun
}

// Drain gives what was told since it was last asked.
func (t *Tap) Drain() traffic.Batch {
	t.mu.Lock()
	defer t.mu.Unlock()
	b := traffic.Batch{At: time.Now().Unix(), Refused: t.refused.Told(), Lost: t.lost, Watches: t.begun != nil}
	t.refused, t.lost = traffic.NewSums(traffic.BatchFlows), 0
	if t.begun != nil {
		b.Seen = t.begun.Told()
		t.begun = traffic.NewSums(traffic.BatchFlows)
	}
	return b
}

// missed notes that the kernel dropped messages.
func (t *Tap) missed() {
	t.mu.Lock()
	t.lost++
	t.mu.Unlock()
}

// look finds out anew what the interfaces are called and which addresses are the host's own. Whoever
// calls holds the lock.
func (t *Tap) look(now time.Time) {
	if t.names != nil && now.Sub(t.known) < lookAgain && len(t.names) < mostNames {
		return
	}
	t.names, t.own, t.known = map[uint32]string{}, map[netip.Addr]bool{}, now
	addrs, _ := net.InterfaceAddrs()
	for _, a := range addrs {
		if p, err := netip.ParsePrefix(a.String()); err == nil {
			t.own[p.Addr().Unmap()] = true
		}
	}
}

// name is what an interface is called; "" where there is none, or it is gone.
func (t *Tap) name(number *uint32) string {
	if number == nil || *number == 0 {
		return ""
	}
	name, known := t.names[*number]
	if !known {
		if i, err := net.InterfaceByIndex(int(*number)); err == nil {
			name = i.Name
		}
		t.names[*number] = name
	}
	return name
}
