package service

import (
	"context"
	"errors"
	"net"
	"net/netip"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/internal/host/agent"
	"yellowfence.example/yfence/internal/store"
	"yellowfence.example/yfence/internal/wave"
)

// Where no other host may log in to a host of a wave, the service itself may be the one who shows
// that the way in is open, if a rule that keeps a way in admits its own address: it opens the
// connection as a host would, from the address that the fleet file says is its.

// A Prober opens connections from where the service is.
type Prober struct {
	At   func(netip.Addr) bool                                 // an address is of this process' own machine
	Open func(ctx context.Context, p api.Probe) api.TaskResult // opens one
}

// ownProber is the service's own machine.
var ownProber = Prober{At: isOwn, Open: agent.Open}

// isOwn says that an address is this machine's: sockets can be bound to it.
func isOwn(at netip.Addr) bool {
	c, err := net.ListenPacket("udp", net.JoinHostPort(at.String(), "0"))
	if err != nil {
		return false
	}
	_ = c.Close()
	return true
}

// ownWays are the service's own ways in to a host, by rules that keep one.
func (s *Service) ownWays(m *model, h *fleet.Host, now int64) (ways []wave.Way) {
	for _, r := range m.policy.Rules {
		port, ok := loginPort(r, h, now)
		if !ok {
			continue
		}
		for _, from := range m.fleet.Service.Addresses {
			if !r.From.Addrs.Contains(from) || !s.Prober.At(from) {
				continue
			}
			for _, at := range h.Own() {
				if at.Is4() != from.Is4() {
					continue
				}
				answer := m.answer(connection(from.String(), at.String(), api.Probe{Protocol: "tcp", Port: port}), now)
				if answer != nil && answer.Verdict == packet.Admit.String() {
					ways = append(ways, wave.Way{From: wave.TheService, Source: from, To: netip.AddrPortFrom(at, uint16(port))})
				}
			}
		}
	}
	return ways
}

// loginPort is the port by which a rule keeps a way in to a host; ok is false where it keeps none.
func loginPort(r *policy.Rule, h *fleet.Host, now int64) (port int, ok bool) {
	if !r.Sure() || r.Block || !r.InForce(now) || !r.To.Names(h) {
		return 0, false
	}
	for _, t := range r.Terms {
		if t.Protocol == packet.TCP {
			return t.Ports.Lo, true
		}
	}
	return 0, false
}

// openOwn opens the connections that waves wait for from the service itself. Of several services the
// one on whose machine the address is does it; what two do is told once.
func (s *Service) openOwn(ctx context.Context) error {
	tasks, err := s.Store.OpenTasks(ctx, wave.TheService)
	if err != nil {
		return err
	}
	// Nobody polls for these as a host does: whoever steps the wave looks, and the others look too.
	for _, t := range tasks {
		if t.Probe == nil {
			continue
		}
		if from, err := netip.ParseAddr(t.Probe.From); err != nil || !s.Prober.At(from) {
			continue
		}
		if err := s.Store.FinishTask(ctx, wave.TheService, t.ID, s.Prober.Open(ctx, *t.Probe)); err != nil &&
			!errors.Is(err, store.ErrNotFound) && !errors.Is(err, store.ErrConflict) {
			return err
		}
	}
	return nil
}
