package check

import (
	"net/netip"
	"slices"
	"strings"

	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/core/source"
)

// noPath knows of ways what the policy and the fleet say: segments that hosts share, joins,
// routers that the rule goes through, and addresses that everybody can reach. Where it knows
// nothing of a host it is silent.
var noPath = Check{
	Code:     "no-path",
	Severity: source.Warning,
	Doc: `A host that an allow names has no way to any host of the other side.

They share no segment, no join says that there is a way between theirs, neither has an
address that can be reached from anywhere, and no through names hosts on the way. The allow
admits what cannot come. Attach the host, join the networks, say through which role it goes, or
name the hosts that are meant. Hosts that are on no declared segment are left out: nothing is known of their way.
`,
	run: func(p *pass) {
		for _, r := range p.rules() {
			if r.Block || r.On != nil || r.Arriving != nil || len(r.From.Hosts) == 0 || len(r.To.Hosts) == 0 {
				continue
			}
			from, to := p.places(r.From), p.places(r.To)
			var lost []string
			look := func(hosts []*fleet.Host, other policy.Side, there *whereabouts) {
				if len(other.Outside().Ranges()) > 0 {
					return // it is for those outside as well
				}
				if r.Through != nil {
					there = p.placesOf(routers(r))
				}
				for _, h := range hosts {
					if at := p.place(h); !at.public && !there.public && len(at.segments) > 0 && len(there.segments) > 0 &&
						!at.meets(there) && !slices.Contains(lost, h.Name) {
						lost = append(lost, h.Name)
					}
				}
			}
			look(r.From.Hosts, r.To, to)
			look(r.To.Hosts, r.From, from)
			if lost != nil {
				verb := "it shares"
				if len(lost) > 1 {
					verb = "they share"
				}
				p.warn(r, "attach it, say `through ROLE`, join the networks, or name the hosts that are meant",
					"the allow %q has no path for %s: %s no segment with the other side, and neither is public", r.Name, some(lost), verb)
			}
		}
	},
}

// whereabouts is the segments that hosts are on, and whether one of them can be
// reached from anywhere.
type whereabouts struct {
	segments map[string]bool
	joined   map[*policy.Join]map[*policy.Network]bool // which of the networks of each join
	public   bool
}

// on notes that somebody is on a network of a join.
func (w *whereabouts) on(j *policy.Join, n *policy.Network) {
	if w.joined[j] == nil {
		w.joined[j] = map[*policy.Network]bool{}
	}
	w.joined[j][n] = true
}

// shares says that both are on one of the segments.
func (w *whereabouts) shares(o *whereabouts) bool {
	for s := range w.segments {
		if o.segments[s] {
			return true
		}
	}
	return false
}

// meets says that there is a way between two: a segment that both are on, or two networks that
// a join joins.
func (w *whereabouts) meets(o *whereabouts) bool {
	if w.shares(o) {
		return true
	}
	for j, here := range w.joined {
		for n := range o.joined[j] {
			if len(here) > 1 || !here[n] {
				return true
			}
		}
	}
	return false
}

// places is where the hosts of a side are, together.
func (p *pass) places(s policy.Side) *whereabouts { return p.placesOf(s.Hosts) }

// placesOf is the same for any hosts.
func (p *pass) placesOf(hosts []*fleet.Host) *whereabouts {
	w := &whereabouts{segments: map[string]bool{}, joined: map[*policy.Join]map[*policy.Network]bool{}}
	for _, h := range hosts {
		at := p.place(h)
		for j, networks := range at.joined {
			for n := range networks {
				w.on(j, n)
			}
		}
		w.public = w.public || at.public
		for s := range at.segments {
			w.segments[s] = true
		}
	}
	return w
}

// place is where one host is, worked out once.
func (p *pass) place(h *fleet.Host) *whereabouts {
	w := p.where[h]
	if w == nil {
		w = &whereabouts{segments: map[string]bool{}, joined: map[*policy.Join]map[*policy.Network]bool{}}
		for _, j := range p.pol.Joins {
			for _, n := range j.Networks {
				if len(packet.Intersection(h.Addresses(), n.Addrs).Ranges()) > 0 {
					w.on(j, n)
				}
			}
		}
		for _, seg := range p.pol.Segments() {
			if h.On(seg.Name, seg.Addrs) != nil {
				w.segments[seg.Name] = true
			}
		}
		for _, a := range h.Addresses().Prefixes() {
			w.public = w.public || !slices.ContainsFunc(unreachable, func(u netip.Prefix) bool { return u.Contains(a.Addr()) })
		}
		p.where[h] = w
	}
	return w
}

// unreachable are the addresses that no network routes to from anywhere: private
// use (RFC 1918, RFC 4193), shared (RFC 6598), loopback and link-local.
var unreachable = func() (out []netip.Prefix) {
	for _, s := range []string{"10.0.0.0/8", "172.16.0.0/12", "192.168.0.0/16", "100.64.0.0/10", "127.0.0.0/8", "169.254.0.0/16",
		"fc00::/7", "fe80::/10", "::1/128"} {
		out = append(out, netip.MustParsePrefix(s))
	}
	return out
}()

// some lists a few names.
func some(names []string) string {
	const most = 3
	if more := len(names) - most; more > 0 {
		return strings.Join(names[:most], ", ") + " and others"
	}
	return strings.Join(names, ", ")
}
