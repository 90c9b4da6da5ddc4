package fleet

import (
	"net/netip"
	"slices"

	"go4.org/netipx"

	"yellowfence.example/yfence/core/source"
)

// A Fleet is all hosts, and where they find the Yellow Fence service.
type Fleet struct {
	Service Service `json:"service,omitzero" required:"false"`
	Hosts   []*Host `json:"hosts" nullable:"false"`
}

// Service is where the hosts reach the Yellow Fence service. No addresses: they do not.
type Service struct {
	Addresses []netip.Addr `json:"addresses" nullable:"false"`
	Port      int          `json:"port"`
}

// A Host is one server or instance.
type Host struct {
	Name       string       `json:"name"`
	Roles      []string     `json:"roles" nullable:"false"`
	Dialect    string       `json:"dialect" required:"false" enum:"nft,iptables,portable,none" doc:"the filter of the host itself; portable is another system's that takes our open form, none if only its instance's groups protect it or, without an instance, if it is a machine of others"`
	OwnConsole bool         `json:"own_console,omitempty" doc:"it can be reached without the network"`
	Interfaces []Interface  `json:"interfaces" nullable:"false"`
	SeenAs     []netip.Addr `json:"seen_as,omitempty" nullable:"false" doc:"addresses that it has in others' eyes, by translation on the way"`
	Floating   []netip.Addr `json:"floating,omitempty" nullable:"false" doc:"addresses that move between hosts, which may stand on several"`
	Instance   *Instance    `json:"instance,omitempty" nullable:"false"`
	Knowingly  []Acceptance `json:"knowingly,omitempty" nullable:"false" doc:"warnings about this host that are accepted"`

	Pos     source.Pos   `json:"-"` // of the name
	RolePos []source.Pos `json:"-"` // of each role
}

// An Acceptance is a warning about a host that is accepted, with the reason.
type Acceptance struct {
	Code    string `json:"code"`
	Because string `json:"because"`

	Pos source.Pos `json:"-"` // of the code
}

// An Instance is a host's place in a cloud, whose groups filter for it too.
type Instance struct {
	Cloud  string            `json:"cloud" doc:"which cloud it is in"`
	ID     string            `json:"id" doc:"its name there"`
	Labels map[string]string `json:"labels,omitempty" nullable:"false" doc:"what the cloud says of it, by key"`
}

// An Interface is a host's attachment to a network.
type Interface struct {
	Name      string         `json:"name"`
	Addresses []netip.Prefix `json:"addresses" nullable:"false" doc:"each with the length of its network's prefix"`
	Segment   string         `json:"segment,omitempty" doc:"which segment it is on, where its addresses leave a doubt"`
	Dynamic   bool           `json:"dynamic,omitempty" doc:"its addresses are those the host last reported; the ones here are a beginning"`
	Within    []netip.Prefix `json:"within,omitempty" nullable:"false" doc:"what a dynamic interface may report; if not said, what its segment holds, or the networks of the addresses here"`

	Pos        source.Pos `json:"-"` // of the name
	SegmentPos source.Pos `json:"-"`
}

// Others says that the host is a machine of others: nothing of ours filters for it.
func (h *Host) Others() bool { return h.Dialect == NoFilter && h.Instance == nil }

// NoFilter is the dialect of a host that has no filter of its own.
const NoFilter = "none"

// Dialects are the filters a host can have.
var Dialects = []string{"nft", "iptables", "portable", NoFilter}

// Broadcast are the addresses that stand for all hosts of the host's own networks, and
// for all hosts of several (multicast): RFC 919, RFC 1112, RFC 4291.
func (h *Host) Broadcast() *netipx.IPSet {
	var b netipx.IPSetBuilder
	for _, i := range h.Interfaces {
		for _, p := range i.Addresses {
			if p.Addr().Is4() && p.Bits() < 31 {
				b.Add(netipx.PrefixLastIP(p.Masked()))
			}
		}
	}
	for _, p := range []string{"255.255.255.255/32", "224.0.0.0/4", "ff00::/8", "0.0.0.0/8"} {
		b.AddPrefix(netip.MustParsePrefix(p))
	}
	all, _ := b.IPSet()
	return all
}

// Unicast says that an address is one that a host can have and be reached at by others: not of
// this network, loopback, multicast, reserved or broadcast (RFC 6890), and no IPv4 address in the form of IPv6.
func Unicast(a netip.Addr) bool {
	if !a.IsValid() || a.Is4In6() || a.Zone() != "" || a.IsUnspecified() || a.IsLoopback() || a.IsMulticast() {
		return false
	}
	return !a.Is4() || a.As4()[0] != 0 && a.As4()[0] < 240
}

// Addresses are those that peers see the host come from: of its interfaces, those it is seen
// as, and those that float. It is made anew each time; AddAddresses serves for many hosts.
func (h *Host) Addresses() *netipx.IPSet {
	var b netipx.IPSetBuilder
	h.AddAddresses(&b)
	set, _ := b.IPSet() // errors only on invalid addresses, which the reader refuses
	return set
}

// AddAddresses adds the host's Addresses to a builder.
func (h *Host) AddAddresses(b *netipx.IPSetBuilder) {
	for _, a := range slices.Concat(h.Own(), h.SeenAs, h.Floating) {
		b.Add(a)
	}
}

// Own are the addresses of the host's interfaces, in their order. Those that others give it
// (seen_as, floating) are not among them.
func (h *Host) Own() []netip.Addr {
	out := []netip.Addr{}
	for _, i := range h.Interfaces {
		for _, p := range i.Addresses {
			out = append(out, p.Addr())
		}
	}
	return out
}

// On names the host's interfaces on a segment: those that say so, and of those that say nothing the ones with an address in it.
func (h *Host) On(segment string, addrs *netipx.IPSet) (interfaces []string) {
	for _, i := range h.Interfaces {
		on := i.Segment == segment
		for _, p := range i.Addresses {
			on = on || i.Segment == "" && addrs.Contains(p.Addr())
		}
		if on {
			interfaces = append(interfaces, i.Name)
		}
	}
	return interfaces
}

// HasRole says that the host has a role. A host may have several; their order counts for
// nothing.
func (h *Host) HasRole(role string) bool {
	return slices.Contains(h.Roles, role)
}

// Host finds a host by its name, nil if there is none. It looks at all hosts: Index serves for
// many.
func (f *Fleet) Host(name string) *Host {
	for _, h := range f.Hosts {
		if h.Name == name {
			return h
		}
	}
	return nil
}

// Index gives the hosts by their names, for whoever looks up many.
func (f *Fleet) Index() map[string]*Host {
	out := make(map[string]*Host, len(f.Hosts))
	for _, h := range slices.Backward(f.Hosts) {
		out[h.Name] = h
	}
	return out
}

// Names are the names of all hosts, in the fleet's order.
func (f *Fleet) Names() []string {
	names := make([]string, len(f.Hosts))
	for i, h := range f.Hosts {
		names[i] = h.Name
	}
	return names
}
