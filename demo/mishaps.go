package main

import (
	"fmt"
	"slices"
	"strings"

	"yellowfence.example/yfence/internal/testbed"
)

// cutOff is the host whose mishap cuts it off from the service too.
const cutOff = "broker-02"

// legacy is the host whose rules are those of legacy iptables. What was there
// before us is what somebody once wrote by hand.
const legacy = "charts-02"

const oldRules = `*filter
:INPUT ACCEPT [0:0]
-A INPUT -m state --state RELATED,ESTABLISHED -j ACCEPT
-A INPUT -p tcp --dport 22 -j ACCEPT
-A INPUT -p tcp --dport 80 -j ACCEPT
-A INPUT -p tcp -j DROP
COMMIT
`

// mishaps are what people do to hosts by hand.
var mishaps = []struct {
	host, what string
	happen     func(*testbed.Namespace) error
}{
	{"logbook-01", "somebody opens the database to the whole hill segment, by hand", func(ns *testbed.Namespace) error {
		_, err := ns.Run(nil, "nft", "insert", "rule", "inet", "yellowfence", "inbound", "ip", "saddr", "10.60.0.0/16", "tcp", "dport",
			"5432", "accept")
		return err
	}},
	{cutOff, "somebody empties the inbound rules while the chain's policy stays drop", func(ns *testbed.Namespace) error {
		_, err := ns.Run(nil, "nft", "flush", "chain", "inet", "yellowfence", "inbound")
		return err
	}},
	{legacy, "somebody lets a supplier log in, with the tools the host has always had", func(ns *testbed.Namespace) error {
		_, err := ns.Run(nil, "iptables-legacy", "-I", "INPUT", "-s", "192.0.2.64/28", "-p", "tcp", "--dport", "22", "-j", "ACCEPT")
		return err
	}},
	{"watch-01", "somebody tidies the rules: another order, other comments, the same meaning", rearrange},
}

// rearrange turns the order of a host's inbound allows round and comments them anew.
func rearrange(ns *testbed.Namespace) error {
	listing, err := ns.Run(nil, "nft", "list", "table", "inet", "yellowfence")
	if err != nil {
		return err
	}
	lines := strings.Split(string(listing), "\n")
	first, last := -1, -1
	for i, line := range lines {
		if strings.Contains(line, `comment "allow `) {
			if first < 0 {
				first = i
			}
			last = i
		} else if first >= 0 {
			break
		}
	}
	if first < 0 || first == last {
		return fmt.Errorf("there is nothing to rearrange in\n%s", listing)
	}
	slices.Reverse(lines[first : last+1])
	text := strings.ReplaceAll(strings.Join(lines, "\n"), `comment "allow `, `comment "see wiki: `)
	return ns.Load("delete table inet yellowfence\n" + text)
}
