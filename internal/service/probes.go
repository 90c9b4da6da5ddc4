package service

import (
	"cmp"
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/ask"
	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/internal/store"
)

// The bounds of probes.
const (
	maxProbes    = 200              // of one request
	listenFor    = "10s"            // as short as may be: a service that starts needs its port
	probeAnswer  = 20 * time.Second // that a host has to tell what came of a probe
	echoRequest  = 8                // ICMP's; ICMPv6 has another
	echoRequest6 = 128
)

// trial is a connection to try.
type trial struct {
	from, to *fleet.Host
	at       netip.Addr
	term     policy.Term
	about    string // the expectation
}

// protocol is the protocol by the name that an agent knows; "" for one that it cannot try.
func (t trial) protocol() string {
	return map[int]string{packet.TCP: "tcp", packet.UDP: "udp", packet.ICMP: "icmp", packet.ICMPv6: "icmp"}[t.term.Protocol]
}

// probe is the connection as an agent is asked to open it.
func (t trial) probe() api.Probe {
	p := api.Probe{Protocol: t.protocol(), To: t.at.String()}
	if t.term.HasPorts() {
		p.Port = t.term.Ports.Lo
	}
	return p
}

// service is what it tries, as a question says it.
func (t trial) service() string {
	if t.term.HasPorts() {
		return fmt.Sprintf("%s %d", t.protocol(), t.term.Ports.Lo)
	}
	return "ping"
}

// tries are the connections that show what becomes of services between hosts.
func tries(from, to []*fleet.Host, terms []policy.Term, about string) (out []trial) {
	for _, a := range from {
		for _, b := range to {
			if a == b {
				continue
			}
			to, far := addressesFor(a, b)
			if len(to) == 0 { // else nobody goes to those that are farther
				to = far
			}
			for _, at := range to {
				for _, term := range terms {
					t := trial{a, b, at, term, about}
					echo := term.Protocol == packet.ICMP && term.Type == echoRequest && at.Is4() || term.Protocol == packet.ICMPv6 &&
						term.Type == echoRequest6 && at.Is6()
					ports := term.HasPorts() && t.protocol() != ""
					family := map[bool]int{true: packet.IPv4, false: packet.IPv6}[at.Is4()]
					if (ports || echo) && (term.Family == policy.AnyFamily || term.Family == family) && speaks(a, at) {
						out = append(out, t)
					}
				}
			}
		}
	}
	return out
}

// speaks says that a host has an address of a family at all.
func speaks(h *fleet.Host, at netip.Addr) bool {
	return slices.ContainsFunc(h.Interfaces, func(i fleet.Interface) bool {
		return slices.ContainsFunc(i.Addresses, func(p netip.Prefix) bool { return p.Addr().Is4() == at.Is4() })
	})
}

// probe has real connections tried between hosts, and holds what comes of them against what the
// policy says.
func (s *Service) probe(ctx context.Context, in *struct{ Body api.ProbeRequest }) (*struct{ Body api.Probed }, error) {
	m, err := s.newest(ctx)
	if err != nil {
		return nil, s.broken("probing", err)
	}
	if m.pair.Number == 0 {
		return nil, nothingPublished()
	}
	if in.Body.Expectations && !api.Has(caller(ctx).Rights, api.Settle) {
		return nil, s.forbidden(ctx, caller(ctx), api.Settle, "settle for the whole fleet")
	}
	attending, err := s.allAttending(ctx)
	if err != nil {
		return nil, s.broken("probing", err)
	}
	out := api.Probed{Version: api.Version, Probes: []api.ProbeResult{}}
	var all []trial
	// Every expectation, by connections that must pass and by such that must not.
	if in.Body.Expectations {
		for _, e := range m.policy.Expects {
			if !e.Off {
				can := func(h *fleet.Host) bool { return s.attends(attending[h.Name]) }
				found := append(expected(e, m.fleet.Hosts, can),
					s.turned(ctx, m, contrary(e, m.fleet.Hosts, can), e.Kind != fence.Always)...)
				if len(found) == 0 {
					out.Left = append(out.Left, fmt.Sprintf("%s %s: no host that attends can try it", e.Kind, e.Name))
				}
				all = append(all, found...)
			}
		}
	} else {
		q, problems := fence.ParseQuestion(in.Body.Question)
		if problems != nil {
			return nil, refused("the question is not understood", problems)
		}
		from, to, terms, problems := m.policy.Ask(q)
		if problems != nil {
			return nil, refused("the question is not understood", problems)
		}
		if len(from.Hosts) == 0 || len(to.Hosts) == 0 {
			return nil, huma.Error422UnprocessableEntity("a probe is from hosts of the fleet to hosts of the fleet; from elsewhere, run " +
				"yfence probe there, as in yfence probe 'charts-01 : https'")
		}
		for _, h := range slices.Concat(from.Hosts, to.Hosts) { // the other end may be told to listen
			if err := s.mayOn(ctx, api.Settle, h); err != nil {
				return nil, err
			}
		}
		all = tries(there(s, from.Hosts, attending, &out.Left), to.Hosts, terms, "")
		if len(all) == 0 && len(out.Left) == 0 {
			return nil, huma.Error422UnprocessableEntity("there is nothing to try: TCP, UDP and echo requests can be, between hosts that " +
				"share a family")
		}
	}
	// So many at once, and no more: what is left is told, and not dropped silently.
	if len(all) > maxProbes {
		out.Left = append(out.Left, fmt.Sprintf("%d of %d connections: more than %d are not tried at once; ask for fewer hosts",
			len(all)-maxProbes, len(all), maxProbes))
		all = all[:maxProbes]
	}
	out.Probes, err = s.tryAll(ctx, m, all, in.Body.Listen || in.Body.Expectations, attending)
	if err != nil {
		return nil, s.broken("probing", err)
	}
	return &struct{ Body api.Probed }{out}, nil
}

// there are those of hosts that attend; of the others it is told.
func there(s *Service, hosts []*fleet.Host, attending map[string]store.AgentStatus, left *[]string) (out []*fleet.Host) {
	for _, h := range hosts {
		if s.attends(attending[h.Name]) {
			out = append(out, h)
		} else {
			*left = append(*left, fmt.Sprintf("what %s opens: it does not poll the service; is yfence attend running there?", h.Name))
		}
	}
	return out
}

// expected are the connections that show whether an expectation holds: one host of each
// set of roles at either end, the first of those that can. What only some may do, those
// others try.
func expected(e *policy.Expectation, hosts []*fleet.Host, can func(*fleet.Host) bool) []trial {
	return between(e, hosts, can, e.Kind != fence.Only)
}

// contrary are connections from whom the expectation does not speak of, or of whom it says
// that only they may: without one that fares otherwise, nothing shows that any passes, or
// that any is refused.
func contrary(e *policy.Expectation, hosts []*fleet.Host, can func(*fleet.Host) bool) []trial {
	return between(e, hosts, can, e.Kind == fence.Only)
}

// between are connections to its right side from its left side, or from others than that: within
// each of those that it says.
func between(e *policy.Expectation, hosts []*fleet.Host, can func(*fleet.Host) bool, left bool) (all []trial) {
	for _, s := range e.Spans {
		opens := firsts(hosts, can, func(h *fleet.Host) bool { return s.From.Names(h) == left }, nil)
		all = append(all, tries(opens, firsts(hosts, can, s.To.Names, opens), e.Terms, string(e.Kind)+" "+e.Name)...)
	}
	return all
}

// firsts is one host of each set of roles, the first that is so and can; rather not one of
// some others, who would be at both ends.
func firsts(hosts []*fleet.Host, can, is func(*fleet.Host) bool, others []*fleet.Host) (out []*fleet.Host) {
	at := map[string]int{}
	for _, h := range hosts {
		if !can(h) || !is(h) {
			continue
		}
		roles := strings.Join(h.Roles, " ")
		i, seen := at[roles]
		if !seen {
			at[roles] = len(out)
			out = append(out, h)
		} else if slices.Contains(others, out[i]) && !slices.Contains(others, h) {
			out[i] = h
		}
	}
	return out
}

// tryAll opens connections, and holds what comes of them against what the policy says.
// All hosts are asked before anybody waits: first those that are to listen, then those
// that open the connections.
func (s *Service) tryAll(ctx context.Context, m *model, all []trial, listen bool,
	attending map[string]store.AgentStatus) ([]api.ProbeResult, error) {
	listens := map[string]int64{} // tasks by where something is to listen
	at := func(t trial) string { return t.at.String() + " " + t.service() }
	for _, t := range all {
		if !listen || listens[at(t)] != 0 || !s.attends(attending[t.to.Name]) {
			continue
		}
		task, err := s.task(ctx, api.Task{Host: t.to.Name, Do: api.DoListen, Probe: new(t.probe()), Within: listenFor}, probeAnswer)
		if err != nil {
			return nil, err
		}
		listens[at(t)] = task.ID
	}
	listeners := map[string]*api.TaskResult{}
	left := until(probeAnswer)
	for where, id := range listens {
		var err error
		if listeners[where], err = s.result(ctx, id, left()); err != nil {
			return nil, err
		}
	}
	tasks := make([]int64, len(all))
	for i, t := range all {
		task, err := s.task(ctx, api.Task{Host: t.from.Name, Do: api.DoProbe, Probe: new(t.probe())}, probeAnswer)
		if err != nil {
			return nil, err
		}
		tasks[i] = task.ID
	}
	out := make([]api.ProbeResult, len(all))
	left = until(probeAnswer)
	for i, t := range all {
		res, err := s.result(ctx, tasks[i], left())
		if err != nil {
			return nil, err
		}
		out[i] = s.tried(m, t, res, listeners[at(t)])
	}
	return out, nil
}

// turned is the first of some connections that the policy admits, or refuses, if there is one.
func (s *Service) turned(ctx context.Context, m *model, all []trial, admitted bool) []trial {
	for i, t := range all {
		if i == mostChoices {
			break
		}
		if yes, err := s.admits(ctx, m, api.Trial{From: t.from.Name, Address: t.at.String(), Service: t.service()}); err == nil &&
			yes == admitted {
			return all[i : i+1]
		}
	}
	return nil
}

// until gives how much is left of a time that begins now; at least enough to look once.
func until(d time.Duration) func() time.Duration {
	end := ends(d)
	return func() time.Duration { return max(left(end), time.Millisecond) }
}

// tried is what came of one connection; res and listener are nil where a host said nothing.
func (s *Service) tried(m *model, t trial, res, listener *api.TaskResult) (r api.ProbeResult) {
	r = api.ProbeResult{From: t.from.Name, To: t.to.Name, Address: t.at.String(), Service: t.service(), For: t.about, Came: "untried",
		Policy: ask.Uncertain, Agrees: "open"}
	if res != nil {
		r.Source = res.From
	}
	if answer := m.answer(connection(cmp.Or(r.Source, t.from.Name), t.at.String(), t.probe()), s.Clock().Unix()); answer != nil {
		r.Policy = answer.Verdict
		if translated(answer) { // it arrives where nothing was opened for it
			listener = nil
		}
	}
	if listener != nil && listener.Failed != "" {
		r.Why = fmt.Sprintf("no listener could be opened on %s: %s", t.to.Name, listener.Failed)
	}
	switch {
	case res == nil:
		r.Why = fmt.Sprintf("%s opened none: it did not answer within %s", t.from.Name, probeAnswer)
		return r
	case res.Failed != "":
		r.Why = fmt.Sprintf("%s opened none: %s", t.from.Name, res.Failed)
		return r
	}
	r.Came, r.Reached, r.Took, r.Why = res.Came, res.Reached, res.Took, cmp.Or(strings.Join(res.Said, "; "), r.Why)
	if r.Policy != ask.Mixed && r.Policy != ask.Uncertain {
		listening := listener != nil && listener.Answers(t.protocol())
		r.Agrees = api.Agrees(r.Came, r.Policy == packet.Admit.String(), listening, t.protocol())
	}
	return r
}

// translated says that traffic arrives as something else than it was sent as.
func translated(a *ask.Answer) bool {
	return slices.ContainsFunc(a.Steps, func(s ask.Step) bool { return s.As != "" })
}
