package say

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"go4.org/netipx"

	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/source"
)

// mostExceptions bounds what a name is said to be without.
const mostExceptions = 5

// mostNames bounds how many names and addresses a sentence lists.
const mostNames = 4

// A Name is what people call some addresses: a name of the policy or of the fleet
// ("hill-lan", "host charts-01", "everywhere"), or else an address, a prefix or a range.
type Name struct {
	Text   string
	Family string // "IPv4" or "IPv6" where only its addresses of that family are meant
}

// String is the name as a sentence says it: "hill-lan (IPv4)".
func (n Name) String() string {
	if n.Family == "" {
		return n.Text
	}
	return n.Text + " (" + n.Family + ")"
}

// Addresses is a set of addresses as people would name it: all that Names call but
// what Except calls. It is exact where Unnamed is 0.
type Addresses struct {
	Names, Except []Name
	Unnamed       int // names that the last list does not show, for it would be too long
}

// String is the addresses as a sentence says them: "hill-lan except depot, and 2 more".
func (a Addresses) String() string {
	list := func(names []Name, more int) string {
		texts := make([]string, len(names))
		for i, n := range names {
			texts[i] = n.String()
		}
		if more > 0 {
			texts = append(texts, fmt.Sprintf("and %d more", more))
		}
		return strings.Join(texts, ", ")
	}
	if a.Except == nil {
		return list(a.Names, a.Unnamed)
	}
	return list(a.Names, 0) + " except " + list(a.Except, a.Unnamed)
}

// Addresses names a set of addresses: by one name where one fits, as a name
// with exceptions, as several names, and what is left as prefixes.
func (n *Names) Addresses(set *netipx.IPSet) Addresses {
	if one, ok := n.one(set); ok {
		return Addresses{Names: []Name{one}}
	}
	four, six := packet.OfFamily(set, packet.IPv4), packet.OfFamily(set, packet.IPv6)
	if len(four.Ranges()) > 0 && len(six.Ranges()) > 0 {
		a, okA := n.one(four)
		b, okB := n.one(six)
		if okA && okB {
			return Addresses{Names: []Name{a, b}}
		}
	}
	but, exact := n.allBut(set)
	if exact {
		return but
	}
	names, left := n.cover(set)
	prefixes := left.Prefixes()
	if runs := set.Ranges(); len(runs) <= mostNames && len(names)+len(prefixes) > len(runs) {
		out := Addresses{}
		for _, run := range runs {
			out.Names = append(out.Names, Name{Text: runText(run)})
		}
		return out
	}
	for i := 0; len(names) < mostNames && i < len(prefixes); i++ {
		names = append(names, Name{Text: packet.PrefixText(prefixes[i])})
		left = packet.Without(left, packet.Prefixes(prefixes[i]))
	}
	more := len(left.Prefixes())
	if more > 0 || len(names) > mostNames {
		if more += max(len(names)-mostNames, 0); but.Names != nil && more > but.Unnamed {
			return but
		}
		names = names[:min(len(names), mostNames)]
	}
	return Addresses{Names: names, Unnamed: more}
}

// allBut names a set as one name with exceptions, the widest that takes few; exact is false
// where all take too many, and where no name, which is then empty, has the set in it.
func (n *Names) allBut(set *netipx.IPSet) (out Addresses, exact bool) {
	first := netip.Addr{}
	if ranges := set.Ranges(); len(ranges) > 0 {
		first = ranges[0].From()
	}
	for _, whole := range slices.Concat([]known{everywhere}, n.known) {
		for _, half := range whole.halfFirst() {
			if !half.set.Contains(first) || len(packet.Without(set, half.set).Ranges()) > 0 {
				continue
			}
			except, left := n.cover(packet.Without(half.set, set))
			prefixes := left.Prefixes()
			all := len(except) + len(prefixes)
			for _, p := range prefixes[:min(len(prefixes), max(mostExceptions-len(except), 0))] {
				except = append(except, Name{Text: packet.PrefixText(p)})
			}
			if all <= mostExceptions {
				return Addresses{Names: []Name{half.Name}, Except: except}, true
			}
			if out.Names == nil {
				out = Addresses{Names: []Name{half.Name}, Except: except[:mostNames:mostNames], Unnamed: all - mostNames}
			}
		}
	}
	return out, false
}

// runText is a run of addresses as one address, a prefix, or a range.
func runText(run netipx.IPRange) string {
	if p, ok := run.Prefix(); ok {
		return packet.PrefixText(p)
	}
	return run.String()
}

// one names a set by one name, if one fits.
func (n *Names) one(set *netipx.IPSet) (Name, bool) {
	if name, ok := n.named[keyOf(set)]; ok {
		return name, true
	}
	if p := set.Prefixes(); len(p) == 1 {
		return Name{Text: packet.PrefixText(p[0])}, true
	}
	return Name{}, false
}

// cover takes from a set what names say, the widest first; left is the rest.
func (n *Names) cover(set *netipx.IPSet) (names []Name, left *netipx.IPSet) {
	left = set
	ranges := left.Ranges()
	// Single addresses, of which thousands may be named one after the other, are taken away together.
	single, singles := map[netip.Addr]bool{}, netipx.IPSetBuilder{}
	take := func() {
		if len(single) > 0 {
			gone, _ := singles.IPSet()
			left = packet.Without(left, gone)
			ranges, single, singles = left.Ranges(), map[netip.Addr]bool{}, netipx.IPSetBuilder{}
		}
	}
	// The widest name that fits is taken first, then the next in what is left.
	for _, k := range n.known {
		if len(ranges) == 0 {
			break
		}
		// Both families of a name if they fit, else one of them.
		for _, half := range k.wholeFirst() {
			inner := half.set.Ranges()
			few := !slices.ContainsFunc(inner, func(r netipx.IPRange) bool { return r.From() != r.To() })
			if !few {
				take()
			}
			if !holds(ranges, half.set) || few && slices.ContainsFunc(inner, func(r netipx.IPRange) bool { return single[r.From()] }) {
				continue
			}
			names = append(names, half.Name)
			if few {
				for _, r := range inner {
					single[r.From()] = true
					singles.Add(r.From())
				}
			} else {
				left = packet.Without(left, half.set)
				ranges = left.Ranges()
			}
			break
		}
	}
	take()
	return names, left
}

// holds says that all of a set, which has something in it, lies in ranges that stand in order.
func holds(ranges []netipx.IPRange, part *netipx.IPSet) bool {
	inner := part.Ranges()
	for _, r := range inner {
		i, _ := slices.BinarySearchFunc(ranges, r.From(), func(have netipx.IPRange, at netip.Addr) int { return have.To().Compare(at) })
		if i == len(ranges) || ranges[i].From().Compare(r.From()) > 0 || ranges[i].To().Compare(r.To()) < 0 {
			return false
		}
	}
	return len(inner) > 0
}

// peers is addresses as a statement of a policy has them: wider where their exceptions or one
// family alone were to be said, for a statement says neither of a name. ok is false where it cannot say them.
func (a Addresses) peers() (peers fence.Peers, ok bool) {
	if a.Except == nil && a.Unnamed > 0 {
		return peers, false
	}
	for _, n := range a.Names {
		name, segment, at := strings.Cut(n.Text, " at ")
		peer := fence.Peer{Kind: fence.NamedPeer, Name: name, Text: n.Text}
		if at {
			peer.At = &fence.Peer{Kind: fence.NamedPeer, Name: segment, Text: segment}
		}
		switch item, problem := fence.ParseAddress(n.Text, source.Pos{}); {
		case problem == nil:
			peer.Kind, peer.Addr = fence.AddressPeer, &item
		case n.Text == everywhere.name:
			peer.Kind = fence.EverywherePeer
		case n.Text == "fleet":
			peer.Kind = fence.FleetPeer
		case strings.HasPrefix(n.Text, "host "):
			peer.Kind, peer.Name = fence.HostPeer, strings.TrimPrefix(n.Text, "host ")
		case !fence.IsName(name) || at && !fence.IsName(segment):
			return peers, false
		}
		peers.Items = append(peers.Items, peer)
	}
	return peers, true
}
