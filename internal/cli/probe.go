package cli

import (
	"errors"
	"fmt"
	"io"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/client"
	"yellowfence.example/yfence/core/ask"
	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/internal/host/agent"
	"yellowfence.example/yfence/internal/host/inventory"
	"yellowfence.example/yfence/internal/limits"
)

// probeCommand makes `yfence probe`: from here to a host, or between hosts by their agents.
func (a *app) probeCommand() *cobra.Command {
	var req api.ProbeRequest
	c := &cobra.Command{
		Use:   "probe 'A -> B : SERVICE'",
		Short: "Open a real connection between hosts and compare the result with the policy",
		Long: `Probe has one host open a new connection to another, at each of its addresses, and
tells what came of it beside what yfence ask says. Roles stand for all their hosts.

With --listen a listener is opened on the far host where nothing listens, and closed
again, so that refused, dropped and nobody-there are told apart. Without a first host
the connection is opened from where this runs, which may be outside the fleet; with
--policy and --fleet that needs no service.

It exits with status 1 if anything came out otherwise than the policy says, and with status 2 if
nothing could be tried.`,
		Example: "  yfence probe 'pilotage-01 -> logbook-01 : tcp 5432'\n  yfence probe 'charts-01 : tcp 443'\n" +
			"  yfence probe 'charts-01 : https' --policy saltmarsh --fleet saltmarsh/fleet.json\n  yfence probe " +
			"--all-expectations",
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) == 1 == req.Expectations {
				return errors.New("say what to try, as in 'A -> B : SERVICE', or --all-expectations")
			}
			var probed api.Probed
			var err error
			if len(args) == 1 && !strings.Contains(args[0], "->") {
				probed, err = a.probeFromHere(cmd, args[0])
			} else {
				var svc *client.Client
				if svc, err = a.service(); err == nil {
					req.Question = strings.Join(args, "")
					probed, err = svc.Probe(cmd.Context(), req)
				}
			}
			if err != nil {
				return err
			}
			if err := a.print(probed, func(w io.Writer) { a.printProbed(w, probed) }); err != nil {
				return err
			}
			if !slices.ContainsFunc(probed.Probes, func(r api.ProbeResult) bool { return r.Came != "untried" }) {
				return errors.New("nothing could be tried")
			}
			for _, r := range probed.Probes {
				if r.Agrees == "no" || r.Came == "untried" {
					return errFound
				}
			}
			return nil
		},
	}
	c.Flags().BoolVar(&req.Listen, "listen", false, "open a listener on the far host where nothing listens")
	c.Flags().BoolVar(&req.Expectations, "all-expectations", false, "try what the policy expects, between hosts that attend")
	return c
}

// printProbed prints what came of connections, those of one expectation together.
func (a *app) printProbed(w io.Writer, p api.Probed) {
	paint := a.paint(w)
	about, agree := "", 0
	for _, r := range p.Probes {
		if r.For != about {
			about = r.For
			_, _ = fmt.Fprintf(w, "expect %s\n", about)
		}
		came := r.Came
		if r.Came == api.Answered {
			came += fmt.Sprintf(" by %s in %.1f ms", r.Reached, r.Took)
		}
		mark := "and the policy says " + r.Policy
		switch {
		case r.Agrees == "yes":
			agree++
		case r.Agrees == "no":
			mark = paint(red, "BUT the policy says "+r.Policy)
		case r.Policy == ask.Uncertain:
			mark = "what the policy says is not known"
		case r.Came == "refused" && r.Policy == packet.Admit.String():
			mark = "nobody may be listening there (--listen opens a listener); the policy says " + r.Policy
		}
		_, _ = fmt.Fprintf(w, "%s -> %s (%s) : %s  %s, %s\n", r.From, r.To, r.Address, r.Service, came, mark)
		if r.Why != "" && (r.Came == "untried" || r.Agrees == "no" && r.Came != api.Answered) {
			_, _ = fmt.Fprintf(w, "    %s\n", r.Why)
		}
	}
	for _, left := range p.Left {
		_, _ = fmt.Fprintf(w, "not tried: %s\n", left)
	}
	if len(p.Probes) > 1 {
		_, _ = fmt.Fprintf(w, "%d of %d came out as the policy says\n", agree, len(p.Probes))
	}
}

// beside is what probes from here are held against: hosts and services by their names, and what a
// policy says of a connection; nil where nobody can tell.
type beside struct {
	pol    *policy.Policy
	says   func(from, to string, service fence.ServiceTerm) string
	nobody error // why no host is known by its name
}

// besides is what the files say, or the service, or nobody.
func (a *app) besides(cmd *cobra.Command) (b beside, err error) {
	// Files speak for themselves; what they say is worked out here, as `yfence ask` does.
	if a.onFiles() {
		if b.pol, err = a.sound(); err != nil {
			return b, err
		}
		asker, now := ask.NewAsker(b.pol), time.Now().Unix()
		b.says = func(from, to string, service fence.ServiceTerm) string {
			var found *ask.Answer
			_ = within(limits.Cases, "answering", func(budget packet.Budget) (err error) {
				found, _, err = asker.PolicyWithin(budget, fence.Connection(from, to, service), now)
				return err
			})
			if found == nil { // it takes too much to be told
				return ask.Uncertain
			}
			return found.Verdict
		}
		return b, nil
	}
	// A service knows the fleet and what is published. Without one addresses can be tried all the same,
	// and nobody says whether that is as it should be.
	svc, noService := a.service()
	fl := &fleet.Fleet{}
	if b.nobody = noService; noService == nil {
		file, err := svc.Export(cmd.Context(), "json")
		if err != nil {
			return b, err
		}
		fl, _ = fleet.Read("fleet.json", []byte(file.Text))
		b.says = func(from, to string, service fence.ServiceTerm) string {
			answer, err := svc.Ask(cmd.Context(), fmt.Sprintf("%s -> %s : %s", from, to, service.Text))
			if err != nil {
				return ask.Uncertain
			}
			return answer.Verdict
		}
	}
	// Services by their registered names: those that a policy declares are only its own.
	b.pol, _ = policy.Resolve(policy.Input{Fleet: fl})
	return b, nil
}

// addresses are those of a host, or an address itself, which needs nobody who knows it.
func (b beside) addresses(name string) ([]netip.Addr, error) {
	if at, err := netip.ParseAddr(name); err == nil {
		return []netip.Addr{at}, nil
	}
	if b.nobody != nil {
		return nil, fmt.Errorf("%q is a host's name, and nobody here knows hosts: %w", name, b.nobody)
	}
	if h := b.pol.Fleet.Host(name); h != nil {
		return h.Own(), nil
	}
	return nil, unknownHost(name, b.pol.Fleet.Names())
}

// probeFromHere opens connections from this machine: "HOST : SERVICE".
func (a *app) probeFromHere(cmd *cobra.Command, text string) (out api.Probed, err error) {
	q, problems := fence.ParseQuestion("everywhere -> " + text)
	if problems != nil {
		return out, fmt.Errorf("%q is not understood: say 'HOST : SERVICE' or 'ADDRESS : SERVICE'", text)
	}
	b, err := a.besides(cmd)
	if err != nil {
		return out, err
	}
	name := strings.TrimSpace(text[:strings.LastIndex(text, " :")+1])
	addresses, err := b.addresses(name)
	if err != nil {
		return out, err
	}
	_, _, terms, problems := b.pol.Ask(&fence.Question{From: q.From, To: q.From, Services: q.Services})
	if problems != nil {
		return out, fmt.Errorf("%q is no service that this program knows; services of the policy's own are tried from hosts, or with its "+
			"files (--policy DIR --fleet FILE)", text)
	}
	out = api.Probed{Version: api.Version, Probes: []api.ProbeResult{}}
	// Each address of the host, by each of the services that can be tried.
	for _, at := range addresses {
		from, ok := inventory.SourceFor(netip.AddrPortFrom(at, 9))
		if !ok {
			out.Left = append(out.Left, fmt.Sprintf("%s: there is no way to it from here", at))
			continue
		}
		for _, t := range terms {
			p := api.Probe{To: at.String(), Port: t.Ports.Lo}
			service := fence.ServiceTerm{Name: "ping", Text: "ping"}
			switch {
			case t.Protocol == packet.TCP || t.Protocol == packet.UDP:
				p.Protocol, service = packet.ProtocolName(t.Protocol), fence.PortTerm(t.Protocol, p.Port)
			case t.Protocol == packet.ICMP && at.Is4(), t.Protocol == packet.ICMPv6 && at.Is6():
				p.Protocol, p.Port = "icmp", 0
			default:
				continue
			}
			got := agent.Open(cmd.Context(), p)
			r := api.ProbeResult{From: from.String(), To: name, Address: at.String(), Service: service.Text, Came: got.Came,
				Reached: got.Reached, Took: got.Took, Why: strings.Join(got.Said, "; "), Policy: ask.Uncertain, Agrees: "open"}
			if b.says != nil {
				r.Policy = b.says(r.From, r.Address, service)
			}
			if r.Policy != ask.Uncertain && r.Policy != ask.Mixed {
				r.Agrees = api.Agrees(r.Came, r.Policy == packet.Admit.String(), false, p.Protocol)
			}
			out.Probes = append(out.Probes, r)
		}
	}
	return out, nil
}
