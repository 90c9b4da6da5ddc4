// Command yfence-sim has stand-ins for what Yellow Fence works with: a cloud with
// security groups, a host whose filter is another system's, and an identity provider.
package main

import (
	"fmt"
	"net"
	"net/http"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"yellowfence.example/yfence/core/dialect/group"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/internal/dunlin"
	"yellowfence.example/yfence/internal/testbed"
)

func main() {
	root := &cobra.Command{Use: "yfence-sim", Short: "Stand-ins for what Yellow Fence works with", SilenceUsage: true, SilenceErrors: true}
	root.AddCommand(cloud(), host(), idp())
	if err := root.Execute(); err != nil {
		fmt.Fprintln(os.Stderr, "yfence-sim:", err)
		os.Exit(2)
	}
}

// keepGate has a gate let through what is in force for an instance.
func keepGate(sim *dunlin.Cloud, instance string, gate *testbed.Namespace) {
	for last := ""; ; time.Sleep(100 * time.Millisecond) {
		rules := dunlin.EnforcerRules(sim.Document(), instance, testbed.EnforcerUp, testbed.EnforcerDown)
		if rules == last {
			continue
		}
		if err := gate.Load(rules); err != nil {
			fmt.Fprintf(os.Stderr, "yfence-sim: the gate of %s: %v\n", instance, err)
		}
		last = rules
	}
}

func cloud() *cobra.Command {
	var listen, tokenFile, fleetFile string
	var gates map[string]string
	o := dunlin.Options{Name: "dunlin"}
	c := &cobra.Command{
		Use:   "cloud",
		Short: "The Dunlin cloud: instances, security groups, and who is in which",
		Long: `Cloud serves a small cloud on an address, as docs/dunlin.md says. With a fleet file its
instances of this cloud are there from the beginning, in no group.`,
		Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			token, err := os.ReadFile(tokenFile)
			if err != nil {
				return fmt.Errorf("the account needs a token: --token-file FILE: %w", err)
			}
			if o.Token = strings.TrimSpace(string(token)); o.Token == "" {
				return fmt.Errorf("%s holds no token", tokenFile)
			}
			sim := dunlin.New(o)
			if fleetFile != "" {
				text, err := os.ReadFile(fleetFile)
				if err != nil {
					return err
				}
				fl, problems := fleet.Read(fleetFile, text)
				if len(problems) > 0 {
					return fmt.Errorf("%s:%d: %s", fleetFile, problems[0].Line, problems[0].Message)
				}
				for _, h := range fl.Hosts {
					if h.Instance != nil && h.Instance.Cloud == o.Name {
						sim.Start(dunlin.InstanceOf(h))
					}
				}
			}
			l, err := net.Listen("tcp", listen)
			if err != nil {
				return err
			}
			for instance, namespace := range gates {
				go keepGate(sim, instance, &testbed.Namespace{Name: namespace})
			}
			fmt.Fprintf(os.Stderr, "the cloud %s is at http://%s\n", o.Name, l.Addr())
			server := &http.Server{Handler: sim.Handler(), ReadHeaderTimeout: 10 * time.Second}
			return server.Serve(l)
		},
	}
	f := c.Flags()
	f.StringVar(&listen, "listen", "127.0.0.1:8490", "address and port")
	f.StringVar(&tokenFile, "token-file", "", "a file with the account's token")
	f.StringVar(&fleetFile, "fleet", "", "a fleet file, whose instances are there")
	f.StringToStringVar(&gates, "gate", nil,
		"INSTANCE=NAMESPACE: a network namespace that forwards between the interfaces outer and inner, where the instance's groups are "+
			"enforced on real packets")
	f.StringVar(&o.Name, "name", "dunlin", "the cloud's name, as the fleet file says it")
	f.StringVar(&o.Account, "account", "saltmarsh", "the account's name")
	f.DurationVar(&o.SoonAfter, "soon", 2*time.Second, "how long a change takes to be in force, at least")
	f.DurationVar(&o.LateAfter, "late", 10*time.Second, "and at most")
	f.IntVar(&o.PerSecond, "per-second", 20, "requests that an account may make; 0 is any number")
	o.Abilities = group.Abilities{RulesPerGroup: 60, GroupsPerInstance: 5, PeersPerRule: 40, GroupPeers: true}
	f.IntVar(&o.Abilities.RulesPerGroup, "rules-per-group", o.Abilities.RulesPerGroup, "in each direction")
	f.IntVar(&o.Abilities.GroupsPerInstance, "groups-per-instance", o.Abilities.GroupsPerInstance, "")
	f.IntVar(&o.Abilities.PeersPerRule, "peers-per-rule", o.Abilities.PeersPerRule, "")
	f.BoolVar(&o.Abilities.Ordered, "ordered", false, "the rules of a group are tried in order, and may refuse")
	f.BoolVar(&o.Abilities.GroupPeers, "group-peers", o.Abilities.GroupPeers, "a peer may be a group")
	return c
}
