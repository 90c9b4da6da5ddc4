package service

import (
	"net"
	"sync"
	"time"

	"yellowfence.example/yfence/internal/limits"
)

// signIns counts failed sign-ins by the address they came from, so that nobody guesses tokens.
type signIns struct {
	mu     sync.Mutex
	failed map[string][]time.Time
}

// maxSources is how many addresses are counted at once; of more the count begins again.
const maxSources = 10_000

// sourceOf is the address that a request came from, without its port; of IPv6 the /64.
func sourceOf(remote string) string {
	host, _, err := net.SplitHostPort(remote)
	if err != nil {
		return remote
	}
	if ip := net.ParseIP(host); ip != nil && ip.To4() == nil {
		return ip.Mask(net.CIDRMask(64, 128)).String()
	}
	return host
}

// wait is how long whoever comes from there must wait before he may try again.
func (s *signIns) wait(from string, now time.Time) time.Duration {
	s.mu.Lock()
	defer s.mu.Unlock()
	recent := s.recent(from, now)
	if len(recent) < limits.SignIns {
		return 0
	}
	return recent[len(recent)-limits.SignIns].Add(time.Minute).Sub(now)
}

// fail counts a failed sign-in.
func (s *signIns) fail(from string, now time.Time) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.failed) >= maxSources {
		clear(s.failed)
	}
	if s.failed == nil {
		s.failed = map[string][]time.Time{}
	}
	s.failed[from] = append(s.recent(from, now), now)
}

// recent are the failures of the last minute; the caller holds mu.
func (s *signIns) recent(from string, now time.Time) []time.Time {
	all := s.failed[from]
	for len(all) > 0 && now.Sub(all[0]) > time.Minute {
		all = all[1:]
	}
	return all
}

// polls counts the questions for tasks that hosts have open.
type polls struct {
	mu   sync.Mutex
	open map[string]int
}

// enter says whether a host may have another open, and what to call when it is answered.
func (p *polls) enter(host string) (leave func(), ok bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.open[host] >= limits.Polls {
		return nil, false
	}
	if p.open == nil {
		p.open = map[string]int{}
	}
	p.open[host]++
	return func() {
		p.mu.Lock()
		defer p.mu.Unlock()
		if p.open[host]--; p.open[host] == 0 {
			delete(p.open, host)
		}
	}, true
}
