package packet_test

import (
	"fmt"

	"yellowfence.example/yfence/core/packet"
)

// Two filters are the same exactly if their decisions are the same handle. Where they differ, the
// difference is a set like any other, and has an example.
func Example() {
	sp := packet.NewSpace()
	admit, drop := sp.Leaf(packet.Outcome{Verdict: packet.Admit}), sp.Leaf(packet.Outcome{Verdict: packet.Drop})
	tcp := sp.Value(packet.Protocol, packet.TCP)

	one := sp.Choose(sp.And(tcp, sp.Range(packet.DstPort, 8000, 8009)), admit, drop)
	other := sp.Choose(sp.Minus(sp.And(tcp, sp.Range(packet.DstPort, 8000, 8009)), sp.Value(packet.DstPort, 8005)), admit, drop)
	other = sp.Choose(sp.And(tcp, sp.Value(packet.DstPort, 8005)), admit, other)
	fmt.Println("the same:", one == other)

	wider := sp.Choose(sp.And(tcp, sp.Range(packet.DstPort, 8000, 8010)), admit, drop)
	differ := sp.Differ(one, wider)
	fmt.Println("differ in port", sp.Project(differ, packet.DstPort)[0].Lo.Int())
	// Output:
	// the same: true
	// differ in port 8010
}

// Exists leaves a field out of a set: it is the packets that are in the set with some value of it.
func ExampleSpace_Exists() {
	sp := packet.NewSpace()
	fresh := sp.And(sp.Value(packet.State, packet.New), sp.Value(packet.DstPort, 22))
	fmt.Println(sp.Exists(fresh, packet.State) == sp.Value(packet.DstPort, 22))
	// Output: true
}

// What is not understood of a rule is an unknown. A packet whose fate hangs on one is neither
// surely admitted nor surely refused.
func ExampleSpace_Certain() {
	sp := packet.NewSpace()
	match := sp.And(sp.Value(packet.DstPort, 22), sp.Unknown("what a module of the kernel says"))
	fmt.Println("certain:", sp.Certain(match) != packet.Empty)
	fmt.Println("possible:", sp.Possible(match) == sp.Value(packet.DstPort, 22))
	fmt.Println(sp.UnknownsOf(match))
	// Output:
	// certain: false
	// possible: true
	// [what a module of the kernel says]
}

// The fields that matter are the other way round for what comes in and for what goes out.
func ExampleDirection() {
	for _, d := range packet.Directions {
		fmt.Println(d, d.Local(), d.Peer(), d.Interface())
	}
	// Output:
	// inbound destination source inbound interface
	// outbound source destination outbound interface
	// forward destination source inbound interface
}
