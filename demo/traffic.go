package main

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/internal/testbed"
)

// What the harbour's machines say to one another, again and again.
var said = []struct {
	from, to, iface, network string // hosts; a stranger is "" or, beyond, an address
	port                     int
}{
	{"beacon-01", "broker-01", "eth1", "tcp", 8883},
	{"beacon-02", "broker-02", "eth1", "udp", 10110},
	{"broker-01", "charts-01", "eth1", "tcp", 8883},
	{"pilotage-01", "logbook-01", "eth2", "tcp", 5432},
	{"watch-01", "charts-01", "eth1", "tcp", 49417},
	{"watch-01", "logbook-01", "eth2", "tcp", 49417},
	{"", "charts-01", "eth0", "tcp", 443},
	{"watch-01", "depot-01", "eth2", "tcp", 9443}, // which nobody wrote down
	{"charts-01", "192.0.2.11", "", "udp", 53},
	{"charts-01", "192.0.2.130", "", "udp", 443}, // which nothing but an open stance admits
}

// Two strangers: one looks at the charts, the other looks for open ports on a pier.
var (
	visitor  = netip.MustParseAddr("198.51.100.200")
	searcher = netip.MustParseAddr("198.51.100.222")
)

const (
	pier      = "beacon-01"
	searchFor = 60 // ports
	pause     = 2 * time.Second
	patience  = 150 * time.Millisecond // with whoever does not answer
)

// talk has the harbour's machines listen for what they serve, and speak to one another until the
// demo ends.
func (d *demo) talk(ctx context.Context) error {
	for _, who := range []netip.Addr{visitor, searcher} {
		if err := d.wire.IP(fmt.Sprintf("addr add %s/32 dev lo", who)); err != nil {
			return err
		}
	}
	for _, s := range said {
		if s.iface == "" {
			continue
		}
		if err := d.serves(s.to, s.iface, s.network, s.port); err != nil {
			return err
		}
	}
	talking, stop := context.WithCancel(ctx)
	var all sync.WaitGroup
	d.quiet = func() {
		stop()
		all.Wait()
		for _, l := range d.listening {
			_ = l()
		}
	}
	all.Go(func() {
		for talking.Err() == nil {
			for _, s := range said {
				to, from, ns := s.to, netip.Addr{}, d.wire
				if s.iface != "" {
					to = d.addressOf(s.to, s.iface).String()
				}
				if s.from != "" {
					ns = d.hosts[s.from]
				} else {
					from = visitor
				}
				says(ns, s.network, from, fmt.Sprintf("%s:%d", to, s.port))
			}
			d.search()
			select {
			case <-talking.Done():
			case <-time.After(pause):
			}
		}
	})
	return nil
}

// search tries port after port on a pier.
func (d *demo) search() {
	var all sync.WaitGroup
	for port := 1; port <= searchFor; port++ {
		if all.Go(func() { says(d.wire, "tcp", searcher, fmt.Sprintf("%s:%d", d.addressOf(pier, "eth1"), port)) }); port%20 == 0 {
			all.Wait()
		}
	}
}

// serves has a host listen for something.
func (d *demo) serves(host, iface, network string, port int) error {
	at := fmt.Sprintf("%s:%d", d.addressOf(host, iface), port)
	return d.hosts[host].Do(func() error {
		if network == "udp" {
			c, err := net.ListenPacket(network, at)
			if err == nil {
				d.listening = append(d.listening, c.Close)
			}
			return err
		}
		l, err := net.Listen(network, at)
		if errors.Is(err, syscall.EADDRINUSE) { // a probe listens there for a moment
			time.Sleep(time.Second)
			l, err = net.Listen(network, at)
		}
		if err != nil {
			return err
		}
		d.listening = append(d.listening, l.Close)
		go func() {
			for {
				c, err := l.Accept()
				if err != nil {
					return
				}
				_ = c.Close()
			}
		}()
		return nil
	})
}

// says opens a connection and ends it; whether anybody answers is all the same.
func says(ns *testbed.Namespace, network string, from netip.Addr, to string) {
	_ = ns.Do(func() error {
		dialer := net.Dialer{Timeout: patience}
		if from.IsValid() {
			dialer.LocalAddr = net.TCPAddrFromAddrPort(netip.AddrPortFrom(from, 0))
		}
		c, err := dialer.Dial(network, to)
		if err != nil {
			return err
		}
		_, err = c.Write([]byte("harbour\n"))
		return errors.Join(err, c.Close())
	})
}

// addressOf is a host's address at an interface.
func (d *demo) addressOf(host, iface string) netip.Addr {
	for _, i := range d.fleet.Host(host).Interfaces {
		if i.Name == iface {
			return i.Addresses[0].Addr()
		}
	}
	return netip.Addr{}
}

// heard has the hosts tell what they saw, and waits until the service knows of the visitor and of
// the search.
func (d *demo) heard(ctx context.Context) error {
	for deadline := time.Now().Add(3 * time.Minute); ; {
		for _, host := range []string{"charts-01", "depot-01", "logbook-01", "broker-01", "broker-02", pier} {
			if _, err := d.svc.AskHost(ctx, host, api.Task{Do: "report"}); err != nil && time.Now().After(deadline) {
				return err
			}
		}
		time.Sleep(pause)
		refused, err := d.svc.Refused(ctx, time.Hour, 100)
		if err != nil {
			return err
		}
		seen, err := d.svc.Seen(ctx, time.Hour, 100)
		if err != nil {
			return err
		}
		visited, searched := false, false
		for _, s := range seen.Seen {
			visited = visited || s.From.Name == "strangers" && s.To.Name == "charts"
		}
		for _, r := range refused.Refused {
			searched = searched || r.Search
		}
		if visited && searched {
			return nil
		}
		if time.Now().After(deadline) {
			return fmt.Errorf("the service heard nothing of the visitor (%t) or of the search (%t)", visited, searched)
		}
	}
}

// showTraffic shows what hosts counted and saw.
func (d *demo) showTraffic(ctx context.Context) error {
	if err := d.heard(ctx); err != nil {
		return err
	}
	const neighbour = "10.60.0.7 -> logbook-01 : postgresql"
	for _, step := range []struct {
		code int
		args []string
	}{
		{1, []string{"ask", neighbour, "--at", d.sound.Format(time.RFC3339)}}, // before the mishaps, and after them
		{0, []string{"ask", neighbour, "--at", "1s"}},
		{0, []string{"traffic", "refused", "--since", "1h", "--most", "8"}},
		{0, []string{"traffic", "seen", "--since", "1h", "--most", "6"}},
		{1, []string{"traffic", "unused", "--since", "1h"}},
	} {
		shown := slices.Clone(step.args)
		if strings.Contains(shown[1], " ") {
			shown[1] = "'" + shown[1] + "'"
		}
		fmt.Printf("\n$ yfence %s\n", strings.Join(shown, " "))
		if err := d.operate(ctx, step.code, step.args...); err != nil {
			return err
		}
	}
	return nil
}
