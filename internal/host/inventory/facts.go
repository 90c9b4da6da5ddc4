package inventory

import (
	"context"
	"encoding/json"
	"fmt"
	"io/fs"
	"net/netip"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/listeners"
)

// Facts is what a report says besides the rules: what listens, which addresses
// the host has, whether it routes, and what is loaded when it starts. A tool that is
// missing or fails is told, and is not the same as one that has nothing to tell. root is where
// the host's files are.
func Facts(ctx context.Context, root string) *api.HostFacts {
	s := &api.HostFacts{Untold: map[string]string{}}
	out, err := Run(ctx, nil, "ss", "-H", "-ltunpe")
	if err == nil {
		var sockets []byte
		if sockets, err = Run(ctx, nil, "ss", "-H", "-ltun"); err == nil {
			s.Listeners = readListeners(string(out), string(sockets))
		}
	}
	if err != nil {
		s.Untold["listeners"] = err.Error()
	}
	s.Runs = runs()
	if out, err := Run(ctx, nil, "ip", "-j", "addr"); err != nil {
		s.Untold["interfaces"] = err.Error()
	} else if s.Interfaces, err = readInterfaces(out); err != nil {
		s.Untold["interfaces"] = err.Error()
	}
	for family, file := range map[string]string{"ipv4": "ipv4/ip_forward", "ipv6": "ipv6/conf/all/forwarding"} {
		if b, err := os.ReadFile("/proc/sys/net/" + file); err == nil && strings.TrimSpace(string(b)) == "1" {
			s.Routes = append(s.Routes, family)
		}
	}
	slices.Sort(s.Routes)
	s.Boot = boot(root)
	if len(s.Untold) == 0 {
		s.Untold = nil
	}
	return s
}

// How ss says which process a socket is of, and in which control group it runs.
var (
	ssUsers  = regexp.MustCompile(`users:\(\("((?:[^"\\]|\\.)*)",pid=(\d+)`)
	ssCgroup = regexp.MustCompile(`cgroup:(\S+)`)
)

// readListeners reads what ss -H -ltunpe prints: one socket a line. What a process calls
// itself stands in it as it is, line feeds too, so that only sockets count which the same
// listing without processes has.
func readListeners(text, without string) (out []listeners.Listener) {
	out = []listeners.Listener{}
	there := map[string]int{}
	for line := range strings.Lines(without) {
		if f := strings.Fields(line); len(f) >= 6 {
			there[strings.Join([]string{f[0], f[1], f[4], f[5]}, " ")]++
		}
	}
	for line := range strings.Lines(text) {
		f := strings.Fields(line)
		if len(f) < 6 || f[0] != "tcp" && f[0] != "udp" {
			continue
		}
		key := strings.Join([]string{f[0], f[1], f[4], f[5]}, " ")
		if there[key] == 0 {
			continue
		}
		there[key]--
		l := listeners.Listener{Protocol: f[0]}
		at := strings.LastIndexByte(f[4], ':')
		port, err := strconv.ParseUint(f[4][max(at, 0)+1:], 10, 16)
		if at < 0 || err != nil {
			continue // a socket without a port
		}
		l.Port = int(port)
		address, iface, _ := strings.Cut(strings.Trim(f[4][:at], "[]"), "%")
		l.Interface = strings.TrimSuffix(iface, "]")
		switch address = strings.Trim(address, "[]"); address {
		case "*":
			l.Address = "" // of both families
			if strings.Contains(line, "v6only:1") {
				l.Address = "::"
			}
		default:
			if _, err := netip.ParseAddr(address); err != nil {
				continue
			}
			l.Address = address
		}
		if f[0] == "udp" && f[5] != "0.0.0.0:*" && f[5] != "[::]:*" && f[5] != "*:*" {
			continue // it is connected, and listens to one peer
		}
		if u := ssUsers.FindStringSubmatch(line); u != nil {
			l.Process = u[1]
			l.Unit = unitOf(u[2])
		}
		if c := ssCgroup.FindStringSubmatch(line); c != nil && l.Unit == "" {
			l.Unit = unitIn(c[1])
		}
		if !slices.Contains(out, l) {
			out = append(out, l)
		}
	}
	return out
}

// runs are the units of services that run: those whose control group holds a process.
// It is nil where control groups cannot be seen.
func runs() (out []string) {
	for _, root := range controlGroups() {
		_ = filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
			if err != nil || !d.IsDir() || !strings.HasSuffix(d.Name(), ".service") {
				return nil
			}
			if events, err := os.ReadFile(filepath.Join(path, "cgroup.events")); err == nil &&
				strings.Contains(string(events), "populated 1") && !slices.Contains(out, d.Name()) {
				out = append(out, d.Name())
			}
			return fs.SkipDir
		})
		if out == nil {
			out = []string{}
		}
	}
	slices.Sort(out)
	return out
}

// unitOf is the unit that a process belongs to, by its control group; "" if none.
func unitOf(pid string) string {
	b, err := os.ReadFile(filepath.Join("/proc", pid, "cgroup"))
	if err != nil {
		return ""
	}
	for line := range strings.Lines(string(b)) {
		if _, path, ok := strings.Cut(strings.TrimSpace(line), "::"); ok {
			return unitIn(path)
		}
	}
	return ""
}

// unitIn is the innermost unit of a control group's path.
func unitIn(path string) string {
	parts := strings.Split(path, "/")
	for _, p := range slices.Backward(parts) {
		if strings.HasSuffix(p, ".service") || strings.HasSuffix(p, ".socket") {
			return p
		}
	}
	return ""
}

// readInterfaces reads what ip -j address lists.
func readInterfaces(text []byte) (out []api.SeenInterface, err error) {
	var all []struct {
		Name  string `json:"ifname"`
		State string `json:"operstate"`
		Flags []string
		Addr  []struct {
			Local  string `json:"local"`
			Length int    `json:"prefixlen"`
			Scope  string `json:"scope"`
		} `json:"addr_info"`
	}
	if err := json.Unmarshal(text, &all); err != nil {
		return nil, fmt.Errorf("what ip -j addr prints cannot be read: %w", err)
	}
	for _, i := range all {
		seen := api.SeenInterface{Name: i.Name, Up: slices.Contains(i.Flags, "UP"), Addresses: []netip.Prefix{}}
		for _, a := range i.Addr {
			at, err := netip.ParseAddr(a.Local)
			if p := netip.PrefixFrom(at, a.Length); err == nil && p.IsValid() && a.Scope == "global" {
				seen.Addresses = append(seen.Addresses, p)
			}
		}
		if i.Name != "lo" {
			out = append(out, seen)
		}
	}
	return out, nil
}

// loaders are who loads rules when a host starts: units of a distribution, and the
// files that they load.
var loaders = []struct {
	unit  string
	files map[string]string // by the kind of dump that they are like
}{
	{"nftables.service", map[string]string{"nft-text": "etc/nftables.conf"}},
	{"netfilter-persistent.service", map[string]string{"iptables-save": "etc/iptables/rules.v4",
		"ip6tables-save": "etc/iptables/rules.v6"}},
	{"iptables.service", map[string]string{"iptables-save": "etc/sysconfig/iptables"}},
	{"ip6tables.service", map[string]string{"ip6tables-save": "etc/sysconfig/ip6tables"}},
}

// BootUnit is our unit that loads what was kept.
const BootUnit = "yfence-boot.service"

// wants are the folders in which a unit is linked that starts by itself.
var wants = []string{"etc/systemd/system/*.wants", "lib/systemd/system/*.wants", "usr/lib/systemd/system/*.wants"}

// boot tells what is loaded when the host starts, below a root.
func boot(root string) *api.Boot {
	b := &api.Boot{}
	starts := func(unit string) bool {
		for _, dir := range wants {
			if found, _ := filepath.Glob(filepath.Join(root, dir, unit)); len(found) > 0 {
				return true
			}
		}
		return false
	}
	if _, err := os.Stat(filepath.Join(root, "run/systemd/system")); err != nil {
		b.Unknown = "systemd does not run here: who loads rules when the host starts is not known"
	}
	for _, l := range loaders {
		if !starts(l.unit) {
			continue
		}
		for kind, file := range l.files {
			if text, err := os.ReadFile(filepath.Join(root, file)); err == nil {
				b.Loads = append(b.Loads, api.BootFile{By: l.unit, File: "/" + file, Kind: kind, Hash: Sum(text)})
			}
		}
	}
	slices.SortFunc(b.Loads, func(x, y api.BootFile) int { return strings.Compare(x.File, y.File) })
	b.Ours = starts(BootUnit)
	return b
}
