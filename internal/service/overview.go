package service

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"
	"time"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/compare"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/traffic"
	"yellowfence.example/yfence/internal/store"
)

const (
	tallyEvery   = 10 * time.Minute // how often it is noted how the fleet stands
	mostConcerns = 200              // that are told at once
)

// overAll goes through all hosts, or those of a role, that whoever asks may see, with how each stands. It waits as long as a
// reader does.
func (s *Service) overAll(ctx context.Context, what, role string, page func(m *model, k known, h *fleet.Host, res result)) (m *model,
	k known, err error) {
	if m, err = s.newest(ctx); err != nil {
		return nil, k, s.broken(what, err)
	}
	if k, err = s.known(ctx, nil); err != nil {
		return nil, k, s.broken(what, err)
	}
	_, err = s.each(patient(ctx, ends(readerWaits)), &HostsWanted{Role: role, Limit: math.MaxInt / 2}, m, k,
		func(h *fleet.Host, res result) { page(m, k, h, res) })
	if err != nil {
		return nil, k, s.told(what, err)
	}
	return m, k, nil
}

// showOutline answers where all hosts stand, in few words.
func (s *Service) showOutline(ctx context.Context, in *struct {
	Role string `query:"role" maxLength:"63" doc:"hosts of this role only"`
}) (*struct{ Body api.Outline }, error) {
	out := api.Outline{Version: api.Version, Hosts: []api.OutlinedHost{}}
	m, _, err := s.overAll(ctx, "reading the fleet", in.Role, func(_ *model, _ known, h *fleet.Host, res result) {
		out.Hosts = append(out.Hosts, api.OutlinedHost{Name: h.Name, Roles: h.Roles, State: res.State, Has: res.inForce})
	})
	if err != nil {
		return nil, err
	}
	out.Generation, out.Revision, out.Policy = m.pair.Generation, m.pair.Revision, m.policy.Name
	return &struct{ Body api.Outline }{out}, nil
}

// tally notes how many hosts are in which state, if it is time to.
func (s *Service) tally(ctx context.Context, m *model, counts map[string]int, at time.Time) error {
	at = at.Truncate(tallyEvery)
	if s.tallied.Swap(at.Unix()) == at.Unix() {
		return nil
	}
	return s.Store.PutTally(ctx, api.StoodAt{At: at, Revision: m.pair.Revision, Counts: counts})
}

// showHistory answers how the fleet stood, and what was refused.
func (s *Service) showHistory(ctx context.Context, in *SinceInput) (*struct{ Body api.History }, error) {
	defer s.oneByOne()()
	now := s.Clock()
	out := api.History{Version: api.Version, Since: in.from(now).UTC(), Refused: []api.DayCounts{}}
	var err error
	if out.Stood, err = s.Store.Tallies(ctx, out.Since); err != nil {
		return nil, s.broken("reading how the fleet stood", err)
	}
	records, err := s.recordsOf(ctx, store.Refused)
	if err != nil {
		return nil, s.broken("reading what was refused", err)
	}
	days := traffic.RefusedByDay(records, out.Since.Unix())
	for _, day := range slices.Sorted(maps.Keys(days)) {
		out.Refused = append(out.Refused, api.DayCounts{Day: time.Unix(int64(day)*86400, 0).UTC(), Packets: days[day]})
	}
	return &struct{ Body api.History }{out}, nil
}

// showAttention answers what needs a person now.
func (s *Service) showAttention(ctx context.Context, _ *struct{}) (*struct{ Body api.Attention }, error) {
	n := concerns{by: map[string]*concern{}}
	out := api.Attention{Version: api.Version}
	m, k, err := s.overAll(ctx, "looking what there is to do", "", func(m *model, k known, h *fleet.Host, res result) {
		if res.pending {
			out.Reading++
			return
		}
		n.ofHost(m, h, res, k)
	})
	if err != nil {
		return nil, err
	}
	out.Revision = m.pair.Revision
	for _, c := range k.cloudNotes() {
		n.ofCloud(c)
	}
	if api.Has(caller(ctx).Rights, api.Read) { // what is of the whole fleet
		if err := s.concernsBesides(ctx, &n); err != nil {
			return nil, s.broken("looking what there is to do", err)
		}
	}
	out.Concerns = n.sorted()
	out.More = max(len(out.Concerns)-mostConcerns, 0)
	out.Concerns = out.Concerns[:len(out.Concerns)-out.More]
	return &struct{ Body api.Attention }{out}, nil
}

// concernsBesides looks at what is no host: waves, proposals, lists and deliveries.
func (s *Service) concernsBesides(ctx context.Context, n *concerns) error {
	waves, err := s.Store.Waves(ctx, 0, 1)
	if err != nil {
		return err
	}
	for _, w := range waves { // the last one: what stopped before it is over
		on := fmt.Sprint(w.Number)
		switch w.State {
		case api.WaveStopped:
			n.add(api.Concern{Kind: api.ConcernWave, Tone: api.Bad, On: on, Says: fmt.Sprintf("Wave %d stopped: %s", w.Number,
				w.Stopped)}, 0, "")
		case api.WaveWaiting:
			n.add(api.Concern{Kind: api.ConcernWave, Tone: api.Care, On: on, Says: fmt.Sprintf("Wave %d waits after step %d of %d",
				w.Number,
				w.Step, w.Steps), Hint: "see that all is well, then let it go on"}, 0, "")
		}
	}
	proposals, err := s.Store.Proposals(ctx, "open", 0, mostConcerns)
	if err != nil {
		return err
	}
	for _, p := range proposals {
		n.add(api.Concern{Kind: api.ConcernProposal, Tone: api.Care, On: fmt.Sprint(p.Number),
			Says: fmt.Sprintf("Proposal %d by %s is open: %s",
				p.Number, p.Author, p.Why)}, 0, "")
	}
	lists, err := s.showLists(ctx, nil)
	if err != nil {
		return err
	}
	for _, l := range lists.Body.Lists {
		if why := cmp.Or(l.Waits, l.Failing); why != "" {
			n.add(api.Concern{Kind: api.ConcernList, Tone: api.Care, On: l.Network, Says: fmt.Sprintf("The list of %s: %s", l.Network, why),
				Hint: "what was read before stays in force"}, 0, "")
		}
	}
	kept, err := s.Store.Undelivered(ctx, mostConcerns)
	if err != nil {
		return err
	}
	given := map[string]int{}
	for _, u := range kept {
		if u.State == "given up" {
			given[u.Destination]++
		}
	}
	for to, count := range given {
		n.add(api.Concern{Kind: api.ConcernDelivery, Tone: api.Care, On: to, Says: fmt.Sprintf("%s did not take %d events, and they were "+
			"given up",
			to, count), Hint: "see that it answers, then send them again"}, 0, "")
	}
	return nil
}

// concern is what is said of several hosts.
type concern struct {
	api.Concern
	danger int
}

// concerns collects what needs a person.
type concerns struct{ by map[string]*concern } // by what they are, hosts apart

// mostOn is how many hosts are named of those on which something is.
const mostOn = 20

// add adds something, on a host if one is named.
func (n *concerns) add(one api.Concern, danger int, host string) {
	key := strings.Join([]string{one.Kind, one.On, string(one.State), one.Says, one.Hint}, "\x00")
	kept := n.by[key]
	if kept == nil {
		kept = &concern{Concern: one}
		n.by[key] = kept
	}
	kept.danger = max(kept.danger, danger)
	if host == "" {
		return
	}
	if kept.Count++; kept.Count <= mostOn {
		kept.Hosts = append(kept.Hosts, host)
	}
}

// ofHost adds what a host needs a person for.
func (n *concerns) ofHost(m *model, h *fleet.Host, res result, k known) {
	for _, f := range res.Findings {
		if f.Because != compare.Changed || f.Kind == compare.Cosmetic {
			continue
		}
		one := api.Concern{Kind: string(f.Kind), Tone: api.Bad, Says: f.Sentence, Hint: f.Hint}
		if f.Kind == compare.Boot {
			one.Kind = api.ConcernAltered
		}
		n.add(one, f.Danger, h.Name)
	}
	note := res.State.Note()
	switch {
	case res.State == api.Behind:
		n.add(api.Concern{Kind: api.ConcernSettle, Tone: api.Care, State: res.State,
			Says: fmt.Sprintf("Revision %d is published and not in force",
				m.pair.Revision), Hint: "start a wave, or settle the hosts one by one"}, 0, h.Name)
	case res.State == api.Drifted: // its findings are told
	case note.Tone == api.Bad || res.State == api.Unread || res.State == api.Silent:
		says := strings.ToUpper(string(res.State)[:1]) + string(res.State)[1:] + ": " + cmp.Or(res.Why, note.Means)
		n.add(api.Concern{Kind: api.ConcernState, Tone: note.Tone, State: res.State, Says: says}, 0, h.Name)
	}
	if around := k.attending[h.Name].Around.Interfaces; around != nil {
		if differs := differs(h, around); len(differs) > 0 {
			n.add(api.Concern{Kind: api.ConcernAddresses, Tone: api.Care, Says: "Addresses are not as the fleet file says",
				Hint: "look at the host, then change the fleet file"}, 0, h.Name)
		}
	}
}

// ofCloud adds what a cloud needs a person for.
func (n *concerns) ofCloud(c api.CloudStatus) {
	if c.Failing != "" {
		n.add(api.Concern{Kind: api.ConcernCloud, Tone: api.Bad, On: c.Cloud, Says: fmt.Sprintf("%s cannot be read: %s", c.Cloud,
			c.Failing)}, 0, "")
	}
	for _, note := range c.Notes {
		n.add(api.Concern{Kind: api.ConcernCloud, Tone: api.Bad, On: c.Cloud, Says: note.Says, Hint: note.Hint}, 0, "")
	}
}

// urgent is the order of what needs a person.
var urgent = []string{api.ConcernOpened, api.ConcernState, api.ConcernShut, api.ConcernAltered, api.ConcernWave, api.ConcernCloud,
	api.ConcernProposal,
	api.ConcernList, api.ConcernDelivery, api.ConcernAddresses, api.ConcernSettle}

// sorted is all of it, the most urgent first: what is bad before what somebody should look at, an opening before
// all, the most dangerous and the widest first.
func (n *concerns) sorted() []api.Concern {
	all := slices.SortedFunc(maps.Values(n.by), func(a, b *concern) int {
		return cmp.Or(tone(a.Tone)-tone(b.Tone), slices.Index(urgent, a.Kind)-slices.Index(urgent, b.Kind),
			b.danger-a.danger, b.Count-a.Count, strings.Compare(a.Says, b.Says), strings.Compare(a.On, b.On))
	})
	out := make([]api.Concern, len(all))
	for i, one := range all {
		out[i] = one.Concern
	}
	return out
}

// tone is the place of a tone among those that need a person.
func tone(t api.Tone) int { return slices.Index([]api.Tone{api.Bad, api.Care}, t) }
