package inventory

import (
	"context"
	"os"
	"os/exec"
	"strings"

	"golang.org/x/sys/unix"

	"yellowfence.example/yfence/api"
)

// About is what a host says of itself before anything is put in force: which filters
// it has tools for, their versions, and what it cannot do.
func About(ctx context.Context) (r api.EnrolRequest) {
	r.Tools = Versions(ctx)
	r.Filter = []string{}
	for filter, probe := range map[string][]string{
		"nft": {"nft", "list", "tables"}, "iptables-nft": {"iptables-nft-save"},
	} {
		if _, err := Run(ctx, nil, probe[0], probe[1:]...); err == nil {
			r.Filter = append(r.Filter, filter)
		}
	}
	if names, err := os.ReadFile("/proc/thread-self/net/ip_tables_names"); err == nil && len(names) > 0 {
		r.Filter = append(r.Filter, "iptables-legacy")
	}
	for name, lacks := range map[string]string{
		"ipset":     "rules for iptables with large sets: ipset is not installed",
		"conntrack": "cutting connections: conntrack is not installed",
		"ss":        "telling what listens: ss is not installed",
	} {
		if _, err := exec.LookPath(name); err != nil {
			r.Lacks = append(r.Lacks, lacks)
		}
	}
	if controlGroups() == nil {
		r.Lacks = append(r.Lacks, "rules for units: control groups of version 2 are not mounted")
	}
	return r
}

// Versions are those of the kernel and its tools.
func Versions(ctx context.Context) map[string]string {
	out := map[string]string{}
	for _, args := range [][]string{{"nft", "--version"}, {"iptables", "--version"}, {"ipset", "--version"}} {
		if _, err := exec.LookPath(args[0]); err != nil {
			continue
		}
		if said, err := Run(ctx, nil, args[0], args[1:]...); err == nil {
			first, _, _ := strings.Cut(strings.TrimSpace(string(said)), "\n")
			out[args[0]] = first
		}
	}
	var u unix.Utsname
	if unix.Uname(&u) == nil {
		out["kernel"] = unix.ByteSliceToString(u.Release[:])
	}
	return out
}
