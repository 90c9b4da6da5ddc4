package cli

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/sync/errgroup"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/dialect"
	"yellowfence.example/yfence/core/dialect/forms"
	"yellowfence.example/yfence/core/dialect/group"
	"yellowfence.example/yfence/core/dialect/iptables"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/core/source"
	"yellowfence.example/yfence/internal/limits"
)

// hostRules is the rules of one host as `rules --output json` gives them.
type hostRules struct {
	Host    string `json:"host"`
	Dialect string `json:"dialect"`
	Text    string `json:"text"`
	// Files are what is loaded, in this order.
	Files []api.File `json:"files"`
}

// rulesCommand makes `yfence rules`, of files or of the service's policy.
func (a *app) rulesCommand() *cobra.Command {
	var all, prove bool
	var into, kind string
	c := &cobra.Command{
		Use:     "rules HOST…|--all",
		Short:   "Write the rules of hosts",
		Example: "  yfence rules logbook-01 --policy saltmarsh --fleet saltmarsh/fleet.json\n  yfence rules --all --into rules/",
		RunE: func(cmd *cobra.Command, args []string) error {
			if all == (len(args) > 0) {
				return errors.New("name hosts, or say --all")
			}
			if prove && !a.onFiles() {
				return errors.New("--prove goes with --policy DIR and --fleet FILE: it holds the rules against what the policy means")
			}
			if kind != "" && kind != groupKind && forms.Writing(dialect.Kind(kind)) == nil {
				return fmt.Errorf("%q is no kind of rules: there are %s", kind, strings.Join(ruleKinds, ", "))
			}
			if kind != "" && !a.onFiles() {
				return errors.New("--dialect goes with --policy DIR and --fleet FILE: the service gives each host's own")
			}
			if into != "" {
				return a.rulesInto(cmd, into, args, kind, prove)
			}
			list, err := a.rulesOf(cmd, args, kind, prove)
			if err != nil {
				return err
			}
			return a.print(map[string]any{"version": api.Version, "hosts": list}, func(w io.Writer) {
				for i, r := range list {
					if i > 0 {
						_, _ = fmt.Fprintln(w)
					}
					_, _ = fmt.Fprint(w, r.Text)
				}
			})
		},
	}
	c.Flags().BoolVar(&all, "all", false, "all hosts of the fleet")
	c.Flags().StringVar(&into, "into", "",
		"a folder to write files to, HOST.nft, or HOST.ipset, HOST.iptables and HOST.ip6tables with HOST.load, a script that loads them")
	c.Flags().StringVar(&kind, "dialect", "", "these rules alone, whatever the host's filter is: "+strings.Join(ruleKinds, ", "))
	c.Flags().BoolVar(&prove, "prove", false, "read the rules back and compare them with the policy for every packet")
	_ = c.MarkFlagDirname("into")
	return c
}

// rulesOf makes the rules of hosts, of all if none is named, and proves them if it is asked to.
func (a *app) rulesOf(cmd *cobra.Command, names []string, kind string, prove bool) (list []hostRules, err error) {
	if !a.onFiles() {
		svc, err := a.service()
		if err != nil {
			return nil, err
		}
		if names == nil {
			fl, err := svc.Fleet(cmd.Context())
			if err != nil {
				return nil, err
			}
			for _, h := range fl.Hosts {
				names = append(names, h.Name)
			}
		}
		for _, name := range names {
			r, err := svc.Rules(cmd.Context(), name)
			if err != nil {
				return nil, err
			}
			list = append(list, hostRules{r.Host, r.Dialect, r.Text, r.Files})
		}
		return list, nil
	}
	pol, hosts, err := a.hostsOf(names, kind)
	if err != nil {
		return nil, err
	}
	list = make([]hostRules, len(hosts))
	return list, a.written(pol, hosts, kind, prove, func(i int, r hostRules) error {
		list[i] = r
		return nil
	})
}

// hostsOf are the hosts of the names, all that have rules of a kind if there are none.
func (a *app) hostsOf(names []string, kind string) (*policy.Policy, []*fleet.Host, error) {
	pol, err := a.sound()
	if err != nil {
		return nil, nil, err
	}
	if len(names) == 0 {
		for _, h := range pol.Fleet.Hosts {
			if !h.Others() && (h.Dialect != fleet.NoFilter || kind == "" || kind == groupKind) { // all that have such rules
				names = append(names, h.Name)
			}
		}
	}
	index := pol.Fleet.Index()
	hosts := make([]*fleet.Host, len(names))
	for i, name := range names {
		if hosts[i] = index[name]; hosts[i] == nil {
			return nil, nil, unknownHost(name, pol.Fleet.Names())
		}
	}
	return pol, hosts, nil
}

// written writes the rules of hosts, on all processors, and hands each over with its host's
// place. Hosts of a class have the same rules but for their name: those are written, and
// proven, once.
func (a *app) written(pol *policy.Policy, hosts []*fleet.Host, kind string, prove bool, take func(i int, r hostRules) error) error {
	same, now := compile.ClassesOf(pol), time.Now().Unix()
	classes := map[string][]int{} // places in hosts
	var order []string
	for i, h := range hosts {
		class := h.Dialect + " " + same.Of(h)
		if kind == groupKind || h.Dialect == fleet.NoFilter || !formOf(kind, h).Alike() {
			class = fmt.Sprintf("%d", i) // what is written says more of the host than its name
		}
		if classes[class] == nil {
			order = append(order, class)
		}
		classes[class] = append(classes[class], i)
	}
	var work errgroup.Group
	if work.SetLimit(runtime.GOMAXPROCS(0)); len(order) < manyHosts { // what is said of each comes in order
		work.SetLimit(1)
	}
	for _, class := range order {
		places := classes[class]
		work.Go(func() error {
			first := hosts[places[0]]
			r, err := a.writtenOf(pol, first, kind, prove, now)
			if err != nil {
				return err
			}
			for _, i := range places {
				if err := take(i, r.of(hosts[i].Name)); err != nil {
					return err
				}
			}
			return nil
		})
	}
	if err := work.Wait(); err != nil {
		return err
	}
	if prove && len(hosts) > 1 {
		a.say("all %d hosts: proven, the rules do what the policy means for every packet", len(hosts))
	}
	return nil
}

// formOf is the dialect that rules of a kind are written in, or that of the host.
func formOf(kind string, h *fleet.Host) dialect.Form {
	if form := forms.Writing(dialect.Kind(kind)); form != nil {
		return form
	}
	return forms.Of(h)
}

// of is the rules of a host as those of another of its class.
func (r hostRules) of(name string) hostRules {
	if name == r.Host {
		return r
	}
	out := hostRules{Host: name, Dialect: r.Dialect, Files: slices.Clone(r.Files)}
	for i := range out.Files {
		if rest, ok := strings.CutPrefix(out.Files[i].Text, "# "+r.Host+":"); ok {
			out.Files[i].Text = "# " + name + ":" + rest
		}
	}
	out.Text = api.TextOf(out.Files)
	return out
}

// writtenOf writes the rules of one host.
func (a *app) writtenOf(pol *policy.Policy, h *fleet.Host, kind string, prove bool, now int64) (r hostRules, err error) {
	err = within(limits.JudgeCases, h.Name, func(b packet.Budget) (err error) {
		r, err = a.writtenIn(b.Space(), pol, h, kind, prove, now)
		return err
	})
	return r, err
}

// writtenIn writes the rules of a host in a form, and proves them if that is asked for.
func (a *app) writtenIn(sp *packet.Space, pol *policy.Policy, h *fleet.Host, kind string, prove bool, now int64) (r hostRules, err error) {
	if h.Others() {
		return r, &dialect.NoFilter{Host: h.Name}
	}
	plan := compile.ForHost(sp, pol, h, now)
	if kind == groupKind || kind == "" && h.Dialect == fleet.NoFilter {
		return a.groupsOf(sp, pol.Fleet, plan, prove)
	}
	form := formOf(kind, h)
	files, err := form.Write(sp, plan)
	if err == nil && prove {
		if err = dialect.Prove(form, sp, plan, files); err == nil && len(pol.Fleet.Hosts) < manyHosts {
			once := ""
			if who := dialect.FilledIn(plan); len(who) > 0 {
				once = ", once yfence settle has filled in on the host who " + strings.Join(who, ", ") + " are"
			}
			a.say("%s: proven, the rules do what the policy means for every packet%s", h.Name, once)
		}
	}
	if err != nil {
		return r, err
	}
	if kind != "" {
		files = slices.DeleteFunc(files, func(f api.File) bool { return string(f.Kind) != kind })
	}
	return hostRules{h.Name, form.Name(), api.TextOf(files), files}, nil
}

// manyHosts is from when on a line for each says nothing to anybody.
const manyHosts = 50

// groupKind is security groups, which are no file of the kernel's tools.
const groupKind = "group"

// ruleKinds are the kinds of rules that there are.
var ruleKinds = func() (kinds []string) {
	for _, k := range forms.Files() {
		kinds = append(kinds, string(k))
	}
	return append(kinds, groupKind)
}()

// groupsOf writes the security groups of a plan's host.
func (a *app) groupsOf(sp *packet.Space, fl *fleet.Fleet, plan *compile.Plan, prove bool) (r hostRules, err error) {
	h := plan.Host
	doc, admitted, err := group.Alone(sp, plan)
	if err != nil {
		return r, err
	}
	if prove {
		written, err := group.Parse([]byte(doc.String()))
		if err != nil {
			return r, err
		}
		rs, err := group.Read(sp, h, fl, written)
		if err != nil {
			return r, err
		}
		if err := admitted.Prove(sp, rs); err != nil {
			return r, err
		}
		a.say("%s: proven, the groups admit just the connections that the policy admits, by what a group can tell", h.Name)
	}
	if admitted.Until != 0 {
		a.say("%s: no group ends by itself: write them again at %s, when a rule does", h.Name,
			time.Unix(admitted.Until, 0).UTC().Format("2006-01-02T15:04Z"))
	}
	for _, what := range admitted.Left {
		a.say("%s: left to its own filter: %s", h.Name, what)
	}
	text := doc.String()
	return hostRules{h.Name, groupKind, text, []api.File{{Kind: groupKind, Text: text}}}, nil
}

// unknownHost says that there is no such host, and which may be meant.
func unknownHost(name string, known []string) error {
	if near := source.Nearest(name, known); near != "" {
		return fmt.Errorf("the fleet has no host %q; did you mean %q?", name, near)
	}
	return fmt.Errorf("the fleet has no host %q", name)
}

// rulesInto writes the files of hosts, each as soon as it is made. Each takes its place whole
// or not at all.
func (a *app) rulesInto(cmd *cobra.Command, dir string, names []string, kind string, prove bool) error {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	var files, hosts atomic.Int64
	// Each file is whole or not there: who copies a folder to hosts takes no half of one.
	write := func(r hostRules) error {
		hosts.Add(1)
		all := r.Files
		if script := iptables.Script(r.Host, r.Files); script != "" && kind == "" {
			all = append(slices.Clone(all), api.File{Kind: "load", Text: script})
		}
		for _, f := range all {
			name := filepath.Join(dir, r.Host+"."+string(f.Kind))
			if err := os.WriteFile(name+".new", []byte(f.Text), 0o644); err != nil {
				return err
			}
			if err := os.Rename(name+".new", name); err != nil {
				return err
			}
			if n := files.Add(1); n < manyHosts {
				a.say("wrote %s", name)
			}
		}
		return nil
	}
	if a.onFiles() {
		pol, all, err := a.hostsOf(names, kind)
		if err != nil {
			return err
		}
		if err := a.written(pol, all, kind, prove, func(_ int, r hostRules) error { return write(r) }); err != nil {
			return err
		}
	} else {
		list, err := a.rulesOf(cmd, names, kind, prove)
		if err != nil {
			return err
		}
		for _, r := range list {
			if err := write(r); err != nil {
				return err
			}
		}
	}
	if files.Load() >= manyHosts {
		a.say("wrote %d files for %d hosts to %s; the first are named above", files.Load(), hosts.Load(), dir)
	}
	return nil
}
