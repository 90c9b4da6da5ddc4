package simhost

import (
	"bytes"
	"fmt"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"

	"yellowfence.example/yfence/core/dialect/portable"
)

// Host is such a host; it keeps what it has taken in a folder. Its methods are to be called
// in its network namespace.
type Host struct{ Dir string }

// firstGroup is the group of users of the first program that rules name.
const firstGroup = 61000

// Take has a list be in force in place of the one before. A list that is wrong changes nothing.
func (d *Host) Take(text []byte) error {
	doc, err := portable.Parse(text)
	if err != nil {
		return err
	}
	if doc.Interfaces, err = attached(); err != nil {
		return err
	}
	script, err := rules(doc, programs(doc))
	if err != nil {
		return err
	}
	load := exec.Command("nft", "-f", "-")
	load.Stdin = strings.NewReader(script)
	if out, err := load.CombinedOutput(); err != nil {
		return fmt.Errorf("the list cannot be put in force: %w\n%s", err, out)
	}
	if err := os.MkdirAll(d.Dir, 0o755); err != nil {
		return err
	}
	return os.WriteFile(d.file(), []byte(doc.String()), 0o644)
}

// file is where the list is kept that is in force, for the next start.
func (d *Host) file() string { return filepath.Join(d.Dir, "in-force.json") }

// Attach finds out anew which networks the interfaces are attached to.
func (d *Host) Attach() error {
	doc, err := d.Dump()
	if err != nil {
		return err
	}
	return d.Take([]byte(doc.String()))
}

// Dump is what is in force.
func (d *Host) Dump() (*portable.Document, error) {
	text, err := os.ReadFile(d.file())
	if err != nil {
		return nil, err
	}
	return portable.Parse(text)
}

// ByHand changes the list in force as somebody does who sits before the host.
func (d *Host) ByHand(change func(*portable.Document)) error {
	doc, err := d.Dump()
	if err != nil {
		return err
	}
	change(doc)
	return d.Take([]byte(doc.String()))
}

// Command is a program of the host's, run so that its system knows which it is. path is what
// the rules call it.
func (d *Host) Command(path string, name string, args ...string) (*exec.Cmd, error) {
	doc, err := d.Dump()
	if err != nil {
		return nil, err
	}
	cmd := exec.Command(name, args...)
	if i := slices.Index(programs(doc), path); i >= 0 {
		cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Gid: uint32(firstGroup + i), NoSetGroups: true}}
	}
	return cmd, nil
}

// attached are the interfaces of the namespace with their addresses.
func attached() (out []portable.Interface, err error) {
	all, err := net.Interfaces()
	if err != nil {
		return nil, err
	}
	for _, i := range all {
		if i.Flags&net.FlagLoopback != 0 {
			continue
		}
		one := portable.Interface{Name: i.Name, Addresses: []netip.Prefix{}}
		addresses, err := i.Addrs()
		if err != nil {
			return nil, err
		}
		for _, a := range addresses {
			p, err := netip.ParsePrefix(a.String())
			if err == nil && !p.Addr().IsLinkLocalUnicast() {
				one.Addresses = append(one.Addresses, p)
			}
		}
		out = append(out, one)
	}
	return out, nil
}

// programs are those that a list names, in the order in which it does.
func programs(d *portable.Document) (paths []string) {
	for _, l := range []*portable.List{d.Inbound, d.Outbound, d.Forwarded} {
		if l == nil {
			continue
		}
		for _, r := range l.Rules {
			for _, c := range append([]portable.Condition{r.Condition}, r.Unless...) {
				for _, p := range c.Programs {
					if !slices.Contains(paths, p) {
						paths = append(paths, p)
					}
				}
			}
		}
	}
	return paths
}

// rules makes rules for the kernel of a list: for each a chain, which is left where the
// rule does not hold.
func rules(d *portable.Document, programs []string) (string, error) {
	var b bytes.Buffer
	b.WriteString("table inet simhost\ndelete table inet simhost\ntable inet simhost {\n")
	n := 0
	for _, l := range []struct {
		hook string
		*portable.List
	}{{"input", d.Inbound}, {"output", d.Outbound}, {"forward", d.Forwarded}} {
		if l.List == nil {
			continue
		}
		var base bytes.Buffer
		for _, r := range l.Rules {
			chain := fmt.Sprintf("rule-%d", n)
			n++
			fmt.Fprintf(&b, "\tchain %s {\n", chain)
			for _, u := range r.Unless {
				for _, m := range matches(d, u, l.hook, programs) {
					fmt.Fprintf(&b, "\t\t%s return\n", m)
				}
			}
			if r.Log {
				b.WriteString("\t\tlog prefix \"simhost: \"\n")
			}
			switch r.Does {
			case "admit":
				b.WriteString("\t\taccept\n")
			case "drop":
				b.WriteString("\t\tdrop\n")
			case "reject":
				b.WriteString("\t\tmeta l4proto tcp reject with tcp reset\n\t\treject with icmpx port-unreachable\n")
			default:
				return "", fmt.Errorf("a rule does %q", r.Does)
			}
			b.WriteString("\t}\n")
			for _, m := range matches(d, r.Condition, l.hook, programs) {
				fmt.Fprintf(&base, "\t\t%s jump %s\n", m, chain)
			}
		}
		policy := "accept"
		if l.Otherwise == "drop" {
			policy = "drop"
		}
		fmt.Fprintf(&b, "\tchain on-%s {\n\t\ttype filter hook %s priority filter; policy %s;\n%s\t}\n", l.hook, l.hook, policy,
			base.String())
	}
	b.WriteString("}\n")
	return b.String(), nil
}

// matches are a condition as the kernel's matches: one for each service and family that its
// addresses ask for. The condition holds where one of them does.
func matches(d *portable.Document, c portable.Condition, hook string, programs []string) (out []string) {
	common := ""
	iface := "iifname"
	if hook == "output" {
		iface = "oifname"
	}
	quoted := func(names []string) string { return `"` + strings.Join(names, `", "`) + `"` }
	if c.Networks != nil {
		on := d.On(c.Networks)
		if len(on) == 0 {
			return nil // it is attached to none of them
		}
		common += iface + " { " + quoted(on) + " } "
	}
	if on := d.On(c.NotNetworks); len(on) > 0 {
		common += iface + " != { " + quoted(on) + " } "
	}
	if c.States != nil {
		common += "ct state { " + strings.Join(c.States, ", ") + " } "
	}
	if c.Users != nil {
		common += "meta skuid { " + quoted(c.Users) + " } "
	}
	if c.Programs != nil {
		var groups []string
		for _, p := range c.Programs {
			groups = append(groups, fmt.Sprint(firstGroup+slices.Index(programs, p)))
		}
		common += "meta skgid { " + strings.Join(groups, ", ") + " } "
	}
	if c.Since != nil {
		common += fmt.Sprintf("meta time >= %d ", c.Since.Unix())
	}
	if c.Until != nil {
		common += fmt.Sprintf("meta time < %d ", c.Until.Unix())
	}
	services := c.Services
	if services == nil {
		services = []portable.Service{{}}
	}
	for _, family := range []string{"ipv4", "ipv6"} {
		from, fromAny := of(family, c.From)
		to, toAny := of(family, c.To)
		if !fromAny && from == nil || !toAny && to == nil {
			continue
		}
		ip := map[string]string{"ipv4": "ip", "ipv6": "ip6"}[family]
		addresses := "meta nfproto " + family + " "
		if from != nil {
			addresses += fmt.Sprintf("%s saddr { %s } ", ip, strings.Join(from, ", "))
		}
		if to != nil {
			addresses += fmt.Sprintf("%s daddr { %s } ", ip, strings.Join(to, ", "))
		}
		for _, v := range services {
			if v.Family != "" && v.Family != family {
				continue
			}
			m := addresses
			if v.Protocol != "" {
				m += "meta l4proto " + map[bool]string{true: "58", false: v.Protocol}[v.Protocol == "icmpv6"] + " "
			}
			if v.Ports != "" {
				m += "th dport " + v.Ports + " "
			}
			if v.Type != nil {
				m += fmt.Sprintf("@th,0,8 %d ", *v.Type)
			}
			if v.Code != nil {
				m += fmt.Sprintf("@th,8,8 %d ", *v.Code)
			}
			out = append(out, m+common)
		}
	}
	return out
}

// of are the prefixes of a family; any says that no address is asked for.
func of(family string, prefixes []string) (out []string, any bool) {
	for _, p := range prefixes {
		if prefix, err := netip.ParsePrefix(p); err == nil && prefix.Addr().Is4() == (family == "ipv4") {
			out = append(out, p)
		}
	}
	return out, prefixes == nil
}
