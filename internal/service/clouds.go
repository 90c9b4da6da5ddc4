package service

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"maps"
	"math"
	"os"
	"slices"
	"time"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/dialect/group"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/internal/cloud"
	"yellowfence.example/yfence/internal/store"
)

// A CloudAccount is a cloud that the service looks after: it reads back what is in force
// there, and puts groups in force that a wave asks for.
type CloudAccount struct {
	Name  string // the cloud's, as fleet files say it
	Owner string // whose account it is to be; what another has is not looked at
	Label string // which label of an instance names its roles
	cloud.Account
}

// How long one of several services looks after a cloud, and how long the cloud may take.
const (
	cloudHeld = time.Minute // that a service looks after a cloud, unless it goes on
	cloudRead = time.Minute // that reading one, or asking for a phase, may take
)

// connected says that a host has an instance in a cloud that this service looks after.
func (s *Service) connected(h *fleet.Host) bool {
	return h.Instance != nil && slices.ContainsFunc(s.Clouds, func(c CloudAccount) bool { return c.Name == h.Instance.Cloud })
}

// WorkClouds looks after the clouds until ctx ends. Of several services on one database one
// does it for each cloud, and another when that one is gone.
func (s *Service) WorkClouds(ctx context.Context) {
	done := make(chan struct{})
	for _, c := range s.Clouds {
		go func() {
			defer func() { done <- struct{}{} }()
			s.workCloud(ctx, c)
		}()
	}
	for range s.Clouds {
		<-done
	}
}

// holderName names who looks after something, of several services on one database.
func holderName() string {
	name, _ := os.Hostname()
	return fmt.Sprintf("%.32s %d %.12s", name, os.Getpid(), rand.Text())
}

// workCloud looks after one cloud until ctx ends: what is asked of it is carried on, and all of
// it is read every CloudEvery. Of several services one does it at a time.
func (s *Service) workCloud(ctx context.Context, c CloudAccount) {
	ctx = store.For(ctx, store.Work)
	holder := holderName()
	next := time.Time{} // when all of it is read again
	for wait := time.Duration(0); ; wait = s.CloudSoon {
		select {
		case <-ctx.Done():
			return
		case <-time.After(wait):
		}
		mine, err := s.Store.HoldCloud(ctx, c.Name, holder, cloudHeld)
		if err != nil || !mine {
			if err != nil && ctx.Err() == nil {
				s.Log.Error("looking after a cloud", "cloud", c.Name, "error", err)
			}
			continue
		}
		open, err := s.cloudOpen(ctx, c)
		if err == nil && (len(open) > 0 || over(next)) {
			next = ends(s.CloudEvery)
			err = s.guarded(func() error { return s.lookAtCloud(ctx, c, holder) })
		}
		if err != nil && ctx.Err() == nil {
			s.Log.Error("looking after a cloud", "cloud", c.Name, "error", err)
		}
	}
}

// cloudOpen are the HOST@CLOUD of a cloud that were asked for something that was not in
// force when it was last looked at, and did not fail.
func (s *Service) cloudOpen(ctx context.Context, c CloudAccount) (open map[string]store.LastReport, err error) {
	if open, err = s.cloudHeard(ctx, c); err != nil {
		return nil, err
	}
	states, err := s.Store.Clouds(ctx)
	maps.DeleteFunc(open, func(at string, h store.LastReport) bool {
		return h.Pair == 0 || states[c.Name].Reached[at].Equal(h.AskedAt)
	})
	return open, err
}

// lookAtCloud reads all of a cloud, notes what is in force, takes new instances over, and
// goes on with what was asked for. It asks for nothing else: what somebody changed by hand stays
// until a person has the policy settled again.
func (s *Service) lookAtCloud(ctx context.Context, c CloudAccount, holder string) error {
	ctx, cancel := context.WithTimeout(ctx, cloudRead)
	defer cancel()
	states, err := s.Store.Clouds(ctx)
	if err != nil {
		return err
	}
	st := states[c.Name]
	st.Failing, st.Waits = "", nil
	have, doc, err := readCloud(ctx, c)
	if err != nil { // what was read before stands, and grows old
		st.Failing = err.Error()
		return s.Store.PutCloud(ctx, c.Name, holder, st)
	}
	now := s.Clock().UTC()
	st.ReadAt, st.Account, st.Instances, st.Groups = &now, have.About.Account, len(have.Instances), len(have.Groups)
	st.Abilities = have.Abilities
	if err := s.Store.PutCloudListing(ctx, c.Name, listingOf(doc)); err != nil {
		return err
	}
	m, err := s.newest(ctx)
	if err != nil {
		return err
	}
	m, notes, err := s.meet(ctx, c, m, have, &st)
	if err != nil {
		return err
	}
	look := m.instances(c.Name)
	heard, err := s.cloudHeard(ctx, c)
	if err != nil {
		return err
	}
	if err := s.hearCloud(ctx, c, m, doc, heard, now); err != nil {
		return err
	}
	if err := s.askAnew(ctx, heard, now); err != nil {
		return err
	}
	want, failed, left, err := s.wanted(ctx, m, heard, c, st)
	if err != nil {
		return err
	}
	if st.Reached == nil {
		st.Reached = map[string]time.Time{}
	}
	for at, why := range st.Failed { // what the cloud refused stays refused until it is asked for anew
		if h, ok := heard[at]; ok && failed[at] == "" && h.Pair != 0 && st.Reached[at].Equal(h.AskedAt) &&
			m.host(api.SubjectOf(at).Host) != nil {
			failed[at] = why
		}
	}
	st.Failed, st.Left = failed, left
	opened := s.pushGroups(ctx, c, m, have, want, heard, &st)
	st.Notes = notes
	for _, n := range group.Notes(doc, want) {
		_, changes := opened[n.What]
		known := look[n.What]
		switch {
		case changes || len(opened) > 0 && n.Kind == group.Unattached: // just about to be right
			continue
		case n.Kind == group.NoGroup && known != nil && heard[atCloud(known)].Pair == 0:
			n.Hint = fmt.Sprintf("nobody asked for the groups of %s yet: yfence waves start %s", known.Name, known.Name)
		}
		st.Notes = append(st.Notes, n)
	}
	return s.Store.PutCloud(ctx, c.Name, holder, st)
}

// pushGroups goes on with what instances of a cloud were asked for and do not have in force yet.
// It gives those that it is at, HOST@CLOUD by the identity of the instance.
func (s *Service) pushGroups(ctx context.Context, c CloudAccount, m *model, have *cloud.State, want *group.Document,
	heard map[string]store.LastReport, st *store.CloudState) (opened map[string]string) {
	open := &group.Document{Version: 1, Kind: group.Kind, Cloud: c.Name, Groups: want.Groups, Members: []group.Member{}}
	opened = map[string]string{}
	for at, h := range heard {
		switch {
		case h.Pair == 0 || st.Reached[at].Equal(h.AskedAt):
		case st.Failed[at] != "":
			st.Reached[at] = h.AskedAt // as far as it goes
		default:
			known := m.host(api.SubjectOf(at).Host)
			for _, member := range want.Members {
				if known != nil && known.Instance != nil && known.Instance.ID == member.Instance {
					open.Members = append(open.Members, member)
					opened[member.Instance] = at
				}
			}
		}
	}
	if len(opened) > 0 {
		p, err := cloud.Advance(ctx, c.Account, have, open.Attached())
		st.Waits = append(p.Waits, p.Asked...)
		if err != nil {
			st.Failing = err.Error()
		}
		for instance, why := range p.Refused {
			at := opened[instance]
			st.Failed[at], st.Reached[at] = why, heard[at].AskedAt
			delete(opened, instance)
		}
		for _, at := range opened {
			if p.Done {
				st.Reached[at] = heard[at].AskedAt
			}
		}
	}
	return opened
}

// readCloud reads a cloud, if it is the right one.
func readCloud(ctx context.Context, c CloudAccount) (have *cloud.State, doc *group.Document, err error) {
	if have, err = cloud.Read(ctx, c.Account); err != nil {
		return nil, nil, err
	}
	if have.Cloud != c.Name || have.About.Account != c.Owner {
		return nil, nil, fmt.Errorf("it is the account %q of the cloud %q that answers, not %q of %q", have.About.Account, have.Cloud,
			c.Owner, c.Name)
	}
	doc, err = have.Document()
	return have, doc, err
}

// cloudHeard are what is known of the HOST@CLOUD of a cloud.
func (s *Service) cloudHeard(ctx context.Context, c CloudAccount) (out map[string]store.LastReport, err error) {
	out, err = s.Store.LastReports(ctx)
	maps.DeleteFunc(out, func(at string, _ store.LastReport) bool { return api.SubjectOf(at).Cloud != c.Name })
	return out, err
}

// hearCloud notes for every host with an instance what its groups are, as if it had
// reported them.
func (s *Service) hearCloud(ctx context.Context, c CloudAccount, m *model, doc *group.Document, heard map[string]store.LastReport,
	now time.Time) error {
	for _, h := range m.fleet.Hosts {
		if h.Instance == nil || h.Instance.Cloud != c.Name ||
			!slices.ContainsFunc(doc.Members, func(m group.Member) bool { return m.Instance == h.Instance.ID }) {
			continue
		}
		dump, err := json.Marshal(api.InForce{Dumps: []api.Dump{{Kind: group.Listing, Text: doc.Concerning(h.Instance.ID).String()}}})
		if err != nil {
			return err
		}
		// A report is a row: one that says what the last did comes as often as hosts report.
		last := heard[atCloud(h)]
		if store.HashOf(dump) == last.Dump && now.Sub(last.ReceivedAt) < s.ReportEvery && !last.AskedAt.After(last.ReceivedAt) {
			continue
		}
		if _, err := s.Store.Report(ctx, atCloud(h), now, dump, math.MaxInt64); err != nil {
			return err
		}
	}
	return nil
}

// wanted is what a cloud is to have by what its instances were asked for, each by the pair
// that it was. failed tells by HOST@CLOUD why that cannot be, left what is left to hosts.
// Nothing is wanted for what has left the fleet or the cloud.
func (s *Service) wanted(ctx context.Context, now *model, heard map[string]store.LastReport, c CloudAccount,
	st store.CloudState) (want *group.Document, failed map[string]string, left []string, err error) {
	want, failed = &group.Document{Version: 1, Kind: group.Kind, Cloud: c.Name, Groups: []group.Group{}, Members: []group.Member{}},
		map[string]string{}
	by := map[int64][]string{}
	for at, h := range heard {
		if known := now.host(api.SubjectOf(at).Host); h.Pair != 0 && known != nil && st.Gone[at] == 0 {
			by[h.Pair] = append(by[h.Pair], at)
		}
	}
	for number, all := range by {
		m, err := s.modelOf(ctx, number)
		if err != nil {
			return nil, nil, nil, err
		}
		whole, remain, cannot := s.groupsOf(m, c.Name, st.Abilities)
		for _, at := range all {
			h := m.host(api.SubjectOf(at).Host)
			if h == nil || h.Instance == nil {
				continue
			}
			if err := cannot[h.Name]; err != nil {
				failed[at] = err.Error()
				continue
			}
			i := slices.IndexFunc(whole.Members, func(m group.Member) bool { return m.Instance == h.Instance.ID })
			if h.Instance.Cloud != c.Name || i < 0 { // it has moved to another cloud since
				continue
			}
			want.Members = append(want.Members, whole.Members[i])
			for _, what := range remain[h.Name] {
				left = append(left, h.Name+": "+what)
			}
			for _, g := range whole.Groups {
				if slices.Contains(whole.Members[i].Groups, g.Name) &&
					!slices.ContainsFunc(want.Groups, func(w group.Group) bool { return w.Name == g.Name }) {
					want.Groups = append(want.Groups, g)
				}
			}
		}
	}
	slices.Sort(left)
	return want, failed, left, nil
}

// askAnew asks again for the groups of instances for whom a rule has ended since they were
// last asked for: on a host a rule ends by itself, a group does not.
func (s *Service) askAnew(ctx context.Context, heard map[string]store.LastReport, now time.Time) error {
	for at, h := range heard {
		if h.Pair == 0 {
			continue
		}
		m, err := s.modelOf(ctx, h.Pair)
		if err != nil {
			return err
		}
		if end := m.policy.NextTurn(h.AskedAt.Unix()); end == 0 || end > now.Unix() {
			continue
		}
		if err := s.Store.Ask(ctx, at, h.Pair); err != nil {
			return err
		}
		again, err := s.Store.LastReports(ctx, at)
		if err != nil {
			return err
		}
		heard[at] = again[at]
	}
	return nil
}

// groupsOf are the groups of all of a cloud's instances by a pair, called after what they hold.
//
// It tells by host what is left to its own filter, and whose groups cannot be written.
func (s *Service) groupsOf(m *model, cloud string, can group.Abilities) (d *group.Document, left map[string][]string,
	failed map[string]error) {
	m.grouping.Lock()
	defer m.grouping.Unlock()
	can.GroupPeers = false // a group that is a peer would have to keep its name, and what it holds
	now := s.Clock().Unix()
	if g := m.grouped; g == nil || g.cloud != cloud || g.can != can || g.until != 0 && now >= g.until || now < g.at {
		doc, left, failed := group.OfFleet(m.policy, cloud, now, can)
		m.grouped = &grouped{cloud: cloud, can: can, at: now, until: m.policy.NextTurn(now), doc: group.ByContent(doc), left: left,
			failed: failed}
	}
	return m.grouped.doc, m.grouped.left, m.grouped.failed
}

// grouped are groups that were made, and until when they are right.
type grouped struct {
	cloud     string
	can       group.Abilities
	at, until int64
	doc       *group.Document
	left      map[string][]string
	failed    map[string]error
}
