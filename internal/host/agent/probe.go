package agent

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"os"
	"strconv"
	"syscall"
	"time"

	"golang.org/x/net/icmp"
	"golang.org/x/net/ipv4"
	"golang.org/x/net/ipv6"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/internal/host/inventory"
)

// probeTime is how long a probe waits for an answer.
const probeTime = 3 * time.Second

// greeting is what a listener of ours says first, so that it is told from others.
const greeting = "yfence probe listener\n"

// Open opens a new connection, and tells what came of it.
func Open(ctx context.Context, p api.Probe) api.TaskResult {
	begin := time.Now()
	if to, err := netip.ParseAddr(p.To); err == nil && p.From == "" && to.Zone() == "" && !to.IsLinkLocalUnicast() {
		if from, ok := inventory.SourceFor(netip.AddrPortFrom(to, 9)); ok { // so that it is known which it was, whatever comes of it
			p.From = from.String()
		}
	}
	came, reached, err := open(ctx, p)
	r := api.TaskResult{Came: came, Reached: reached, From: p.From, Took: float64(time.Since(begin).Microseconds()) / 1000}
	if err != nil {
		r.Said = []string{err.Error()}
	}
	return r
}

// open opens one connection and says what came of it, and which listener was reached.
func open(ctx context.Context, p api.Probe) (came, reached string, err error) {
	ctx, cancel := context.WithTimeout(ctx, probeTime)
	defer cancel()
	if p.Protocol == "icmp" {
		return echo(ctx, p)
	}
	d := net.Dialer{}
	if from, err := netip.ParseAddr(p.From); err == nil {
		d.LocalAddr = net.TCPAddrFromAddrPort(netip.AddrPortFrom(from, 0))
		if p.Protocol == "udp" {
			d.LocalAddr = net.UDPAddrFromAddrPort(netip.AddrPortFrom(from, 0))
		}
	}
	c, err := d.DialContext(ctx, p.Protocol, net.JoinHostPort(p.To, strconv.Itoa(p.Port)))
	if err != nil {
		return failed(err), "", err
	}
	defer func() { _ = c.Close() }()
	b := make([]byte, len(greeting))
	if p.Protocol == "udp" {
		deadline, _ := ctx.Deadline()
		_ = c.SetDeadline(deadline)
		for try := 0; ; try++ { // a datagram may be lost
			if _, err = c.Write([]byte("yfence probe\n")); err == nil {
				_ = c.SetReadDeadline(time.Now().Add(probeTime / 4))
				_, err = c.Read(b)
			}
			if err == nil {
				return api.Answered, who(b), nil
			}
			if !errors.Is(err, os.ErrDeadlineExceeded) || ctx.Err() != nil || try == 3 {
				return failed(err), "", err
			}
		}
	}
	_ = c.SetReadDeadline(time.Now().Add(200 * time.Millisecond))
	_, _ = io.ReadFull(c, b)
	return api.Answered, who(b), nil
}

// who is who answered: our own listener, by its greeting, or what is there anyway.
func who(said []byte) string {
	if string(said) == greeting {
		return api.OwnListener
	}
	return "what listens there"
}

// failed says what an error of a new connection shows.
func failed(err error) string {
	switch {
	case errors.Is(err, syscall.ECONNREFUSED):
		return "refused"
	case errors.Is(err, syscall.EHOSTUNREACH), errors.Is(err, syscall.ENETUNREACH), errors.Is(err, syscall.EACCES),
		errors.Is(err, syscall.EPERM):
		return "unreachable"
	}
	return "silent"
}

// echo sends an echo request (RFC 792, RFC 4443).
func echo(ctx context.Context, p api.Probe) (came, reached string, err error) {
	to, err := netip.ParseAddr(p.To)
	if err != nil {
		return "unreachable", "", err
	}
	// What an echo is in either family; the address to send from is the policy's, where it says one.
	network, from, protocol := "ip4:icmp", "0.0.0.0", 1
	var kind icmp.Type = ipv4.ICMPTypeEcho
	var answer icmp.Type = ipv4.ICMPTypeEchoReply
	if to.Is6() {
		network, from, protocol, kind, answer = "ip6:ipv6-icmp", "::", 58, ipv6.ICMPTypeEchoRequest, ipv6.ICMPTypeEchoReply
	}
	if p.From != "" {
		from = p.From
	}
	c, err := icmp.ListenPacket(network, from)
	if err != nil {
		return "unreachable", "", err
	}
	defer func() { _ = c.Close() }()
	// A word of its own tells our answer from those that other programs wait for.
	mark := []byte(rand.Text())
	id := os.Getpid() & 0xffff
	message, err := (&icmp.Message{Type: kind, Body: &icmp.Echo{ID: id, Seq: 1, Data: mark}}).Marshal(nil)
	if err != nil {
		return "unreachable", "", err
	}
	if _, err := c.WriteTo(message, &net.IPAddr{IP: to.AsSlice(), Zone: to.Zone()}); err != nil {
		return failed(err), "", err
	}
	// Whatever else comes in meanwhile is passed over, until the time is up.
	deadline, _ := ctx.Deadline()
	_ = c.SetReadDeadline(deadline)
	b := make([]byte, 1500)
	for {
		n, _, err := c.ReadFrom(b)
		if err != nil {
			return "silent", "", err
		}
		m, err := icmp.ParseMessage(protocol, b[:n])
		if err != nil {
			continue
		}
		if e, ok := m.Body.(*icmp.Echo); ok && m.Type == answer && string(e.Data) == string(mark) {
			return api.Answered, "the host", nil
		}
	}
}

// Listen opens a listener for a probe where nothing listens, until ctx ends, and tells
// who will answer: it, or what listens there already.
func Listen(ctx context.Context, p api.Probe) (reached string, err error) {
	at := net.JoinHostPort(p.To, strconv.Itoa(p.Port))
	// Where something listens already, that is what a probe is to reach.
	switch p.Protocol {
	case "tcp":
		l, err := net.Listen("tcp", at)
		if errors.Is(err, syscall.EADDRINUSE) {
			return "what listens there", nil
		} else if err != nil {
			return "", err
		}
		context.AfterFunc(ctx, func() { _ = l.Close() })
		go func() {
			for {
				c, err := l.Accept()
				if err != nil {
					return
				}
				_, _ = io.WriteString(c, greeting)
				_ = c.Close()
			}
		}()
	case "udp":
		c, err := net.ListenPacket("udp", at)
		if errors.Is(err, syscall.EADDRINUSE) {
			return "what listens there", nil
		} else if err != nil {
			return "", err
		}
		context.AfterFunc(ctx, func() { _ = c.Close() })
		go func() {
			b := make([]byte, 100)
			for {
				_, from, err := c.ReadFrom(b)
				if err != nil {
					return
				}
				_, _ = c.WriteTo([]byte(greeting), from)
			}
		}()
	case "icmp":
		return "the host", nil
	default:
		return "", fmt.Errorf("nothing can listen for %s", p.Protocol)
	}
	return api.OwnListener, nil
}
