package say

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy/policytest"
)

// TestBesides shows what is said of packets besides their services and peers, where it is not the usual.
func TestBesides(t *testing.T) {
	n := NamesOf(policytest.Saltmarsh(t, "../.."))
	sp := packet.NewSpace()
	ssh := sp.And(sp.Value(packet.Protocol, packet.TCP), sp.Value(packet.DstPort, 22))
	at := func(day int) packet.Set { return sp.Before(time.Date(2027, 3, day, 12, 0, 0, 0, time.UTC).Unix()) }
	flags := func(mask, is int) packet.Set {
		s := packet.Empty
		for f := range 256 {
			if f&mask == is {
				s = sp.Or(s, sp.Value(packet.TCPFlags, f))
			}
		}
		return s
	}
	fragments := func(kinds ...int) packet.Set { return sp.Values(packet.Fragment, kinds...) }
	for _, c := range []struct {
		besides packet.Set
		want    string
	}{
		{sp.Interfaces(packet.InIface, "eth0", "eth1"), " in by eth0, eth1"},
		{sp.Not(sp.Interfaces(packet.InIface, "eth0")), " not in by eth0"},
		{sp.Value(packet.State, packet.Untracked), " (untracked)"},
		{sp.Values(packet.State, packet.New, packet.Untracked), ""}, // new is among them
		{fragments(packet.Whole), " (no fragments)"},
		{fragments(packet.Whole, packet.First), " (no later fragments)"},
		{fragments(packet.First, packet.Later), " (fragments)"},
		{fragments(packet.First), " (first fragments)"},
		{flags(255, packet.SYN), " with tcp flags syn"},
		{flags(packet.SYN|packet.ACK, packet.SYN), " with tcp flags syn of syn,ack"},
		{sp.Not(flags(packet.SYN|packet.ACK, packet.SYN)), " with tcp flags other than syn of syn,ack"},
		{sp.Or(flags(255, packet.SYN), flags(255, packet.ACK)), " with tcp flags syn or ack"},
		{sp.Range(packet.SrcPort, 1024, 65535), " from port 1024-65535"},
		{sp.Value(packet.IPsec, 1), " encrypted"},
		{sp.Value(packet.IPsec, 0), " not encrypted"},
		{at(7), " (until 2027-03-07T12:00Z)"},
		{sp.Not(at(7)), " (from 2027-03-07T12:00Z on)"},
		{sp.Minus(at(9), at(7)), " (from 2027-03-07T12:00Z until 2027-03-09T12:00Z)"},
		{sp.Not(sp.Minus(at(9), at(7))), " (until 2027-03-07T12:00Z and from 2027-03-09T12:00Z on)"},
		{sp.Marked(packet.OfPacket, 7, 1<<32-1), " marked 0x7"},
		{sp.Marked(packet.OfPacket, 4, 6), " marked 0x4 in 0x6"},
		{sp.Not(sp.Marked(packet.OfPacket, 7, 1<<32-1)), " marked otherwise than 0x7"},
		{sp.Marked(packet.OfConnection, 7, 1<<32-1), " on connections marked 0x7"},
	} {
		require.Equal(t, "tcp 22 from everywhere"+c.want, n.Traffic(sp, sp.And(ssh, c.besides), packet.In).String())
	}
}

// TestManner shows how a manner is said beside another: what is the same for both is not.
func TestManner(t *testing.T) {
	admit, drop := Manner{Outcome: packet.Outcome{Verdict: packet.Admit}}, Manner{Outcome: packet.Outcome{Verdict: packet.Drop}}
	with := func(m Manner, change func(*Manner)) Manner {
		change(&m)
		return m
	}
	logged := with(admit, func(m *Manner) { m.Logged = true })
	seldom := with(logged, func(m *Manner) { m.LogUpTo = "2 per 1h" })
	limited := with(admit, func(m *Manner) { m.AtMost = "4 per 1m" })
	reset := with(drop, func(m *Manner) { m.Verdict, m.Reply = packet.Reject, packet.TCPReset })
	for _, c := range []struct {
		is, beside Manner
		want       string
	}{
		{admit, drop, "admitted"},
		{drop, admit, "dropped"},
		{reset, drop, "rejected with tcp-reset"},
		{drop, reset, "dropped"},
		{logged, admit, "admitted and logged"},
		{admit, logged, "admitted without a log"},
		{seldom, logged, "admitted and logged up to 2 per 1h"},
		{logged, seldom, "admitted and logged without a limit"},
		{limited, admit, "admitted at most 4 per 1m"},
		{admit, limited, "admitted without a limit"},
		{limited, logged, "admitted at most 4 per 1m and without a log"},
	} {
		require.Equal(t, c.want, c.is.Beside(c.beside))
	}
	for _, c := range []struct {
		direction    packet.Direction
		passes, does string
	}{{packet.Inbound, "gets in", "does not get in"}, {packet.Outbound, "gets out", "does not get out"},
		{packet.Forward, "is forwarded", "is not forwarded"}} {
		require.Equal(t, c.passes, Passes(c.direction))
		require.Equal(t, c.does, DoesNotPass(c.direction))
	}
}
