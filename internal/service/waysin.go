package service

import (
	"context"
	"fmt"
	"net/netip"
	"slices"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/internal/store"
	"yellowfence.example/yfence/internal/wave"
)

// waysIn are the ways in to a host of a wave: connections by rules that keep a way in, from
// hosts whose agents ask for tasks; one more of them than have failed.
func (s *Service) waysIn(ctx context.Context, w api.WaveHost, statuses map[string]store.AgentStatus) (ways wave.Ways, err error) {
	m, err := s.modelOf(ctx, w.Pair)
	if err != nil {
		return ways, err
	}
	h := m.host(w.Name)
	if h == nil {
		return ways, fmt.Errorf("%s is not in the fleet of pair %d", w.Name, w.Pair)
	}
	now := s.Clock().Unix()
	eachWayIn(m, h, now, func(from *fleet.Host, port int) (more bool) {
		if !s.attends(statuses[from.Name]) {
			if len(ways.Away) < 3 && !slices.Contains(ways.Away, from.Name) {
				ways.Away = append(ways.Away, from.Name)
			}
			return true
		}
		for _, at := range reached(from, h) {
			answer := m.answer(connection(from.Name, at.String(), api.Probe{Protocol: "tcp", Port: port}), now)
			if answer == nil || answer.Verdict != packet.Admit.String() {
				continue
			}
			ways.In = append(ways.In, wave.Way{From: from.Name, To: netip.AddrPortFrom(at, uint16(port))})
			if len(ways.In) > w.Tried {
				return false
			}
		}
		return true
	})
	if len(ways.In) == 0 {
		ways.In = s.ownWays(m, h, now)
	}
	return ways, nil
}

// eachWayIn calls f for each host that may log in to another by a rule that keeps a way in,
// and with the port, until f says that it is enough.
func eachWayIn(m *model, h *fleet.Host, now int64, f func(from *fleet.Host, port int) (more bool)) {
	for _, r := range m.policy.Rules {
		port, ok := loginPort(r, h, now)
		if !ok {
			continue
		}
		for _, from := range r.From.Hosts {
			if from != h && !f(from, port) {
				return
			}
		}
	}
}

// reached are the addresses of a host, those on a network that another is on too first.
func reached(from, h *fleet.Host) []netip.Addr {
	near, far := addressesFor(from, h)
	return append(near, far...)
}

// addressesFor are the addresses of a host: those on a network that another is on too,
// and the others.
func addressesFor(from, h *fleet.Host) (near, far []netip.Addr) {
	for _, i := range h.Interfaces {
		for _, p := range i.Addresses {
			shared := slices.ContainsFunc(from.Interfaces, func(o fleet.Interface) bool {
				return slices.ContainsFunc(o.Addresses, func(q netip.Prefix) bool { return p.Masked().Contains(q.Addr()) })
			})
			if shared {
				near = append(near, p.Addr())
			} else {
				far = append(far, p.Addr())
			}
		}
	}
	return near, far
}
