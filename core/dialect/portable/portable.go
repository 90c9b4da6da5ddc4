package portable

import (
	"fmt"
	"net/netip"
	"slices"
	"time"

	"yellowfence.example/yfence/core/dialect"
	"yellowfence.example/yfence/core/packet"
)

// Kind is what a Document says of itself.
const Kind = "portable-rules"

// Loopback is the category of a host's own loopback.
const Loopback = "loopback"

// A Document is the rules of a host: what we write, and the form of a dump.
type Document struct {
	Version    int         `json:"version" enum:"1"`
	Kind       string      `json:"kind" enum:"portable-rules"`
	Host       string      `json:"host" doc:"whose rules they are"`
	Networks   []Network   `json:"networks" nullable:"false" doc:"the categories that rules speak of"`
	Interfaces []Interface `json:"interfaces" nullable:"false" doc:"the host's, as they were; a dump says how they are"`
	Inbound    *List       `json:"inbound,omitempty" doc:"what arrives for the host; nothing is refused if it is not there"`
	Outbound   *List       `json:"outbound,omitempty" doc:"what the host sends"`
	Forwarded  *List       `json:"forwarded,omitempty" doc:"what passes through the host"`
}

// A Network is a category of attachments.
type Network struct {
	Name     string         `json:"name"`
	Prefixes []netip.Prefix `json:"prefixes" nullable:"false" doc:"an interface with an address in one of these is attached to it"`
}

// An Interface is one of the host's.
type Interface struct {
	Name      string         `json:"name"`
	Addresses []netip.Prefix `json:"addresses" nullable:"false"`
}

// A List is tried in order.
type List struct {
	Rules     []Rule `json:"rules" nullable:"false"`
	Otherwise string `json:"otherwise" enum:"admit,drop" doc:"what becomes of what no rule is about"`
}

// A Rule decides what it is about.
type Rule struct {
	Does    string `json:"does" enum:"admit,drop,reject" doc:"reject answers: TCP with a reset, anything else with an ICMP port unreachable"`
	Log     bool   `json:"log,omitempty" doc:"a line is written about it"`
	Comment string `json:"comment,omitempty" doc:"what it comes from"`
	Condition
	Unless []Condition `json:"unless,omitempty" nullable:"false" doc:"what one of these holds for as well is left to the rules below"`
}

// A Condition holds where all that it says does.
type Condition struct {
	Networks    []string   `json:"networks,omitempty" nullable:"false" doc:"it arrives by an interface that is attached to one of these; of what the host sends, it leaves by one. loopback is the host's own"`
	NotNetworks []string   `json:"not_networks,omitempty" nullable:"false" doc:"by an interface that is attached to none of these"`
	From        []string   `json:"from,omitempty" nullable:"false" doc:"prefixes of the source"`
	To          []string   `json:"to,omitempty" nullable:"false" doc:"prefixes of the destination"`
	Services    []Service  `json:"services,omitempty" nullable:"false" doc:"one of these"`
	States      []string   `json:"states,omitempty" nullable:"false" doc:"new, established, related, invalid or untracked: how it belongs to a connection"`
	Users       []string   `json:"users,omitempty" nullable:"false" doc:"whose program sends it"`
	Programs    []string   `json:"programs,omitempty" nullable:"false" doc:"which program sends it, by its path"`
	Since       *time.Time `json:"since,omitempty" doc:"it passes at this time or later"`
	Until       *time.Time `json:"until,omitempty" doc:"it passes before this time"`
}

// A Service is a protocol, and what of it.
type Service struct {
	Family   string `json:"family,omitempty" enum:"ipv4,ipv6"`
	Protocol string `json:"protocol,omitempty" doc:"tcp, udp, sctp, icmp, icmpv6 or a number; any if not said"`
	Ports    string `json:"ports,omitempty" doc:"of the destination: one, or a range as 8443-8446"`
	Type     *int   `json:"type,omitempty" doc:"of icmp and icmpv6"`
	Code     *int   `json:"code,omitempty"`
}

// Is says that a text is meant as a Document.
func Is(text []byte) bool { return dialect.IsDocument(text, Kind) }

// String is the document as a file.
func (d *Document) String() string { return dialect.DocumentText(d) }

// On are the names of the interfaces that are attached to one of some networks.
func (d *Document) On(networks []string) (names []string) {
	for _, i := range d.Interfaces {
		for _, n := range d.Networks {
			if slices.Contains(networks, n.Name) && slices.ContainsFunc(i.Addresses, func(a netip.Prefix) bool {
				return slices.ContainsFunc(n.Prefixes, func(p netip.Prefix) bool { return p.Contains(a.Addr()) })
			}) && !slices.Contains(names, i.Name) {
				names = append(names, i.Name)
			}
		}
	}
	if slices.Contains(networks, Loopback) {
		names = append(names, "lo")
	}
	return names
}

// lists are the lists with their names and the hooks that they hang on.
func (d *Document) lists() []listed {
	return []listed{{"inbound", "input", packet.In, d.Inbound}, {"outbound", "output", packet.Out, d.Outbound},
		{"forwarded", "forward", packet.Through, d.Forwarded}}
}

// listed is one list of a document with where it stands, for reading.
type listed struct {
	name, chain string
	hook        int
	*List
}

// Parse reads a Document. The error tells what is wrong with it, and where.
func Parse(text []byte) (*Document, error) {
	var d Document
	if err := dialect.ReadDocument(text, "list", " of portable rules", &d); err != nil {
		return nil, err
	}
	if err := dialect.CheckDocument(d.Kind, Kind, d.Version); err != nil {
		return nil, err
	}
	names := []string{Loopback}
	for _, n := range d.Networks {
		if n.Name == "" || slices.Contains(names, n.Name) {
			return nil, fmt.Errorf("a network's name is %q, which is empty, kept for the loopback, or stands twice", n.Name)
		}
		names = append(names, n.Name)
	}
	for _, l := range d.lists() {
		if l.List == nil {
			continue
		}
		if l.Otherwise != "admit" && l.Otherwise != "drop" {
			return nil, fmt.Errorf("%s: otherwise is %q, neither admit nor drop", l.name, l.Otherwise)
		}
		for i, r := range l.Rules {
			for _, c := range append([]Condition{r.Condition}, r.Unless...) {
				for _, n := range slices.Concat(c.Networks, c.NotNetworks) {
					if !slices.Contains(names, n) {
						return nil, fmt.Errorf("%s rule %d: there is no network %q in the list", l.name, i+1, n)
					}
				}
			}
		}
	}
	return &d, nil
}
