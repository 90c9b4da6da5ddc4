package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/adopt"
	"yellowfence.example/yfence/core/check"
	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/source"
	"yellowfence.example/yfence/internal/limits"
	"yellowfence.example/yfence/internal/live"
)

// adopted is what adopt gives as JSON.
type adopted struct {
	Version  int              `json:"version"`
	Policy   string           `json:"policy"`
	Fleet    *fleet.Fleet     `json:"fleet"`
	Roles    []adopt.Role     `json:"roles"`
	Left     []adopt.Left     `json:"left"`
	Problems []source.Problem `json:"problems"`
}

// adoptCommand makes `yfence adopt`, which works on files alone: dumps of hosts and a fleet
// file go in, a policy and the fleet with its roles come out.
func (a *app) adoptCommand() *cobra.Command {
	var dumps []string
	var name, into string
	c := &cobra.Command{
		Use:   "adopt --fleet FILE --dump HOST=FILE…",
		Short: "Make a first policy of the rules that hosts have in force",
		Long: `Adopt reads what hosts have in force, whoever wrote it, and says it as a policy: hosts with
like rules become roles, addresses become roles and segments by the fleet file, ports services.
The policy is held against the dumps for every packet. What it does not say, or says
otherwise, stands at its end, each with the rule that does it and where that stands; then the command
exits with status 1.

A dump is what drift takes: of one host there may be several, one --dump for each. A report of
` + "`yfence report --print`" + ` says itself whose it is.`,
		Example: "  yfence adopt --fleet fleet.json --dump logbook-01=logbook.nft --dump charts-02=v4.rules --dump charts-02=v6.rules " +
			"--into policy",
		Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			r, err := a.adopt(name, dumps)
			if err != nil {
				return err
			}
			if into != "" {
				if err := adoptInto(into, r); err != nil {
					return err
				}
				a.say("wrote %s and %s", filepath.Join(into, "adopted.fence"), filepath.Join(into, "fleet.json"))
			}
			if err := a.print(r, func(w io.Writer) {
				if into == "" {
					_, _ = fmt.Fprint(w, r.Policy)
				}
			}); err != nil {
				return err
			}
			hosts := 0
			for _, role := range r.Roles {
				hosts += len(role.Hosts)
			}
			a.say("%s in %s; %s left", plural(hosts, "host"), plural(len(r.Roles), "role"), plural(len(r.Left), "difference"))
			if len(r.Problems) > 0 {
				a.say("yfence check has something to say of it: %s", check.Summary(r.Problems))
			}
			if len(r.Left) > 0 {
				return errFound
			}
			return nil
		},
	}
	c.Flags().BoolVar(&a.complete, "complete", false, "the dumps are all there is: no rules of iptables for the other family")
	c.Flags().StringArrayVar(&dumps, "dump", nil, "[HOST=]FILE with a report or listings of what the host has in force")
	c.Flags().StringVar(&name, "name", "adopted", "the policy's name")
	c.Flags().StringVar(&into, "into", "", "a folder to write the policy to, and the fleet with its roles")
	_ = c.MarkFlagDirname("into")
	return c
}

// adopt makes the policy of dumps, each named HOST=FILE.
func (a *app) adopt(name string, dumps []string) (r adopted, err error) {
	if a.fleetFile == "" || dumps == nil {
		return r, errors.New("say which hosts there are, and what they have in force: --fleet FILE --dump HOST=FILE")
	}
	if !fence.IsName(name) {
		return r, fmt.Errorf("%q is no name of a policy: small letters, digits and hyphens", name)
	}
	fl, texts, problems, err := a.fleet()
	if err != nil {
		return r, err
	}
	if source.HasErrors(problems) {
		a.explain(a.errOut, problems, []check.Source{texts})
		return r, told(problems)
	}
	files := map[string][]string{}
	var order []string
	for _, d := range dumps {
		host, file, err := a.whose(d)
		if err != nil {
			return r, err
		}
		if files[host] == nil {
			order = append(order, host)
		}
		files[host] = append(files[host], file)
	}
	var hosts []adopt.Host
	for _, h := range order {
		if fl.Host(h) == nil {
			return r, unknownHost(h, fl.Names())
		}
		f, err := a.inForce(files[h])
		if err != nil {
			return r, err
		}
		hosts = append(hosts, adopt.Host{Name: h, Read: func(sp *packet.Space) (*kernel.Ruleset, error) { return live.Read(sp, f) }})
	}
	now := time.Now().Unix()
	made, err := adopt.Policy(fl, name, hosts, now)
	if err != nil {
		return r, err
	}
	var found []source.Problem
	if err := within(limits.Cases, "checking what was adopted", func(b packet.Budget) (err error) {
		_, found, err = check.PolicyWithin(b, []check.Source{{Name: "adopted.fence", Text: made.Text}}, made.Fleet, now)
		return err
	}); err != nil {
		return r, err
	}
	return adopted{Version: api.Version, Policy: made.Text, Fleet: made.Fleet, Roles: made.Roles, Left: made.Left, Problems: found}, nil
}

// named takes HOST=FILE apart; named is false, and the file all of it, where no host stands before.
func (a *app) named(dump string) (host, file string, named bool) {
	if host, file, ok := strings.Cut(dump, "="); ok && host != "" && file != "" && !strings.Contains(host, "/") {
		return host, file, true
	}
	return "", dump, false
}

// whose tells whose a dump is: by what stands before its name, or by what it says itself.
func (a *app) whose(dump string) (host, file string, err error) {
	if host, file, named := a.named(dump); named {
		return host, file, nil
	}
	data, err := a.readFile(dump)
	if err != nil {
		return "", "", err
	}
	var r struct {
		Host string `json:"host"`
	}
	if json.Unmarshal(data, &r) != nil || r.Host == "" || dump == "-" {
		return "", "", fmt.Errorf("%s does not say whose it is: write --dump HOST=%s", dump, dump)
	}
	return r.Host, dump, nil
}

// adoptInto writes the policy and its fleet to a folder, whole or not at all: what is there
// already is not replaced.
func adoptInto(dir string, r adopted) error {
	fleetText, err := fleet.Write(r.Fleet, fleet.JSON)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	files := map[string][]byte{"adopted.fence": []byte(r.Policy), "fleet.json": fleetText}
	for _, name := range slices.Sorted(maps.Keys(files)) { // one message, and always the same
		if _, err := os.Lstat(filepath.Join(dir, name)); err == nil {
			return fmt.Errorf("%s is there already; name another folder", filepath.Join(dir, name))
		}
	}
	for name, text := range files {
		if err := os.WriteFile(filepath.Join(dir, name), text, 0o644); err != nil {
			return err
		}
	}
	return nil
}
