package dialect

import (
	"cmp"
	"fmt"

	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
)

// A Kind says what a text lists, and in which form: "nft-json".
type Kind string

// A Dump is a text that says what a host has in force.
type Dump struct {
	Kind Kind   `json:"kind" enum:"nft-json,nft-text,iptables-save,ip6tables-save,ipset-save,routes,groups,portable" doc:"what it is a listing of, and in which form"`
	Text string `json:"text" maxLength:"67108864"`
	File string `json:"-"` // where it was read from, for places in it
}

// Name is how a message names the dump: its file, or else its kind.
func (d Dump) Name() string { return cmp.Or(d.File, string(d.Kind)) }

// A Listing describes a kind of dumps.
type Listing struct {
	Kind     Kind
	Families []int  // whose rules it tells, and all of them
	Files    string // a part of the name of files that hold it
	Quiet    bool   // its tool prints nothing where nobody made rules
}

// A Reader reads kinds of dumps into rulesets. Its dialect's folder holds it, and
// forms.Readers lists it; nothing else knows which kinds there are.
type Reader interface {
	// Listings are the kinds that it reads, those first that others of them ask for.
	Listings() []Listing
	// Sniff tells a listing by its text, which is in UTF-8.
	Sniff(text []byte) (kind Kind, ok bool)
	// Read gives the rules of one dump. What dumps after it need, it keeps in r. The error is
	// about the text.
	Read(r *Reading, d Dump) (*kernel.Ruleset, error)
}

// A Reading is what is known while the dumps of one host are read.
type Reading struct {
	Space *packet.Space
	Host  *fleet.Host // nil if nobody said
	Fleet *fleet.Fleet
	Names *kernel.Names
	Sets  any             // what was read of sets that rules ask for
	Read  map[string]bool // tables of nft, as in "ip filter", that another listing has told

	routes string // of all dumps of routes so far
}

// Documents reads a kind of JSON documents of ours, each of which tells the rules of both families.
type Documents struct {
	Kind Kind
	Is   func(text []byte) bool // tells one by the kind that it says
	From func(r *Reading, text []byte) (*kernel.Ruleset, error)
}

// Listings is the one kind.
func (d Documents) Listings() []Listing {
	return []Listing{{Kind: d.Kind, Families: []int{packet.IPv4, packet.IPv6}}}
}

// Sniff tells a document by the kind that it says.
func (d Documents) Sniff(text []byte) (Kind, bool) { return d.Kind, d.Is(text) }

// Read reads a document.
func (d Documents) Read(r *Reading, dump Dump) (*kernel.Ruleset, error) {
	return d.From(r, []byte(dump.Text))
}

// Routes reads what `ip route show table all` prints.
type Routes struct{}

// ListingRoutes is the kind that Routes reads.
const ListingRoutes Kind = "routes"

// Listings is one: routes tell no rules.
func (Routes) Listings() []Listing { return []Listing{{Kind: ListingRoutes}} }

// Sniff tells routes by their words.
func (Routes) Sniff(text []byte) (Kind, bool) { return ListingRoutes, kernel.IsRoutes(string(text)) }

// Read keeps routes in r.Names. Each family may have been printed by itself: together they are
// the host's.
func (Routes) Read(r *Reading, d Dump) (*kernel.Ruleset, error) {
	routes, err := kernel.ReadRoutes(d.Text)
	if err == nil && r.routes != "" {
		routes, err = kernel.ReadRoutes(r.routes + d.Text)
	}
	if err != nil {
		return nil, err
	}
	r.Names.Routes = routes
	r.routes += d.Text + "\n"
	return &kernel.Ruleset{}, nil
}

// Missing are chains that stand for the rules of families that no dump tells of, where people
// made the dumps by hand: they may refuse anything. listings are those of the dumps, known all
// that there are.
func Missing(sp *packet.Space, listings, known []Listing) *kernel.Ruleset {
	out, told := &kernel.Ruleset{}, map[int]bool{}
	for _, l := range listings {
		for _, family := range l.Families {
			told[family] = true
		}
	}
	for _, l := range known {
		if len(listings) == 0 || len(l.Families) != 1 || told[l.Families[0]] {
			continue
		}
		family := []string{packet.IPv4: "IPv4", packet.IPv6: "IPv6"}[l.Families[0]]
		name := fmt.Sprintf("the rules of %s: no dump of %s is given (--complete says that there are none)", family, l.Kind)
		for _, d := range []packet.Direction{packet.Inbound, packet.Forward, packet.Outbound} {
			out.Chains = append(out.Chains, &kernel.Chain{Family: []string{packet.IPv4: "ip", packet.IPv6: "ip6"}[l.Families[0]],
				Table: "not dumped",
				Name:  kernel.HookOf(d), Hook: kernel.HookOf(d), Type: "filter", Policy: packet.Admit,
				Rules: []kernel.Rule{{Match: sp.Unknown(name), Branches: []kernel.Branch{{Match: packet.All, Action: kernel.Drop}}}}})
		}
	}
	return out
}
