package iptables

import (
	"fmt"
	"hash/fnv"
	"slices"
	"strings"
	"time"

	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/dialect"
	"yellowfence.example/yfence/core/dialect/layout"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
)

// Form is rules for iptables-restore, ip6tables-restore and ipset restore, of
// either kind of these tools.
//
// All chains we write begin with Prefix, in the filter table; a built-in chain
// gives us a packet by a jump at its head, and what we decide is decided for the
// table. What the policy leaves to others goes back to what they have there.
type Form struct{}

// Prefix is what the names of our chains begin with.
const Prefix = "yf-"

// What the kernel's tools take at most.
const (
	longestChain  = 28
	longestSet    = 31
	longestLog    = 29
	mostPorts     = 15
	byPort        = 16 // lines that accept by a port: fewer are as quickly tried one by one
	largestBurst  = 10_000
	latest        = 1<<31 - 1 // second since 1970
	perSecond     = 1_000_000 // ticks in which a rate is counted
	leastTicks    = 10_000    // between two packets, if their number does not come out even
	smallestMaxim = 65_536
)

// builtIn are the kernel's chains by direction.
var builtIn = []string{packet.Inbound: "INPUT", packet.Outbound: "OUTPUT", packet.Forward: "FORWARD"}

// Name is the dialect's.
func (Form) Name() string { return "iptables" }

// Files are the kinds of files that it writes.
func (Form) Files() []dialect.Kind { return []dialect.Kind{"ipset", "iptables", "ip6tables"} }

// Alike is so: the text says nothing of a host but its name.
func (Form) Alike() bool { return true }

// Carries tells a chain's direction by its name.
func (Form) Carries(c *kernel.Chain) (d packet.Direction, helper, ok bool) {
	return dialect.Direction(strings.TrimPrefix(c.Name, Prefix))
}

// Label names our chains.
func (Form) Label() string { return "chains " + Prefix + "…" }

// Ours says that a chain is one of those we write.
func (Form) Ours(c *kernel.Chain) bool {
	return (c.Table == "filter" || c.Table == "nat") && c.Family != "inet" && strings.HasPrefix(c.Name, Prefix)
}

// Overrides says that a chain is of a table at whose head ours stand.
func (Form) Overrides(c *kernel.Chain) bool {
	return (c.Table == "filter" || c.Table == "nat") && c.Family != "inet"
}

// Rules is what the files of Write put in force where there is nothing else.
func (Form) Rules(sp *packet.Space, plan *compile.Plan) *kernel.Ruleset {
	all := &kernel.Ruleset{}
	for _, family := range []int{packet.IPv4, packet.IPv6} {
		all.Add(write(sp, plan, family).out)
	}
	return all
}

// Unsayable is what these tools have no way to say.
func (Form) Unsayable(plan *compile.Plan) []string {
	return append(dialect.Unsayable(plan), unsayable(plan)...)
}

// Write gives a plan as files: the sets, and the rules of each family.
func (Form) Write(sp *packet.Space, plan *compile.Plan) ([]dialect.File, error) {
	if plan.Host.Dialect == fleet.NoFilter {
		return nil, &dialect.NoFilter{Host: plan.Host.Name}
	}
	if refused := (Form{}).Unsayable(plan); len(refused) > 0 {
		return nil, &dialect.Refusal{Host: plan.Host.Name, Dialect: "iptables", What: refused}
	}
	head := func(load string) string {
		return fmt.Sprintf("# %s: written by Yellow Fence; load with %s\n%s", plan.Host.Name, load, dialect.ToFillIn(plan))
	}
	four, six := write(sp, plan, packet.IPv4), write(sp, plan, packet.IPv6)
	var files []dialect.File
	if sets := append(four.sets, six.sets...); len(sets) > 0 {
		files = append(files, dialect.File{Kind: "ipset", Text: head("ipset restore -exist, before the rules") + strings.Join(sets, "")})
	}
	for _, w := range []*writer{four, six} {
		tool := tools[w.family]
		files = append(files, dialect.File{Kind: tool, Hooks: w.hooks(),
			Text: head(string(tool)+"-restore --noflush, and run what stands behind `once`: without that they filter nothing; the other "+
				"family has a file of its own") + w.text()})
	}
	return files, nil
}

// tools are the kinds of files by family.
var tools = []dialect.Kind{packet.IPv4: "iptables", packet.IPv6: "ip6tables"}

// unsayable is that of it which other dialects can say.
func unsayable(plan *compile.Plan) (out []string) {
	add := func(r compile.Rule, format string, args ...any) {
		if text := r.Decider.String() + ": " + fmt.Sprintf(format, args...); !slices.Contains(out, text) {
			out = append(out, text)
		}
	}
	rate := func(r compile.Rule, what string, rate *packet.Rate) {
		if rate == nil {
			return
		}
		n, unit, _ := rate.Kernel()
		ticks := perSecond * int(units[unit]/time.Second)
		switch {
		case rate.N > largestBurst:
			add(r, "%s %d, which is more than %d at once", what, rate.N, largestBurst)
		case ticks%n != 0 && ticks/n < leastTicks:
			add(r, "%s %d per %s: it counts in millionths of a second, and so many do not come out even", what, n, unit)
		}
	}
	for _, c := range plan.Chains {
		for _, r := range slices.Concat(c.Rules, c.Trial) {
			if at := max(r.Match.Since, r.Match.Until); at > latest {
				add(r, "a date of %s, which is after 2038-01-19", time.Unix(at, 0).UTC().Format(time.DateOnly))
			}
			if r.Limit != nil {
				rate(r, "at most", &r.Limit.Rate)
			}
			if r.Log != nil {
				rate(r, "log up to", r.Log.UpTo)
			}
		}
	}
	return out
}

// writer writes one family.
type writer struct {
	sp     *packet.Space
	family int
	out    *kernel.Ruleset
	chains []*kernel.Chain   // ours
	names  map[string]string // of chains, by what they are called in full
	sets   []string          // as ipset restore takes them
	known  map[string]bool   // sets

	leaving map[string]bool // chains that leave packets to others, by what they are called in full
}

// write lays a plan out for one family, and puts it into words.
func write(sp *packet.Space, plan *compile.Plan, family int) *writer {
	w := &writer{sp: sp, family: family, out: &kernel.Ruleset{}, names: map[string]string{}, known: map[string]bool{},
		leaving: map[string]bool{}}
	w.out.Tracks[family], w.out.Routes = true, kernel.RoutesOf(plan.Host)
	laid := layout.Options{Family: family, LogApart: true, OneIface: true, Ends: true, OneType: true, OneOriginalDst: true,
		ByPort: byPort, ByRange: true, Ports: mostPorts}.Lines(sp, plan)
	for _, l := range laid {
		w.names[l.Name] = w.unique(Prefix + l.Name)
		w.leaving[l.Name] = slices.ContainsFunc(l.Lines, layout.Line.Leaves)
	}
	for _, l := range laid {
		table := "filter"
		if l.Hook != "" {
			table = "nat"
		}
		c := w.chain(table, w.names[l.Name])
		w.chains = append(w.chains, c)
		for _, line := range l.Lines {
			if line.Leaves() {
				line.Action = kernel.Return
			}
			if line.Action == kernel.Jump && w.leaving[line.Target] { // what returns from there is nobody's here either
				line.Action = kernel.Goto
			}
			text := w.line(line) // by its name in full
			line.Target = w.names[line.Target]
			c.Rules = append(c.Rules, line.Rule(sp, l.Direction, w.out, c.Place(), text))
		}
		if l.Hook != "" {
			w.hook(c, map[string]string{"prerouting": "PREROUTING", "postrouting": "POSTROUTING"}[l.Hook])
		}
		if l.Of == nil {
			continue
		}
		if end, needed := ending(l, family); needed {
			c.Rules = append(c.Rules, end.Rule(sp, l.Direction, w.out, c.Place(), w.line(end)))
		}
		w.hook(c, builtIn[l.Direction])
	}
	w.out.Chains = append(w.out.Chains, w.chains...)
	return w
}

// chain is an empty chain of a table of the family.
func (w *writer) chain(table, name string) *kernel.Chain {
	return &kernel.Chain{Family: []string{packet.IPv4: "ip", packet.IPv6: "ip6"}[w.family], Table: table, Name: name, Policy: packet.Admit}
}

// hook has a built-in chain ask one of ours first.
func (w *writer) hook(c *kernel.Chain, name string) {
	base := w.chain(c.Table, name)
	hang(base)
	base.Rules = []kernel.Rule{{Match: packet.All, Branches: []kernel.Branch{{Match: packet.All, Action: kernel.Jump, Target: c.Name}},
		Text: kernel.Words("-j " + c.Name), At: base.Place()}}
	w.out.Chains = append(w.out.Chains, base)
}

// ending is the last line of a direction's chain, which lets nothing fall through.
func ending(l *layout.Chain, family int) (end layout.Line, needed bool) {
	stance := l.Of.Stance
	end = layout.Line{Box: layout.Box{Family: family, Protocol: policy.AnyProtocol, Code: policy.AnyType}, Action: kernel.Accept,
		Decider: compile.Decider{Kind: compile.ByStance, Name: l.Direction.String() + " open"}}
	if stance.Closed {
		end.Action, end.Decider.Name = kernel.Drop, l.Direction.String()+" closed"
	}
	return end, !stance.Closed || stance.RefuseBy == packet.Drop
}

// unique gives a chain a name that the tools take and no other has.
func (w *writer) unique(full string) string {
	name := short(full, longestChain)
	for i := 2; ; i++ {
		taken := false
		for _, other := range w.names {
			taken = taken || other == name
		}
		if !taken {
			return name
		}
		name = short(fmt.Sprintf("%s.%d", full, i), longestChain)
	}
}

// short cuts a name that is too long, and tells it from others by its hash.
func short(name string, most int) string {
	if len(name) <= most {
		return name
	}
	h := fnv.New32a()
	h.Write([]byte(name))
	return fmt.Sprintf("%s.%06x", name[:most-7], h.Sum32()&0xffffff)
}

// text is the rules as the -restore tool takes them.
func (w *writer) text() string {
	var b strings.Builder
	for _, h := range w.hooks() {
		fmt.Fprintf(&b, "# once, so that the kernel asks these rules first: %s -I %s %s\n", command(tools[w.family], h), h.Chain, h.Rule)
	}
	for _, table := range []string{"nat", "filter"} {
		if !slices.ContainsFunc(w.chains, func(c *kernel.Chain) bool { return c.Table == table }) {
			continue
		}
		fmt.Fprintf(&b, "*%s\n", table)
		for _, c := range w.chains {
			if c.Table == table {
				fmt.Fprintf(&b, ":%s - [0:0]\n", c.Name)
			}
		}
		for _, c := range w.chains {
			for _, r := range c.Rules {
				if c.Table == table {
					fmt.Fprintf(&b, "-A %s %s\n", c.Name, r.Text)
				}
			}
		}
		b.WriteString("COMMIT\n")
	}
	return b.String()
}

// hooks are the rules by which the kernel's own chains ask ours.
func (w *writer) hooks() (out []dialect.Hook) {
	for _, c := range w.out.Chains {
		if c.Hook != "" {
			out = append(out, dialect.Hook{Table: c.Table, Chain: c.Name, Rule: c.Rules[0].Text.String()})
		}
	}
	return out
}

// command is the tool with the table of a hook.
func command(tool dialect.Kind, h dialect.Hook) string {
	if h.Table == "filter" {
		return string(tool)
	}
	return string(tool) + " -t " + h.Table
}

// The times that rates are per, as they are listed and as they are written.
var (
	shortUnits = map[string]string{"second": "sec", "minute": "min", "hour": "hour", "day": "day"}
	units      = map[string]time.Duration{"sec": time.Second, "second": time.Second, "min": time.Minute, "minute": time.Minute,
		"hour": time.Hour, "day": 24 * time.Hour}
)

// Script is a shell script that loads the files of a host, by their names, and has the kernel
// ask the rules; it may be run again. It is "" where a file alone does all that.
func Script(host string, files []dialect.File) string {
	var load, ask strings.Builder
	for _, f := range files {
		switch {
		case f.Kind == "ipset":
			fmt.Fprintf(&load, "ipset restore -exist <%s.ipset\n", host)
		case slices.Contains(tools, f.Kind):
			fmt.Fprintf(&load, "%s-restore --noflush <%s.%s\n", f.Kind, host, f.Kind)
		default:
			return ""
		}
		for _, h := range f.Hooks {
			tool := command(f.Kind, h)
			fmt.Fprintf(&ask, "%s -C %s %s 2>/dev/null || %s -I %s %s\n", tool, h.Chain, h.Rule, tool, h.Chain, h.Rule)
		}
	}
	return fmt.Sprintf("#!/bin/sh\n# %s: written by Yellow Fence; loads its rules of both families, and has the kernel ask them "+
		"first\nset -e\ncd \"$(dirname \"$0\")\"\n%s%s", host, load.String(), ask.String())
}

// Read gives what a kernel has in force that has loaded files of Write and asks their rules first.
func (Form) Read(sp *packet.Space, h *fleet.Host, files []dialect.File) (*kernel.Ruleset, error) {
	all, sets := &kernel.Ruleset{}, Sets{}
	for _, f := range files {
		name := h.Name + "." + string(f.Kind)
		family := slices.Index(tools, f.Kind)
		if family < 0 {
			var err error
			if sets, err = ReadSets(f.Text); err != nil {
				return nil, fmt.Errorf("%s: %w", name, err)
			}
			continue
		}
		text := f.Text
		for _, h := range f.Hooks { // what the host is told to do once
			before, after, _ := strings.Cut(text, "*"+h.Table+"\n")
			rules, rest, _ := strings.Cut(after, "COMMIT\n")
			text = before + "*" + h.Table + "\n:" + h.Chain + " ACCEPT [0:0]\n" + rules + "-A " + h.Chain + " " + h.Rule + "\nCOMMIT\n" +
				rest
		}
		rs, err := Read(sp, family, name, text, Host{Sets: sets, Routes: kernel.RoutesOf(h)})
		if err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		all.Add(rs)
	}
	return all, nil
}
