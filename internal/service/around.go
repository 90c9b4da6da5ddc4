package service

import (
	"context"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"unicode"

	"go4.org/netipx"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/check"
	"yellowfence.example/yfence/core/compare"
	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/listeners"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/source"
	"yellowfence.example/yfence/internal/host/inventory"
	"yellowfence.example/yfence/internal/store"
)

// showListeners answers what listens on hosts, by their last reports, held against what their
// policy admits.
func (s *Service) showListeners(ctx context.Context, in *struct {
	Host string `query:"host" doc:"one host only"`
}) (*struct{ Body api.Listening }, error) {
	current, err := s.newest(ctx)
	if err != nil {
		return nil, s.broken("reading the listeners", err)
	}
	if in.Host != "" && current.host(in.Host) == nil {
		return nil, noHost(in.Host)
	}
	if in.Host != "" {
		if err := s.mayOn(ctx, api.Read, current.host(in.Host)); err != nil {
			return nil, err
		}
	}
	out := api.Listening{Version: api.Version, Hosts: []api.HostListening{}}
	err = s.computed(ctx, s.computing, "reading the listeners",
		func(b packet.Budget) error { return s.listening(ctx, b, current, in.Host, &out) })
	if err != nil {
		return nil, err
	}
	return &struct{ Body api.Listening }{out}, nil
}

// listening compares what listens on a host, or on all, with what the policy admits.
func (s *Service) listening(ctx context.Context, b packet.Budget, current *model, only string, out *api.Listening) error {
	for _, h := range current.fleet.Hosts {
		if only != "" && h.Name != only || !api.Covers(caller(ctx).Rights, api.Read, h.Roles) {
			continue
		}
		one := api.HostListening{Host: h.Name, Notes: []listeners.Note{}}
		said, err := s.Store.HostFacts(ctx, h.Name)
		switch {
		case current.pair.Number == 0:
			one.Untold = "no policy is published yet, so that nothing is said of who may come"
		case errors.Is(err, store.ErrNotFound):
			one.Untold = "it never reported"
		case err != nil:
			return s.broken("reading the listeners", err)
		case said.Untold["listeners"] != "":
			one.TakenAt, one.Untold = timeOf(said.TakenAt), said.Untold["listeners"]
		default:
			sp := b.Space()
			one.TakenAt = timeOf(said.TakenAt)
			one.Notes = listeners.Compare(sp, compile.ForHost(sp, current.policy, h, s.Clock().Unix()), current.policy.Services,
				listeners.Seen{Listeners: said.Listeners, Runs: said.Runs})
		}
		out.Hosts = append(out.Hosts, one)
	}
	return nil
}

// believable takes out of a report what no kernel of ours would say, and what would be
// something else to a filter's tools. What is taken out is told.
func believable(said *api.HostFacts) {
	if said == nil {
		return
	}
	strange := 0
	said.Interfaces = slices.DeleteFunc(said.Interfaces, func(i api.SeenInterface) bool {
		if fleet.InterfaceName(i.Name) && len(i.Addresses) <= maxSeen {
			return false
		}
		strange++
		return true
	})
	if len(said.Interfaces) > maxSeen {
		strange += len(said.Interfaces) - maxSeen
		said.Interfaces = said.Interfaces[:maxSeen]
	}
	said.Listeners = slices.DeleteFunc(said.Listeners, func(l listeners.Listener) bool {
		return strings.ContainsFunc(l.Process+l.Unit+l.Address+l.Interface, unicode.IsControl)
	})
	if strange > 0 {
		if said.Untold == nil {
			said.Untold = map[string]string{}
		}
		said.Untold["interfaces"] = fmt.Sprintf("%d interfaces have names or numbers of addresses that are not believed", strange)
	}
}

// maxSeen is how many interfaces, and addresses of one, are taken from a report.
const maxSeen = 1000

// differs tells what of a host's addresses is otherwise than the fleet file says.
// Dynamic interfaces are as they are reported.
func differs(h *fleet.Host, seen []api.SeenInterface) (out []string) {
	known := map[netip.Addr]string{}
	for _, i := range h.Interfaces {
		for _, p := range i.Addresses {
			known[p.Addr()] = i.Name
		}
	}
	for _, a := range h.Floating {
		known[a] = ""
	}
	has := map[netip.Addr]bool{}
	for _, i := range seen {
		for _, p := range i.Addresses {
			has[p.Addr()] = true
			if name, ok := known[p.Addr()]; !ok {
				out = append(out, fmt.Sprintf("%s has %s, which the fleet file does not say", i.Name, p))
			} else if name != "" && name != i.Name {
				out = append(out, fmt.Sprintf("%s has %s, which the fleet file says of %s", i.Name, p, name))
			}
		}
	}
	for _, i := range h.Interfaces {
		at := slices.IndexFunc(seen, func(s api.SeenInterface) bool { return s.Name == i.Name })
		if at < 0 {
			out = append(out, fmt.Sprintf("it has no interface %s", i.Name))
			continue
		}
		for _, p := range i.Addresses {
			if !has[p.Addr()] {
				out = append(out, fmt.Sprintf("%s does not have %s, which the fleet file says", i.Name, p.Addr()))
			}
		}
	}
	return out
}

// missingInterfaces are findings about interfaces that the fleet file says and a host does not
// have: no rule about what comes and goes there does anything.
func missingInterfaces(h *fleet.Host, seen []api.SeenInterface) (out []compare.Finding) {
	if seen == nil || h.Dialect == fleet.NoFilter {
		return nil // nobody told
	}
	for _, i := range h.Interfaces {
		if !slices.ContainsFunc(seen, func(s api.SeenInterface) bool { return s.Name == i.Name }) {
			out = append(out, compare.Finding{Kind: compare.Shut, Because: compare.Changed, Traffic: "everything over " + i.Name,
				Sentence: fmt.Sprintf("The host has no interface %s, which the fleet file says: what the policy admits over it passes "+
					"nowhere.", i.Name),
				Hint: "mend the fleet file, or bring the interface up"})
		}
	}
	return out
}

// follow makes a new generation of the fleet where a host reports other addresses on
// an interface that the fleet file calls dynamic: its peers' rules follow.
func (s *Service) follow(ctx context.Context, m *model, host string, said api.HostFacts) (*model, error) {
	m, _, err := s.takeOver(ctx, m, host, func(m *model) (w moved) {
		h := m.host(host)
		if h == nil {
			return w // it has just been taken out of the fleet
		}
		changed := *h
		changed.Interfaces = slices.Clone(h.Interfaces)
		var what []string
		for i := range changed.Interfaces {
			mine := &changed.Interfaces[i]
			at := slices.IndexFunc(said.Interfaces, func(s api.SeenInterface) bool { return s.Name == mine.Name })
			if !mine.Dynamic || at < 0 || len(said.Interfaces[at].Addresses) == 0 {
				continue // an interface that is down for a while keeps what it had
			}
			now, beyond := m.allowed(h, mine, said.Interfaces[at].Addresses)
			if beyond != nil {
				s.Log.Warn("what a dynamic interface reported is not believed", "host", host, "interface", mine.Name, "addresses",
					joinPrefixes(beyond))
			}
			if len(now) == 0 {
				continue
			}
			same := len(now) == len(mine.Addresses) &&
				!slices.ContainsFunc(now, func(p netip.Prefix) bool { return !slices.Contains(mine.Addresses, p) })
			if !same {
				what = append(what, fmt.Sprintf("%s now has %s", mine.Name, joinPrefixes(now)))
				mine.Addresses = now
			}
		}
		if what == nil {
			return w
		}
		return moved{hosts: []*fleet.Host{&changed}, why: h.Name + ": " + strings.Join(what, "; ")}
	})
	return m, err
}

// maxMoved is how many addresses a dynamic interface may have.
const maxMoved = 16

// allowed are those of the addresses that a dynamic interface reports which it may have: within
// what the fleet file allows, else on its segment, else on the networks of the addresses there.
func (m *model) allowed(h *fleet.Host, i *fleet.Interface, reported []netip.Prefix) (now, beyond []netip.Prefix) {
	var b netipx.IPSetBuilder
	for _, p := range i.Within {
		b.AddPrefix(p)
	}
	if i.Within == nil {
		for _, seg := range m.policy.Segments() {
			if slices.Contains(h.On(seg.Name, seg.Addrs), i.Name) {
				b.AddSet(seg.Addrs)
			}
		}
		for _, p := range i.Addresses {
			b.AddPrefix(p.Masked())
		}
	}
	within, err := b.IPSet()
	if err != nil {
		return nil, reported
	}
	for _, p := range reported {
		a := p.Addr().Unmap()
		if p = netip.PrefixFrom(a, min(p.Bits(), a.BitLen())); !p.IsValid() || !fleet.Unicast(a) || !within.Contains(a) ||
			len(now) == maxMoved {
			beyond = append(beyond, p)
		} else {
			now = append(now, p)
		}
	}
	return now, beyond
}

// moved is what is told of the fleet: hosts that are new or otherwise, the names of those
// that are gone, and why.
type moved struct {
	hosts []*fleet.Host
	gone  []string
	why   string
}

// takeOver makes a new generation of the fleet with what nobody imported. work says what, of
// the newest fleet; nothing is nothing to do. refused says why it is not taken over, where
// the policy does not check clean with it.
func (s *Service) takeOver(ctx context.Context, m *model, by string, work func(m *model) moved) (after *model, refused string, err error) {
	for range changeTries {
		what := work(m)
		if len(what.hosts)+len(what.gone) == 0 {
			return m, "", nil
		}
		next := fleet.Merge(m.fleet, &fleet.Fleet{Hosts: what.hosts})
		next.Hosts = slices.DeleteFunc(next.Hosts, func(h *fleet.Host) bool { return slices.Contains(what.gone, h.Name) })
		text, err := fleet.Write(next, fleet.JSON)
		if err != nil {
			return m, "", err
		}
		file := check.Source{Name: "fleet.json", Text: string(text)}
		fl, problems := fleet.Read(file.Name, text)
		if problems, err = s.checkWith(ctx, m, fl, problems); err != nil {
			return m, "", err
		}
		if source.HasErrors(problems) { // it is said as a difference instead
			refused = check.Summary(problems)
			s.Log.Warn("what was told of a host is not taken over", "by", by, "what", what.why, "because", refused)
			return m, refused, nil
		}
		body, err := json.Marshal(file)
		if err != nil {
			return m, "", err
		}
		_, err = s.Store.Publish(ctx, store.Publication{Base: m.pair, Author: by, Why: what.why, Fleet: body, ByItself: true})
		if err != nil && !errors.Is(err, store.ErrConflict) {
			return m, "", err
		}
		stored := err == nil
		if m, err = s.newest(ctx); err != nil || stored {
			return m, "", err
		}
	}
	return m, "others change the policy or the fleet at the same moment", nil // the next report comes to it
}

// joinPrefixes are prefixes in one line.
func joinPrefixes(all []netip.Prefix) string {
	words := make([]string, len(all))
	for i, p := range all {
		words[i] = p.String()
	}
	return strings.Join(words, ", ")
}

// bootFindings tell where a host would have other rules after it starts than it has
// now: in what those would do to packets, if the host says what they are.
func (s *Service) bootFindings(ctx context.Context, m *model, h *fleet.Host, b *api.Boot, asked int64,
	now []compare.Finding) ([]compare.Finding, error) {
	if b == nil || b.Unknown != "" {
		return nil, nil
	}
	finding := func(sentence, hint string) []compare.Finding {
		return []compare.Finding{{Kind: compare.Boot, Because: compare.Changed, Traffic: "everything, after a reboot", Sentence: sentence,
			Hint: hint}}
	}
	const settle = "settle the host, and keep it"
	switch {
	case b.Kept == nil:
		return finding("Nothing was ever kept here: after a reboot none of these rules are in force.", settle), nil
	case !b.Ours:
		loads := "nothing of ours"
		if len(b.Loads) > 0 {
			loads = "what " + b.Loads[0].By + " loads from " + b.Loads[0].File
		}
		return finding(fmt.Sprintf("The unit %s is not enabled: after a reboot %s is in force.", inventory.BootUnit, loads),
			"systemctl enable "+inventory.BootUnit), nil
	case b.Same || b.Dump == "":
		return nil, nil
	}
	var dump store.Hash
	if n, err := hex.Decode(dump[:], []byte(b.Dump)); err != nil || n != len(dump) {
		return nil, errors.New("the hash of what is loaded at the start is none")
	}
	res, err := s.judge(ctx, m, h, dump, asked)
	if err != nil {
		return nil, err
	}
	var out []compare.Finding
	for _, f := range res.Findings {
		same := slices.ContainsFunc(now, func(g compare.Finding) bool {
			return g.Kind == f.Kind && g.Traffic == f.Traffic && g.Sentence == f.Sentence
		})
		if f.Kind == compare.Cosmetic || same {
			continue // it is so already
		}
		f.Because = compare.Changed
		f.Kind, f.Sentence, f.Hint = compare.Boot, "After a reboot: "+f.Sentence, settle
		if len(b.Loads) > 0 {
			f.Hint += fmt.Sprintf("; besides what is ours, %s is loaded then", b.Loads[0].File)
		}
		out = append(out, f)
	}
	return out, nil
}
