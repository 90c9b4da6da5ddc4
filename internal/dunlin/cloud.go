package dunlin

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"net/netip"
	"slices"
	"sync"
	"time"

	"yellowfence.example/yfence/core/dialect/group"
	"yellowfence.example/yfence/core/fleet"
)

// Options are what a cloud is like.
type Options struct {
	Name      string          // as the fleet file says it
	Account   string          // its name
	Token     string          // of the account
	Abilities group.Abilities // of its groups
	// What is asked is in force after a time between these.
	SoonAfter, LateAfter time.Duration
	PerSecond            int // requests that an account may make; 0 is any number
	Clock                func() time.Time
	Rand                 *rand.Rand
}

// An Instance is a machine in the cloud.
type Instance struct {
	ID        string            `json:"id"`
	Addresses []netip.Addr      `json:"addresses" nullable:"false"`
	Labels    map[string]string `json:"labels,omitempty"`
	Groups    []string          `json:"groups" nullable:"false" doc:"in force"`
	Asked     []string          `json:"asked,omitempty" doc:"that it is to be in, where that is not in force yet"`
}

// A KeptGroup is a group as the cloud has it.
type KeptGroup struct {
	group.Group
	Version int64        `json:"version" doc:"goes up with every change; a change names the one that it is of"`
	Asked   *group.Group `json:"asked,omitempty" doc:"what it is to be, where that is not in force yet"`
}

// Cloud is a cloud, of one account.
type Cloud struct {
	Options
	mu        sync.Mutex
	instances map[string]*Instance
	groups    map[string]*KeptGroup
	pending   []pending // by when they are in force
	faults    []*Fault
	spent     []time.Time // when requests were made, in the last second
}

// pending is a change that was taken and is not in force yet.
type pending struct {
	at time.Time
	do func()
}

// New makes a cloud with nothing in it.
func New(o Options) *Cloud {
	if o.Clock == nil {
		o.Clock = time.Now
	}
	if o.Rand == nil {
		o.Rand = rand.New(rand.NewPCG(1, 1))
	}
	return &Cloud{Options: o, instances: map[string]*Instance{}, groups: map[string]*KeptGroup{}}
}

// settle puts in force what is due by now. The lock is held.
func (c *Cloud) settle() {
	now := c.Clock()
	slices.SortStableFunc(c.pending, func(a, b pending) int { return a.at.Compare(b.at) })
	for len(c.pending) > 0 && !c.pending[0].at.After(now) {
		do := c.pending[0].do
		c.pending = c.pending[1:]
		do()
	}
}

// later has something be in force after a while. The lock is held.
func (c *Cloud) later(do func()) {
	wait := c.SoonAfter
	if more := c.LateAfter - c.SoonAfter; more > 0 {
		wait += time.Duration(c.Rand.Int64N(int64(more)))
	}
	c.pending = append(c.pending, pending{c.Clock().Add(wait), do})
}

// A refusal is what the cloud does not do, and why.
type refusal struct {
	status int
	why    string
}

// Error says why.
func (r *refusal) Error() string { return r.why }

// refuse is a refusal with the status that it is answered by.
func refuse(status int, format string, args ...any) error {
	return &refusal{status, fmt.Sprintf(format, args...)}
}

// PutGroup asks for a group to be as it is said. version is the one that it was read at,
// 0 for a group that is not there.
func (c *Cloud) PutGroup(g group.Group, version int64) (int64, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.settle()
	if err := c.holds(g); err != nil {
		return 0, err
	}
	kept := c.groups[g.Name]
	switch {
	case kept == nil && version != 0:
		return 0, refuse(404, "there is no group %q", g.Name)
	case kept == nil:
		kept = &KeptGroup{Group: group.Group{Name: g.Name, Inbound: []group.Rule{}, Outbound: []group.Rule{}}}
		c.groups[g.Name] = kept
	case kept.Version != version:
		return 0, refuse(409, "the group %q is at version %d, not %d: somebody changed it since", g.Name, kept.Version, version)
	}
	kept.Version++
	kept.Asked = &g
	asked := kept.Version
	c.later(func() {
		if kept.Version == asked && c.groups[g.Name] == kept {
			kept.Group, kept.Asked = g, nil
		}
	})
	return kept.Version, nil
}

// holds says that the cloud can hold a group.
func (c *Cloud) holds(g group.Group) error {
	if g.Name == "" || len(g.Name) > 128 {
		return refuse(422, "a group's name has 1 to 128 characters")
	}
	for side, rules := range map[string][]group.Rule{"inbound": g.Inbound, "outbound": g.Outbound} {
		if most := c.Abilities.RulesPerGroup; most > 0 && len(rules) > most {
			return refuse(422, "%d %s rules are more than the %d that a group holds", len(rules), side, most)
		}
		for i, r := range rules {
			if r.Refuses && !c.Abilities.Ordered {
				return refuse(422, "%s rule %d refuses, and rules only admit here", side, i+1)
			}
			if most := c.Abilities.PeersPerRule; most > 0 && len(r.Peers) > most {
				return refuse(422, "%s rule %d has %d peers, and a rule holds %d", side, i+1, len(r.Peers), most)
			}
			for _, p := range r.Peers {
				switch err := p.Check(); {
				case err != nil:
					return refuse(422, "%s rule %d: %s", side, i+1, err)
				case p.Group != "" && !c.Abilities.GroupPeers:
					return refuse(422, "%s rule %d: peers are prefixes here", side, i+1)
				case p.Group != "" && p.Group != g.Name && c.groups[p.Group] == nil:
					return refuse(422, "%s rule %d: there is no group %q", side, i+1, p.Group)
				}
			}
		}
	}
	return nil
}

// DropGroup takes a group away that nobody is in, and that no rule names.
func (c *Cloud) DropGroup(name string, version int64) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.settle()
	kept := c.groups[name]
	switch {
	case kept == nil:
		return refuse(404, "there is no group %q", name)
	case kept.Version != version:
		return refuse(409, "the group %q is at version %d, not %d: somebody changed it since", name, kept.Version, version)
	}
	for _, i := range c.instances {
		if slices.Contains(i.Groups, name) || slices.Contains(i.Asked, name) {
			return refuse(409, "the instance %s is in the group %q", i.ID, name)
		}
	}
	for _, other := range c.groups {
		for _, r := range slices.Concat(other.Inbound, other.Outbound) {
			if other != kept && slices.Contains(r.Peers, group.Peer{Group: name}) {
				return refuse(409, "a rule of the group %q names %q", other.Name, name)
			}
		}
	}
	delete(c.groups, name)
	return nil
}

// PutMembership asks for an instance to be in just these groups.
func (c *Cloud) PutMembership(id string, groups []string) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.settle()
	i := c.instances[id]
	if i == nil {
		return refuse(404, "there is no instance %q", id)
	}
	if most := c.Abilities.GroupsPerInstance; most > 0 && len(groups) > most {
		return refuse(422, "%d groups are more than the %d that an instance may be in", len(groups), most)
	}
	for _, name := range groups {
		if c.groups[name] == nil {
			return refuse(422, "there is no group %q", name)
		}
	}
	asked := slices.Clone(groups)
	i.Asked = asked
	c.later(func() {
		if c.instances[id] == i && slices.Equal(i.Asked, asked) {
			i.Groups, i.Asked = asked, nil
		}
	})
	return nil
}

// Instances are some instances, in the order of their names: those behind after, so many.
func (c *Cloud) Instances(after string, limit int) (out []Instance, next string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.settle()
	out = []Instance{}
	for _, id := range slices.Sorted(maps.Keys(c.instances)) {
		if id <= after {
			continue
		}
		if len(out) == limit {
			return out, out[len(out)-1].ID
		}
		out = append(out, *c.instances[id])
	}
	return out, ""
}

// count is how many instances there are.
func (c *Cloud) count() int {
	c.mu.Lock()
	defer c.mu.Unlock()
	return len(c.instances)
}

// Groups are all groups, in the order of their names.
func (c *Cloud) Groups() []KeptGroup {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.settle()
	out := []KeptGroup{}
	for _, name := range slices.Sorted(maps.Keys(c.groups)) {
		out = append(out, *c.groups[name])
	}
	return out
}

// Document is what is in force, as a dump.
func (c *Cloud) Document() *group.Document {
	d := &group.Document{Version: 1, Kind: group.Kind, Cloud: c.Name, Groups: []group.Group{}, Members: []group.Member{}}
	for _, g := range c.Groups() {
		d.Groups = append(d.Groups, g.Group)
	}
	all, _ := c.Instances("", -1)
	for _, i := range all {
		d.Members = append(d.Members, group.Member{Instance: i.ID, Groups: i.Groups, Addresses: i.Addresses})
	}
	return d
}

// Start has an instance come up, in the groups that it is given, at once.
func (c *Cloud) Start(i Instance) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if i.Groups == nil {
		i.Groups = []string{}
	}
	c.instances[i.ID] = &i
}

// InstanceOf is a host of a fleet as its cloud has it.
func InstanceOf(h *fleet.Host) Instance {
	return Instance{ID: h.Instance.ID, Labels: h.Instance.Labels, Addresses: h.Own()}
}

// Stop takes an instance away.
func (c *Cloud) Stop(id string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	delete(c.instances, id)
}

// ByHand changes a group behind everybody's back: it is in force at once, and nobody is told.
func (c *Cloud) ByHand(g group.Group) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.settle()
	kept := c.groups[g.Name]
	if kept == nil {
		kept = &KeptGroup{}
		c.groups[g.Name] = kept
	}
	kept.Group, kept.Asked = g, nil
	kept.Version++
}
