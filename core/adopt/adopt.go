package adopt

import (
	"cmp"
	"fmt"
	"net/netip"
	"runtime"
	"slices"
	"strings"
	"sync"

	"yellowfence.example/yfence/core/compare"
	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/core/say"
)

// Bound is how many distinctions a host's rules may take.
const Bound = 12_000_000

// A Host is one whose rules are adopted.
type Host struct {
	Name string
	// Read gives what it has in force. The error is about the text of its dumps.
	Read func(sp *packet.Space) (*kernel.Ruleset, error)
}

// Result is a first policy.
type Result struct {
	Text  string       // of the policy, what is left listed at its end
	Fleet *fleet.Fleet // with the roles that its hosts have by the policy
	Roles []Role
	Left  []Left // what the policy does not say as it is
	Lines int    // statements about who may talk to whom
}

// Role is hosts with like rules.
type Role struct {
	Name  string   `json:"name"`
	Hosts []string `json:"hosts" nullable:"false"`
}

// Left is a difference between what hosts have in force and what the policy means for them.
type Left struct {
	Hosts []string `json:"hosts" nullable:"false"`
	Kind  string   `json:"kind" enum:"opened,shut,altered,unread" doc:"as a finding of drift: opened is what the hosts let through and the policy does not"`
	Says  string   `json:"says"`
	Rule  string   `json:"rule,omitempty" doc:"the rule that does it, as the dump writes it"`
	At    string   `json:"at,omitempty" doc:"where that stands"`
}

// Policy makes a first policy of what hosts of a fleet have in force, for an instant in
// seconds since 1970. The name is the policy's.
func Policy(fl *fleet.Fleet, name string, hosts []Host, now int64) (*Result, error) {
	w, err := newWriter(fl, name, hosts)
	if err != nil {
		return nil, err
	}
	// What comes from a local segment's addresses by another way is dropped everywhere before all else.
	forged := make([]map[string][]netip.Prefix, len(hosts))
	err = every(w.fleet, hosts, now, func(i int, sp *packet.Space, h *fleet.Host, rs *kernel.Ruleset) {
		forged[i] = w.refusesForged(sp, h, rs)
	})
	if err != nil {
		return nil, err
	}
	w.local(forged)
	bare, err := silent(w)
	if err != nil {
		return nil, err
	}
	w.sketches = make([]*sketch, len(hosts))
	err = every(w.fleet, hosts, now, func(i int, sp *packet.Space, h *fleet.Host, rs *kernel.Ruleset) {
		w.sketches[i] = take(sp, compile.ForHost(sp, bare, h, now), rs)
	})
	if err != nil {
		return nil, err
	}
	w.roles()
	w.write()
	pol, err := resolve(w.text(), w.fleet)
	if err != nil {
		return nil, err
	}
	w.left, err = compared(pol, hosts, now)
	if err != nil {
		return nil, err
	}
	return &Result{Text: w.text(), Fleet: w.fleet, Roles: w.told, Left: w.left, Lines: len(w.lines)}, nil
}

// read is what a host has in force; where its routes are not told, they are as its addresses say.
func read(sp *packet.Space, of Host, h *fleet.Host) (*kernel.Ruleset, error) {
	rs, err := of.Read(sp)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", of.Name, err)
	}
	if rs.Routes == nil {
		known := *rs
		known.Routes = kernel.RoutesOf(h)
		rs = &known
	}
	return rs, nil
}

// every does something with what each host has in force, on all processors at once and each
// in a Space of its own. The error is the first one's.
func every(fl *fleet.Fleet, hosts []Host, now int64, do func(i int, sp *packet.Space, h *fleet.Host, rs *kernel.Ruleset)) error {
	errs := make([]error, len(hosts))
	var all sync.WaitGroup
	slots := make(chan struct{}, runtime.GOMAXPROCS(0))
	for i, of := range hosts {
		all.Go(func() {
			slots <- struct{}{}
			defer func() { <-slots }()
			tangled := packet.Try(func() {
				sp := packet.NewSpace()
				sp.Bound(Bound)
				sp.Since(now)
				h := fl.Host(of.Name)
				rs, err := read(sp, of, h)
				if errs[i] = err; err == nil {
					do(i, sp, h, rs)
				}
			})
			if tangled != nil {
				errs[i] = fmt.Errorf("%s: %w", of.Name, tangled)
			}
		})
	}
	all.Wait()
	for _, err := range errs {
		if err != nil {
			return err
		}
	}
	return nil
}

// silent is a policy that says nothing but what roles there are.
func silent(w *writer) (*policy.Policy, error) {
	p, role := &page{}, &fence.RoleDecl{Ident: fence.Ident{Name: nobody}}
	for _, d := range packet.Directions {
		role.Stances = append(role.Stances, fence.Stance{Direction: d.String(), Closed: true})
	}
	p.put(&fence.PolicyDecl{Ident: fence.Ident{Name: "silent"}, Language: 1}, role)
	for _, s := range w.segments {
		p.put(s.declared())
	}
	return resolve(fence.Print(&p.file), w.fleet)
}

// resolve makes a policy of our own text, which has no mistakes.
func resolve(text string, fl *fleet.Fleet) (*policy.Policy, error) {
	in, problems := policy.Read([]policy.Source{{Name: "adopted.fence", Text: text}}, fl)
	if len(problems) == 0 {
		var pol *policy.Policy
		if pol, problems = policy.Resolve(in); len(problems) == 0 {
			return pol, nil
		}
	}
	line := ""
	if lines := strings.Split(text, "\n"); problems[0].Line > 0 && problems[0].Line <= len(lines) {
		line = lines[problems[0].Line-1]
	}
	return nil, fmt.Errorf("the policy that was made is wrong, which is a mistake of ours: %s: %s", problems[0].Message, line)
}

// compared holds what hosts have in force against a policy, and gives the differences in
// meaning, those of several hosts together.
func compared(pol *policy.Policy, hosts []Host, now int64) ([]Left, error) {
	names := say.NamesOf(pol)
	results := make([]*compare.Result, len(hosts))
	err := every(pol.Fleet, hosts, now, func(i int, sp *packet.Space, h *fleet.Host, rs *kernel.Ruleset) {
		results[i] = compare.Drift(sp, names, compile.ForHost(sp, pol, h, now), rs)
	})
	if err != nil {
		return nil, err
	}
	var out []Left
	add := func(l Left, host string) {
		same := func(o Left) bool { return o.Kind == l.Kind && o.Says == l.Says && o.Rule == l.Rule && o.At == l.At }
		if i := slices.IndexFunc(out, same); i >= 0 {
			out[i].Hosts = append(out[i].Hosts, host)
			return
		}
		l.Hosts = []string{host}
		out = append(out, l)
	}
	for i, r := range results {
		for _, f := range r.Findings {
			if f.Kind == compare.Cosmetic {
				continue
			}
			add(Left{Kind: string(f.Kind), Says: f.Sentence, Rule: f.Live.Rule, At: f.Live.At}, hosts[i].Name)
		}
		for _, what := range r.Unread {
			add(Left{Kind: "unread", Says: what}, hosts[i].Name)
		}
	}
	slices.SortStableFunc(out, func(a, b Left) int { return cmp.Compare(a.Hosts[0], b.Hosts[0]) })
	return out, nil
}
