package main

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"time"
)

// live settles all hosts in waves, has a policy go back that locks everybody out, lets
// the mishaps happen, and has the hosts report.
func (d *demo) live(ctx context.Context) error {
	if err := d.enrol(ctx); err != nil {
		return err
	}
	fmt.Println("\n$ yfence waves start          # real rules in real kernels, a few hosts at first")
	if err := d.wave(ctx); err != nil {
		return err
	}
	if err := d.probe(); err != nil {
		return err
	}
	fmt.Println("From here on the harbour's machines speak to one another; a visitor looks at the charts, and somebody looks for open")
	fmt.Println("ports on a pier.")
	if err := errors.Join(d.talk(ctx), d.heard(ctx)); err != nil {
		return err
	}
	if err := d.lockOut(ctx); err != nil {
		return err
	}
	d.sound = time.Now()
	fmt.Println("Mishaps happen:")
	for _, m := range mishaps {
		fmt.Printf("  %-15s %s\n", m.host, m.what)
		if err := m.happen(d.hosts[m.host]); err != nil {
			return fmt.Errorf("%s: %w", m.host, err)
		}
	}
	if err := d.cloudMishapsHappen(ctx); err != nil {
		return err
	}
	if d.record != "" {
		if err := os.MkdirAll(d.record, 0o755); err != nil {
			return err
		}
	}
	return d.each(func(name string) error {
		report, err := d.yfence(name, "report", "--print")
		if err != nil {
			return err
		}
		if d.record != "" {
			if err := os.WriteFile(filepath.Join(d.record, name+".json"), report, 0o644); err != nil {
				return err
			}
		}
		if name != cutOff {
			_, err := d.yfence(name, "report")
			return err
		}
		// No answer of the service's gets in there any more: the report is
		// printed at the host's console and sent from elsewhere.
		send := exec.CommandContext(ctx, d.program, "report", "--from", "-", "--server", d.url, "--token-file",
			filepath.Join(d.dir, "token"))
		send.Stdin = bytes.NewReader(report)
		return send.Run()
	})
}

// probes are connections tried between hosts, one of each kind of filter.
var probes = []struct {
	from, to string // a host, and the interface of the other
	port     int
}{
	{"jump-01", "eth1", 22}, {"watch-01", "eth1", 49417}, {"broker-01", "eth1", 8883}, {"pilotage-01", "eth0", 443},
	{"pilotage-01", "eth1", 22}, {"beacon-01", "eth1", 49417}, {"beacon-01", "eth1", 8883}, {"lockgate-01", "eth1", 5432},
}

// kinds are the hosts of one role that have each another filter,
// and what the tools of iptables make its rules of.
var kinds = []struct{ host, filter string }{{"charts-01", "nft"}, {legacy, "legacy"}, {"charts-03", "nft-backed"},
	{"charts-cloud-01", "cloud groups"}}

// probe opens real connections to a host of each kind: the same pass, whatever
// form the policy took there.
func (d *demo) probe() error {
	fmt.Printf("\nThe same connections, tried on hosts of one role and each another filter:\n  %-24s", "")
	width := func(i int) int { return max(len(kinds[i].host), len(kinds[i].filter)) }
	for i, k := range kinds {
		fmt.Printf("  %-*s", width(i), k.host)
	}
	fmt.Printf("\n  %-24s", "")
	for i, k := range kinds {
		fmt.Printf("  %-*s", width(i), k.filter)
	}
	fmt.Println()
	for _, p := range probes {
		fmt.Printf("  %-24s", fmt.Sprintf("%s -> tcp %d", p.from, p.port))
		said, alike, err := d.tried(p.from, p.to, p.port, patience)
		if err == nil && !alike { // a busy machine may have answered late
			said, alike, err = d.tried(p.from, p.to, p.port, 10*patience)
		}
		if err != nil {
			return err
		}
		for i, s := range said {
			fmt.Printf("  %-*s", width(i), s)
		}
		fmt.Println()
		if !alike {
			return fmt.Errorf("%s -> tcp %d is not the same on all of them", p.from, p.port)
		}
	}
	fmt.Println()
	return nil
}

// tried is what becomes of a connection to a host of each kind, and whether that is the same.
func (d *demo) tried(from, iface string, port int, patience time.Duration) (said []string, alike bool, err error) {
	alike = true
	for _, k := range kinds {
		passes, err := d.connects(from, k.host, iface, port, patience)
		if err != nil {
			return nil, false, err
		}
		said = append(said, map[bool]string{true: "passes", false: "refused"}[passes])
		alike = alike && said[0] == said[len(said)-1]
	}
	return said, alike, nil
}

// connects opens a port on one host and tries it from another.
func (d *demo) connects(from, to, iface string, port int, patience time.Duration) (passes bool, err error) {
	var address string
	for _, i := range d.fleet.Host(to).Interfaces {
		if i.Name == iface || inCloud(d.fleet.Host(to)) {
			address = fmt.Sprintf("%s:%d", i.Addresses[0].Addr(), port)
		}
	}
	var listener net.Listener
	listen := func() (err error) {
		listener, err = net.Listen("tcp", address)
		return err
	}
	// What a wave tries it listens for as well, for as long as somebody may come: the port is free soon.
	for deadline := time.Now().Add(20 * time.Second); ; time.Sleep(100 * time.Millisecond) {
		if err := d.hosts[to].Do(listen); err == nil {
			break
		} else if !errors.Is(err, syscall.EADDRINUSE) || time.Now().After(deadline) {
			return false, err
		}
	}
	defer func() { _ = listener.Close() }()
	err = d.hosts[from].Do(func() error {
		c, err := net.DialTimeout("tcp", address, patience)
		if passes = err == nil; passes {
			_ = c.Close()
		}
		return nil
	})
	return passes, err
}
