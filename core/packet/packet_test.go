package packet

import (
	"math/rand/v2"
	"net/netip"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"go4.org/netipx"
)

// expression is a set of packets as a tree, to be computed in two ways.
type expression struct {
	op   string // "and", "or", "minus" or "field"
	a, b *expression
	f    Field
	lo   int
	hi   int
}

var fieldsUsed = []Field{Hook, Family, Protocol, SrcPort, DstPort, Src, State}

func randomExpression(rng *rand.Rand, depth int) *expression {
	if depth == 0 || rng.IntN(5) == 0 {
		f := fieldsUsed[rng.IntN(len(fieldsUsed))]
		limit := min(f.Limit().Int(), 20)
		if f == Src {
			limit = 20
		}
		lo := rng.IntN(limit + 1)
		return &expression{op: "field", f: f, lo: lo, hi: lo + rng.IntN(limit+1-lo)}
	}
	op := []string{"and", "or", "minus"}[rng.IntN(3)]
	return &expression{op: op, a: randomExpression(rng, depth-1), b: randomExpression(rng, depth-1)}
}

func (e *expression) set(sp *Space) Set {
	switch e.op {
	case "and":
		return sp.And(e.a.set(sp), e.b.set(sp))
	case "or":
		return sp.Or(e.a.set(sp), e.b.set(sp))
	case "minus":
		return sp.Minus(e.a.set(sp), e.b.set(sp))
	}
	return sp.Range(e.f, e.lo, e.hi)
}

// anySpace gives packets their values, which are the same in every Space.
var anySpace = NewSpace()

func (e *expression) has(p Packet) bool {
	switch e.op {
	case "and":
		return e.a.has(p) && e.b.has(p)
	case "or":
		return e.a.has(p) || e.b.has(p)
	case "minus":
		return e.a.has(p) && !e.b.has(p)
	}
	v := anySpace.values(p)[e.f].Int()
	return e.lo <= v && v <= e.hi
}

func somePacket(rng *rand.Rand) Packet {
	n := func() *int { v := rng.IntN(22); return &v }
	p := Packet{Hook: rng.IntN(3), Protocol: ProtocolName(rng.IntN(22)), SrcPort: n(), DstPort: n(), State: StateNames[rng.IntN(5)],
		Src: netip.AddrFrom4([4]byte{0, 0, 0, byte(rng.IntN(22))}), Dst: netip.MustParseAddr("192.0.2.1")}
	if rng.IntN(3) == 0 {
		p.Src, p.Dst = netip.AddrFrom16([16]byte{15: byte(rng.IntN(22))}), netip.MustParseAddr("2001:db8::1")
	}
	return p
}

func TestSetsHoldThePacketsTheyShould(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 2))
	for range 300 {
		sp := NewSpace()
		e := randomExpression(rng, 5)
		s := e.set(sp)
		for range 200 {
			p := somePacket(rng)
			require.Equal(t, e.has(p), sp.Has(s, p), "%+v", p)
		}
	}
}

func TestEqualSetsAreTheSameHandle(t *testing.T) {
	rng := rand.New(rand.NewPCG(3, 4))
	for range 300 {
		sp := NewSpace()
		a, b, c := randomExpression(rng, 4).set(sp), randomExpression(rng, 4).set(sp), randomExpression(rng, 4).set(sp)
		require.Equal(t, sp.And(a, sp.Or(b, c)), sp.Or(sp.And(a, b), sp.And(a, c)), "distribution")
		require.Equal(t, sp.Not(sp.Or(a, b)), sp.And(sp.Not(a), sp.Not(b)), "De Morgan")
		require.Equal(t, a, sp.Not(sp.Not(a)))
		require.Equal(t, sp.Minus(a, b), sp.And(a, sp.Not(b)))
		require.Equal(t, sp.OrAll(a, b, c), sp.OrAll(c, b, a))
	}
}

func TestBoxesMakeUpTheirSet(t *testing.T) {
	rng := rand.New(rand.NewPCG(5, 6))
	for range 200 {
		sp := NewSpace()
		s := randomExpression(rng, 5).set(sp)
		boxes, whole := sp.Boxes(s, 1<<20)
		require.True(t, whole)
		again := Empty
		for _, b := range boxes {
			part := All
			for f, ranges := range b {
				part = sp.And(part, sp.Ranges(f, ranges))
			}
			require.Equal(t, Empty, sp.And(again, part), "boxes overlap")
			again = sp.Or(again, part)
		}
		require.Equal(t, s, again)
	}
}

func TestForgetIsAUnionOverTheField(t *testing.T) {
	rng := rand.New(rand.NewPCG(7, 8))
	for range 200 {
		sp := NewSpace()
		s := randomExpression(rng, 5).set(sp)
		want := Empty
		for v := range 256 { // what is left of s where the protocol is v, said of all protocols
			at := sp.And(s, sp.Value(Protocol, v))
			want = sp.Or(want, sp.Simplify(at, sp.Value(Protocol, v)))
		}
		require.Equal(t, want, sp.Exists(s, Protocol))
		require.True(t, sp.Within(s, sp.Exists(s, Protocol)))
		require.Equal(t, sp.Exists(s, Protocol), sp.Exists(sp.Exists(s, Protocol), Protocol))
	}
}

func TestSimplifyKeepsWhatIsCaredFor(t *testing.T) {
	rng := rand.New(rand.NewPCG(9, 10))
	for range 300 {
		sp := NewSpace()
		s, care := randomExpression(rng, 4).set(sp), randomExpression(rng, 4).set(sp)
		require.Equal(t, sp.And(s, care), sp.And(sp.Simplify(s, care), care))
	}
	sp := NewSpace()
	ssh := sp.And(sp.Value(Protocol, TCP), sp.Value(DstPort, 22))
	require.Equal(t, sp.Value(DstPort, 22), sp.Simplify(ssh, sp.Value(Protocol, TCP)), "what is a matter of course is not said")
}

func TestChooseAndWhere(t *testing.T) {
	rng := rand.New(rand.NewPCG(11, 12))
	outcomes := []Outcome{{Verdict: Admit}, {Verdict: Drop}, {Verdict: Reject, Reply: TCPReset, Logged: true}}
	for range 200 {
		sp := NewSpace()
		d := sp.Leaf(outcomes[0])
		parts := make([]Set, 6)
		for i := range parts {
			parts[i] = randomExpression(rng, 3).set(sp)
			d = sp.Choose(parts[i], sp.Leaf(outcomes[i%3]), d)
		}
		for range 100 {
			p := somePacket(rng)
			want := outcomes[0]
			for i, s := range parts {
				if sp.Has(s, p) {
					want = outcomes[i%3]
				}
			}
			require.Equal(t, want, sp.Outcome(d, p))
		}
		all := Empty
		for _, o := range outcomes {
			all = sp.Or(all, sp.Where(d, func(x Outcome) bool { return x == o }))
		}
		require.Equal(t, All, all)
		logged := sp.Map(d, func(o Outcome) Outcome { o.Logged = true; return o })
		require.Equal(t, Empty, sp.Where(logged, func(o Outcome) bool { return !o.Logged }))
		require.Equal(t, sp.Where(d, func(o Outcome) bool { return !o.Logged }), sp.Differ(d, logged))
	}
}

func TestUnknowns(t *testing.T) {
	sp := NewSpace()
	port := sp.Value(DstPort, 80)
	mark := sp.Unknown("meta mark 7")
	s := sp.And(port, mark)
	require.Equal(t, mark, sp.Unknown("meta mark 7"), "the same thing is the same unknown")
	require.Equal(t, port, sp.Possible(s))
	require.Equal(t, Empty, sp.Certain(s))
	require.Equal(t, port, sp.Certain(sp.Or(s, sp.And(port, sp.Not(mark)))), "what holds either way is certain")
	require.Equal(t, []string{"meta mark 7"}, sp.UnknownsOf(s))
	require.Empty(t, sp.UnknownsOf(port))
}

func TestExampleIsInItsSet(t *testing.T) {
	rng := rand.New(rand.NewPCG(13, 14))
	for range 500 {
		sp := NewSpace()
		s := sp.And(randomExpression(rng, 5).set(sp), sp.Value(Protocol, UDP)) // which has ports
		p, ok := sp.Example(s, Preferences{})
		require.Equal(t, sp.And(s, sp.WellFormed()) != Empty, ok)
		if ok {
			require.True(t, sp.Has(s, p), "%s", p)
		}
	}
}

func TestExampleIsTypical(t *testing.T) {
	sp := NewSpace()
	in := sp.Value(Hook, In)
	lan := sp.AndAll(in, sp.Addrs(Src, prefixes("10.60.0.0/16")))
	for _, c := range []struct {
		name string
		set  Set
		want string
	}{
		{"anything that comes in", in, "tcp 198.51.100.7 port 50000 -> 192.0.2.7 port 22 in by eth0"},
		{"from a network: its second address, the first being its name", lan, "tcp 10.60.0.1 port 50000 -> 192.0.2.7 port 22 in by eth0"},
		{"a port nobody knows", sp.AndAll(in, sp.Range(DstPort, 9000, 9100), sp.Value(Protocol, UDP)),
			"udp 198.51.100.7 port 50000 -> 192.0.2.7 port 9000 in by eth0"},
		{"IPv6 only", sp.AndAll(in, sp.Value(Family, IPv6), sp.Value(Protocol, ICMPv6)),
			"icmpv6 type 128 2001:db8:ffff::7 -> 2001:db8:fffe::7 in by eth0"},
		{"not a new connection", sp.AndAll(in, sp.Not(sp.Value(State, New))),
			"tcp 198.51.100.7 port 50000 -> 192.0.2.7 port 22 in by eth0 (established)"},
		{"sent", sp.And(sp.Value(Hook, Out), sp.Interfaces(OutIface, "wan*")),
			"tcp 198.51.100.7 port 50000 -> 192.0.2.7 port 22 out by wan"},
	} {
		p, ok := sp.Example(c.set, Preferences{})
		require.True(t, ok, c.name)
		require.Equal(t, c.want, p.String(), c.name)
	}
}

func prefixes(list ...string) *netipx.IPSet {
	var b netipx.IPSetBuilder
	for _, s := range list {
		b.AddPrefix(netip.MustParsePrefix(s))
	}
	set, _ := b.IPSet()
	return set
}

func TestInterfacesMatchByNameAndPrefix(t *testing.T) {
	sp := NewSpace()
	at := func(name string) Packet {
		return Packet{Hook: In, Src: netip.MustParseAddr("192.0.2.1"), Dst: netip.MustParseAddr("192.0.2.2"), Protocol: "tcp", In: name}
	}
	eth := sp.Interfaces(InIface, "eth*")
	for name, in := range map[string]bool{"eth0": true, "eth": true, "eth0.100": true, "et": false, "ens3": false, "eti": false,
		"": false} {
		require.Equal(t, in, sp.Has(eth, at(name)), name)
	}
	require.Equal(t, eth, sp.Or(eth, sp.Interfaces(InIface, "eth1")))
	require.NotEqual(t, sp.Interfaces(InIface, "abcdefghijklmno"), sp.Interfaces(InIface, "abcdefghijklmnp"))
	names, ok := InterfaceNames(sp.Project(sp.Interfaces(InIface, "eth*", "lo"), InIface))
	require.True(t, ok)
	require.Equal(t, []string{"eth*", "lo"}, names)
}

func TestAddressesKeepTheirFamily(t *testing.T) {
	sp := NewSpace()
	set := prefixes("10.40.0.0/16", "fd40::/48")
	boxes, _ := sp.Boxes(sp.Addrs(Src, set), 10)
	require.Len(t, boxes, 2)
	var b netipx.IPSetBuilder
	for _, box := range boxes {
		b.AddSet(box.AddrSet(Src))
	}
	back, err := b.IPSet()
	require.NoError(t, err)
	require.True(t, set.Equal(back))
	v4 := sp.Addrs(Src, prefixes("0.0.0.10/32"))
	v6 := sp.Addrs(Src, prefixes("::a/128"))
	require.Equal(t, Empty, sp.And(v4, v6), "10 as IPv4 is not 10 as IPv6")
}

func BenchmarkFirstMatch(b *testing.B) {
	for b.Loop() {
		rng := rand.New(rand.NewPCG(1, 1))
		sp := NewSpace()
		var choices []Choice
		for range 1000 {
			a := netip.AddrFrom4([4]byte{10, byte(rng.IntN(256)), byte(rng.IntN(256)), 0})
			match := sp.AndAll(sp.Value(Family, IPv4), sp.Ranges(Src, []Range{PrefixRange(netip.PrefixFrom(a, 24))}),
				sp.Value(Protocol, TCP), sp.Value(DstPort, 1000+rng.IntN(40)))
			choices = append(choices, Choice{match, sp.Leaf(Outcome{Verdict: Admit})})
		}
		sp.FirstMatch(append(choices, Choice{All, sp.Leaf(Outcome{Verdict: Drop})}))
	}
}

// TestTooTangled: work that would grow without bound ends, and says so; the
// Space's other answers stand.
func TestTooTangled(t *testing.T) {
	sp := NewSpace()
	sp.Bound(20_000)
	rng := rand.New(rand.NewPCG(5, 6))
	d := sp.Leaf(Outcome{Verdict: Drop})
	err := Try(func() {
		for range 10_000 {
			lo := [4]int{rng.IntN(60000), rng.IntN(60000), rng.IntN(1 << 30), rng.IntN(1 << 30)}
			match := All
			for i, f := range []Field{SrcPort, DstPort, Src, Dst} {
				match = sp.And(match, sp.Range(f, lo[i], lo[i]+rng.IntN(5000)))
			}
			d = sp.Choose(match, sp.Leaf(Outcome{Verdict: Admit}), d)
		}
	})
	require.EqualError(t, err, "too complex to decide exactly (more than 0 million cases)")
	var tangled *TooComplexError
	require.ErrorAs(t, err, &tangled)
	require.Equal(t, 20_000, tangled.Edges)
	require.NoError(t, Try(func() { require.True(t, sp.Has(All, somePacket(rng))) }))
	require.PanicsWithValue(t, "another", func() { _ = Try(func() { panic("another") }) })
}

// TestFirstMatch: the first choice with an outcome counts, however long the list
// is, whether it is swept, halved or joined choice by choice.
func TestFirstMatch(t *testing.T) {
	rng := rand.New(rand.NewPCG(7, 8))
	for _, n := range []int{0, 1, 3, 9, 60, 300} {
		for range max(3, 60/(n+1)) {
			sp := NewSpace()
			var choices []Choice
			for i := range n {
				s := randomExpression(rng, 2).set(sp)
				if n > 60 { // most of them in question for most values
					s = sp.Not(sp.AndAll(sp.Value(SrcPort, rng.IntN(500)), sp.Value(DstPort, rng.IntN(500))))
				}
				then := sp.Leaf(Outcome{Verdict: Admit, By: int32(i + 1)})
				if rng.IntN(3) == 0 { // which passes some on
					then = sp.Only(then, randomExpression(rng, 2).set(sp))
				}
				choices = append(choices, Choice{s, then})
			}
			one := Void
			for _, c := range slices.Backward(choices) {
				one = sp.Choose(c.Match, sp.Over(c.Then, one), one)
			}
			require.Equal(t, one, sp.FirstMatch(choices), "%d choices", n)
		}
	}
}

// TestRestrictAndRoom: a decision for one value of a field, and while no bucket is exceeded.
func TestRestrictAndRoom(t *testing.T) {
	sp := NewSpace()
	admit, drop := sp.Leaf(Outcome{Verdict: Admit}), sp.Leaf(Outcome{Verdict: Drop})
	four := Bucket{Name: "x", Every: 15e9, Burst: 4}
	d := sp.Choose(sp.Value(Hook, In), sp.Choose(sp.HasToken(four), admit, drop), drop)
	require.Equal(t, drop, sp.Restrict(d, Hook, Num(Out)))
	require.Equal(t, sp.Choose(sp.HasToken(four), admit, drop), sp.Restrict(d, Hook, Num(In)))
	require.Equal(t, sp.Choose(sp.Value(Hook, In), admit, drop), sp.WithinLimits(d))
	require.Equal(t, []Bucket{four}, Buckets(sp, d))
	admitted := sp.Where(d, func(o Outcome) bool { return o.Verdict == Admit })
	require.Equal(t, sp.Value(Hook, In), sp.AnyRoom(admitted))
	require.True(t, sp.Has(admitted, Packet{Hook: In, Src: netip.MustParseAddr("192.0.2.1")}), "a bucket has room unless said")
	require.Equal(t, "4 per 1m", four.String())
	for b, want := range map[Bucket]string{{Every: 1e9, Burst: 5}: "5 per 5s", {Every: 36e11, Burst: 24}: "24 per 1d",
		{Every: 1e9, Burst: 1, Sources: 9}: "1 per 1s per source", {Every: 333333333, Burst: 3}: "3 per 1s"} {
		require.Equal(t, want, b.String())
	}
}

// TestTimeAndSenders: what was before now is nobody's question, nor what nobody there sends.
func TestTimeAndSenders(t *testing.T) {
	sp := NewSpace()
	sp.Since(1000)
	ends := sp.Choose(sp.Before(2000), sp.Leaf(Outcome{Verdict: Admit}), sp.Leaf(Outcome{Verdict: Drop}))
	gone := sp.Choose(sp.Before(500), sp.Leaf(Outcome{Verdict: Admit}), sp.Leaf(Outcome{Verdict: Drop}))
	require.Equal(t, sp.Only(sp.Leaf(Outcome{Verdict: Drop}), sp.WellFormed()), sp.Only(gone, sp.WellFormed()), "it ended before")
	require.Equal(t, []int64{2000}, sp.ChangeTimes(ends))
	p := Packet{Hook: Out, Src: netip.MustParseAddr("192.0.2.1"), Dst: netip.MustParseAddr("192.0.2.2"), Out: "eth0"}
	require.Equal(t, Admit, sp.Outcome(ends, p).Verdict, "a packet without a time passes now")

	backup := sp.And(sp.Named(User, "backup"), sp.WellFormed())
	p.User = "backup"
	require.True(t, sp.Has(backup, p))
	require.True(t, sp.Has(sp.AnySender(User), p))
	p.User = ""
	require.False(t, sp.Has(sp.AnySender(User), p), "nobody's program sent it")
	names, but := sp.SenderNames(User, []Range{{Num(firstNamed), Num(firstNamed)}})
	require.Equal(t, []any{[]string{"backup"}, false}, []any{names, but})
	names, but = sp.SenderNames(User, Complement(User, []Range{{Num(firstNamed), Num(firstNamed)}}))
	require.Equal(t, []any{[]string{"backup"}, true}, []any{names, but})
	sp.Without(User, "backup")
	require.Equal(t, Empty, sp.And(backup, sp.WellFormed()))
}

// TestCount counts by hand: of values within a few, and of addresses of both families.
func TestCount(t *testing.T) {
	rng := rand.New(rand.NewPCG(5, 6))
	for range 100 {
		sp := NewSpace()
		e := randomExpression(rng, 4)
		s := sp.AndAll(e.set(sp), sp.Value(Hook, In), sp.Range(Protocol, 0, 21), sp.Range(DstPort, 0, 21), sp.Value(Family, IPv4),
			sp.Value(SrcPort, 3), sp.Value(State, New), sp.Value(Src, 7))
		want := 0
		for protocol := range 22 {
			for port := range 22 {
				p := somePacket(rng)
				three := 3
				p.Hook, p.Protocol, p.DstPort, p.SrcPort, p.State, p.Family = In, ProtocolName(protocol), &port, &three, StateNames[New],
					"ipv4"
				p.In, p.Src, p.Dst = "eth0", netip.AddrFrom4([4]byte{0, 0, 0, 7}), netip.MustParseAddr("192.0.2.1")
				if sp.Has(s, p) {
					want++
				}
			}
		}
		require.Equal(t, int64(want), sp.Count(s, DstPort, Protocol).Int64())
	}
	sp := NewSpace()
	require.Equal(t, "340282366920938463463374607436063178752", sp.Count(All, Family, Src).String(),
		"2^128 and 2^32, without what has no family")
	require.Zero(t, sp.Count(Empty, Src).Sign())
	require.Equal(t, int64(256+1), sp.Count(sp.OrAll(sp.And(sp.Value(Family, IPv4), sp.Range(Src, 512, 767)),
		sp.And(sp.Value(Family, IPv6), sp.Value(Src, 600))), Family, Src).Int64())
}
