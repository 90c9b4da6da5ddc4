package fleet

import (
	"fmt"
	"net/netip"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"yellowfence.example/yfence/core/source"
)

// ReadJSON reads a fleet file. It always gives a fleet, of what it could
// understand, and every problem of the file.
func ReadJSON(file string, data []byte) (*Fleet, []source.Problem) {
	return decode(file, data, jsonTree)
}

// A reader makes a tree of a text. The hosts are not in it: each is handed over when it was
// read, so that a large fleet is not held twice. Problems end it.
type reader func(file string, data []byte, each func(host tree)) (doc tree, problems []source.Problem)

// decode makes a fleet of a document, in whatever format it was written.
func decode(file string, data []byte, read reader) (*Fleet, []source.Problem) {
	if len(data) > MaxFile {
		return &Fleet{}, []source.Problem{*tooLarge(file, fmt.Sprintf("it may have up to %d MiB", MaxFile>>20))}
	}
	d := &decoder{}
	fl := &Fleet{Hosts: []*Host{}}
	more := 0
	doc, problems := read(file, data, func(t tree) {
		if len(fl.Hosts) == MaxHosts {
			more++
			return
		}
		fl.Hosts = append(fl.Hosts, d.host(t))
	})
	if more > 0 {
		return &Fleet{}, []source.Problem{*tooLarge(file,
			fmt.Sprintf("it may have up to %d hosts, this one has %d", MaxHosts, MaxHosts+more))}
	}
	if problems != nil && doc.kind == "" {
		return &Fleet{}, problems
	}
	d.problems = append(d.problems, problems...)
	d.object(doc, "a fleet", map[string]func(tree){
		"service": func(t tree) { d.service(t, &fl.Service) },
		"hosts": func(t tree) {
			for _, item := range d.list(t, "hosts", MaxHosts) {
				fl.Hosts = append(fl.Hosts, d.host(item))
			}
		},
	}, "hosts")
	d.duplicates(fl)
	source.SortProblems(d.problems)
	return fl, d.problems
}

// Bounds of what one host may have; nothing that there is has as much.
const (
	maxRoles      = 100
	maxInterfaces = 1000
	maxAddresses  = 10_000 // of one list
	maxLabels     = 200
)

// decoder makes a fleet of a tree and collects what is wrong with it.
type decoder struct{ problems []source.Problem }

// errorf adds a problem at a part of the file, and gives it back to be given a hint. Beyond
// maxProblems nothing is kept.
func (d *decoder) errorf(t tree, code, format string, args ...any) *source.Problem {
	if len(d.problems) >= maxProblems { // nobody reads more
		return &source.Problem{}
	}
	d.problems = append(d.problems, source.Errorf(t.pos, t.width, code, format, args...))
	return &d.problems[len(d.problems)-1]
}

// object hands each field of t to its reader. A field no reader is for, one
// that stands twice and one that is needed and missing are problems.
func (d *decoder) object(t tree, what string, readers map[string]func(tree), needed ...string) {
	if t.kind != "object" {
		d.errorf(t, "fleet-type", "expected %s, found a %s", what, t.kind)
		return
	}
	keys := make([]string, 0, len(readers))
	for k := range readers {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	seen := map[string]bool{}
	for _, f := range t.fields {
		at := tree{pos: f.pos, width: f.width}
		read, known := readers[f.key]
		switch {
		case !known:
			hint := "the keys of " + what + " are " + strings.Join(keys, ", ")
			if near := source.Nearest(f.key, keys); near != "" {
				hint = fmt.Sprintf("did you mean %q?", near)
			}
			d.errorf(at, "fleet-key", "%s has no key %q", what, f.key).Hint = hint
		case seen[f.key]:
			d.errorf(at, "fleet-key", "the key %q stands twice", f.key).Hint = "leave one"
		default:
			seen[f.key] = true
			read(f.value)
		}
	}
	for _, k := range needed {
		if !seen[k] {
			d.errorf(t, "fleet-key", "%s needs the key %q", what, k)
		}
	}
}

// list are the items of a list; none, with a problem, where it is no list or has too many.
func (d *decoder) list(t tree, what string, most int) []tree {
	if t.kind != "list" {
		d.errorf(t, "fleet-type", "expected a list of %s, found a %s", what, t.kind)
	}
	if len(t.items) > most {
		d.errorf(t, "fleet-size", "there are %d %s in this list, more than the %d that it may have", len(t.items), what, most)
		return nil
	}
	return t.items
}

// text is a text, "" with a problem where it is none.
func (d *decoder) text(t tree, what string) string {
	if t.kind != "text" {
		d.errorf(t, "fleet-type", "expected %s as a text, found a %s", what, t.kind)
	}
	return t.text
}

// service reads where the service of ours is, which hosts may always reach.
func (d *decoder) service(t tree, s *Service) {
	d.object(t, "the service", map[string]func(tree){
		"addresses": func(t tree) { s.Addresses = d.addresses(t) },
		"port": func(t tree) {
			n, err := strconv.Atoi(t.text)
			if t.kind != "number" || err != nil || n < 1 || n > 65535 {
				d.errorf(t, "fleet-type", "expected a port").Hint = "a port is a number from 1 to 65535"
				return
			}
			s.Port = n
		},
	}, "addresses", "port")
}

// interfaceName is what the kernel takes as an interface's name (IFNAMSIZ), without what our
// texts could not hold.
var interfaceName = regexp.MustCompile(`^[A-Za-z0-9._:@-]{1,15}$`)

// InterfaceName says that a name may be an interface's: the kernel takes more, but some of
// that means something else to its tools.
func InterfaceName(name string) bool {
	return interfaceName.MatchString(name) && name != "." && name != ".."
}

// hostName is the form of a host's name: that of names in DNS.
var hostName = regexp.MustCompile(`^[a-z0-9]([a-z0-9.-]*[a-z0-9])?$`)

// host reads one host. What is wrong with it is told, and the rest of it is read all the same.
func (d *decoder) host(t tree) *Host {
	h := &Host{Dialect: "nft", Interfaces: []Interface{}, Pos: t.pos}
	d.object(t, "a host", map[string]func(tree){
		"name": func(t tree) {
			h.Name, h.Pos = d.text(t, "the host's name"), t.pos
			if t.kind == "text" && (!hostName.MatchString(h.Name) || len(h.Name) > 253) {
				d.errorf(t, "fleet-name", "%q is not a host's name",
					h.Name).Hint = "a host's name is made of small letters, digits, hyphens and dots"
			}
		},
		"roles": func(t tree) {
			for _, item := range d.list(t, "roles", maxRoles) {
				role := d.text(item, "a role")
				if slices.Contains(h.Roles, role) {
					d.errorf(item, "fleet-role", "the role %q stands twice", role).Hint = "leave one"
					continue
				}
				h.Roles, h.RolePos = append(h.Roles, role), append(h.RolePos, item.pos)
			}
			if t.kind == "list" && len(t.items) == 0 {
				d.errorf(t, "fleet-role", "a host has at least one role").Hint = "name the role whose rules it is to get"
			}
		},
		"dialect": func(t tree) {
			h.Dialect = d.text(t, "the host's dialect")
			if t.kind == "text" && !slices.Contains(Dialects, h.Dialect) {
				d.errorf(t, "fleet-dialect", "%q is not a dialect", h.Dialect).Hint = "the dialects are " + strings.Join(Dialects, ", ")
			}
		},
		"own_console": func(t tree) { h.OwnConsole = d.yes(t) },
		"interfaces": func(t tree) {
			for _, item := range d.list(t, "interfaces", maxInterfaces) {
				i := d.iface(item)
				if slices.ContainsFunc(h.Interfaces, func(j Interface) bool { return j.Name == i.Name && i.Name != "" }) {
					d.errorf(item, "fleet-interface", "the interface %q stands twice",
						i.Name).Hint = "give all of its addresses in one place"
				}
				h.Interfaces = append(h.Interfaces, i)
			}
		},
		"seen_as":  func(t tree) { h.SeenAs = d.addresses(t) },
		"floating": func(t tree) { h.Floating = d.addresses(t) },
		"instance": func(t tree) { h.Instance = d.instance(t) },
		"knowingly": func(t tree) {
			for _, item := range d.list(t, "acceptances", maxRoles) {
				a := Acceptance{Pos: item.pos}
				d.object(item, "an acceptance", map[string]func(tree){
					"code":    func(t tree) { a.Code, a.Pos = d.text(t, "a warning's code"), t.pos },
					"because": func(t tree) { a.Because = d.text(t, "a reason") },
				}, "code", "because")
				h.Knowingly = append(h.Knowingly, a)
			}
		},
	}, "name", "roles", "interfaces")
	return h
}

// yes is true or false, false with a problem where it is neither.
func (d *decoder) yes(t tree) bool {
	if t.kind != "boolean" {
		d.errorf(t, "fleet-type", "expected true or false, found a %s", t.kind)
	}
	return t.yes
}

// instance reads which instance of a cloud a host is.
func (d *decoder) instance(t tree) *Instance {
	i := &Instance{}
	word := func(what string, into *string) func(tree) {
		return func(t tree) {
			if *into = d.text(t, what); t.kind == "text" && t.text == "" {
				d.errorf(t, "fleet-type", "expected %s, found nothing", what)
			}
		}
	}
	d.object(t, "an instance", map[string]func(tree){
		"cloud": word("the cloud's name", &i.Cloud),
		"id":    word("its name in the cloud", &i.ID),
		"labels": func(t tree) {
			if t.kind != "object" {
				d.errorf(t, "fleet-type", "expected labels by their keys, found a %s", t.kind)
			}
			if len(t.fields) > maxLabels {
				d.errorf(t, "fleet-size", "an instance has up to %d labels, this one %d", maxLabels, len(t.fields))
				return
			}
			for _, f := range t.fields {
				if _, twice := i.Labels[f.key]; twice {
					d.errorf(tree{pos: f.pos, width: f.width}, "fleet-key", "the key %q stands twice", f.key).Hint = "leave one"
				}
				if i.Labels == nil {
					i.Labels = map[string]string{}
				}
				i.Labels[f.key] = d.text(f.value, "a label's value")
			}
		},
	}, "cloud", "id")
	return i
}

// iface reads an interface with its addresses, and what it says of where they come from.
func (d *decoder) iface(t tree) (i Interface) {
	i.Addresses = []netip.Prefix{}
	var within tree
	d.object(t, "an interface", map[string]func(tree){
		"name": func(t tree) {
			i.Name, i.Pos = d.text(t, "the interface's name"), t.pos
			if t.kind == "text" && !InterfaceName(i.Name) {
				d.errorf(t, "fleet-interface", "%q is not an interface's name",
					i.Name).Hint = "it has at most 15 characters: letters, digits and . _ : @ -"
			}
		},
		"addresses": func(t tree) {
			for _, item := range d.list(t, "addresses", maxAddresses) {
				s := d.text(item, "an address")
				p, err := netip.ParsePrefix(s)
				if a, errAddr := netip.ParseAddr(s); errAddr == nil && a.Zone() == "" {
					p, err = netip.PrefixFrom(a, a.BitLen()), nil
				}
				if err != nil || !Unicast(p.Addr()) {
					d.notAddress(item, s)
					continue
				}
				i.Addresses = append(i.Addresses, p)
			}
		},
		"dynamic": func(t tree) { i.Dynamic = d.yes(t) },
		"within":  func(t tree) { within = t; i.Within = d.prefixes(t) },
		"segment": func(t tree) { i.Segment, i.SegmentPos = d.text(t, "a segment's name"), t.pos },
	}, "name", "addresses")
	if i.Within != nil && !i.Dynamic {
		d.errorf(within, "fleet-key", "only a dynamic interface has a `within`").Hint = "say \"dynamic\": true, or leave it out"
	}
	return i
}

// prefixes are networks that are written with the length of their prefixes.
func (d *decoder) prefixes(t tree) (out []netip.Prefix) {
	for _, item := range d.list(t, "networks", maxAddresses) {
		s := d.text(item, "a network")
		p, err := netip.ParsePrefix(s)
		if err != nil || p != p.Masked() {
			d.errorf(item, "fleet-address", "%q is not a network",
				s).Hint = "write 10.40.0.0/16 or fd40::/64, with no bit set behind the prefix"
			continue
		}
		out = append(out, p)
	}
	return out
}

// addresses are addresses without a prefix length; those that no host can have are told.
func (d *decoder) addresses(t tree) (out []netip.Addr) {
	for _, item := range d.list(t, "addresses", maxAddresses) {
		s := d.text(item, "an address")
		a, err := netip.ParseAddr(s)
		if err != nil || !Unicast(a) {
			d.notAddress(item, s)
			continue
		}
		out = append(out, a)
	}
	return out
}

// notAddress says of a text that it is no address, and how one is written. Of what is no text
// that was said already.
func (d *decoder) notAddress(t tree, s string) {
	if t.kind == "text" {
		d.errorf(t, "fleet-address", "%q is not an address of a host",
			s).Hint = "write 203.0.113.70/28 or 2001:db8:1::70/64, with the length of the network's prefix on an interface"
	}
}

// duplicates reports hosts, addresses and instances that stand twice.
func (d *decoder) duplicates(fl *Fleet) {
	names := map[string]*Host{}
	owners := map[netip.Addr]*Host{}
	instances := map[[2]string]*Host{}
	at := func(h *Host) tree { return tree{pos: h.Pos, width: len(h.Name) + 2} }
	for _, h := range fl.Hosts {
		if other := names[h.Name]; other != nil && h.Name != "" {
			d.errorf(at(h), "fleet-twice", "the host %q stands twice", h.Name).Hint = "the other is at " + other.Pos.String()
		}
		names[h.Name] = h
		if i := h.Instance; i != nil && i.ID != "" {
			key := [2]string{i.Cloud, i.ID}
			if other := instances[key]; other != nil {
				d.errorf(at(h), "fleet-twice", "the instance %s of %s is also %s's", i.ID, i.Cloud,
					other.Name).Hint = "an instance is one host; " + other.Name + " is at " + other.Pos.String()
			}
			instances[key] = h
		}
		for _, i := range h.Interfaces {
			for _, p := range i.Addresses {
				if other := owners[p.Addr()]; other != nil {
					d.errorf(at(h), "fleet-twice", "the address %s of %s is also %s's", p.Addr(), h.Name, other.Name).Hint =
						"an address belongs to one interface of one host, unless it is `floating`; " + other.Name + " is at " +
							other.Pos.String()
				}
				owners[p.Addr()] = h
			}
		}
	}
	for _, h := range fl.Hosts {
		for _, a := range h.Floating {
			if other := owners[a]; other != nil {
				d.errorf(at(h), "fleet-twice", "the address %s floats on %s and stands on an interface of %s", a, h.Name, other.Name).Hint =
					"write it as `floating` on every host that can have it, and on no interface"
			}
		}
	}
}
