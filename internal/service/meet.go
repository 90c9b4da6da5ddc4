package service

import (
	"cmp"
	"context"
	"fmt"
	"net/netip"
	"regexp"
	"slices"
	"strings"

	"yellowfence.example/yfence/core/dialect/group"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/internal/cloud"
	"yellowfence.example/yfence/internal/store"
)

// hostName is what a host of the fleet may be called.
var hostName = regexp.MustCompile(`^[a-z][a-z0-9.-]{0,62}$`)

// goneAfter is how many times in a row a cloud must not know an instance before its host
// leaves the fleet: a cloud's listing may be short for a moment.
const goneAfter = 3

// meeting is one look at the instances of a cloud.
type meeting struct {
	*Service
	cloud CloudAccount
	m     *model
	have  map[string]cloud.Instance // by identity
	state *store.CloudState
	notes []group.CloudNote
	known map[string]*fleet.Host // by the identity of the instance, of m
}

// meet has the fleet follow the instances of a cloud. New ones whose label names roles are
// taken over, and their groups asked for. Of those that the fleet has labels of, the cloud
// says roles and addresses, and they leave with their instance. What is told and not followed
// is noted. Peers of all these are behind then, and follow in a wave.
func (s *Service) meet(ctx context.Context, c CloudAccount, m *model, have *cloud.State, state *store.CloudState) (after *model,
	notes []group.CloudNote, err error) {
	if m.pair.Number == 0 {
		return m, nil, nil
	}
	look := &meeting{Service: s, cloud: c, have: map[string]cloud.Instance{}, state: state}
	for _, i := range have.Instances {
		look.have[i.ID] = i
	}
	look.at(m)
	if err := look.departures(ctx); err != nil {
		return look.m, look.notes, err
	}
	for _, i := range have.Instances {
		if h := look.known[i.ID]; h != nil {
			err = look.again(ctx, h, i)
		} else if i.Labels[c.Label] != "" {
			err = look.first(ctx, i)
		}
		if err != nil {
			return look.m, look.notes, err
		}
	}
	return look.m, look.notes, nil
}

// at goes on with a model.
func (l *meeting) at(m *model) {
	if l.m == m {
		return
	}
	l.m, l.known = m, m.instances(l.cloud.Name)
}

// instances are the hosts with an instance in a cloud, by its identity.
func (m *model) instances(cloud string) map[string]*fleet.Host {
	out := map[string]*fleet.Host{}
	for _, h := range m.fleet.Hosts {
		if h.Instance != nil && h.Instance.Cloud == cloud {
			out[h.Instance.ID] = h
		}
	}
	return out
}

// take changes the fleet, and says why that cannot be.
func (l *meeting) take(ctx context.Context, work func(m *model) moved) (refused string, err error) {
	m, refused, err := l.takeOver(ctx, l.m, "cloud "+l.cloud.Name, work)
	if err == nil {
		l.at(m)
	}
	return refused, err
}

// note notes something about an instance.
func (l *meeting) note(kind, id, hint, format string, args ...any) {
	l.notes = append(l.notes, group.CloudNote{Kind: kind, What: id, Says: fmt.Sprintf(format, args...), Hint: hint})
}

// departures has hosts leave the fleet whose instances are not there any more, where the
// cloud says who is.
func (l *meeting) departures(ctx context.Context) error {
	gone := map[string]int{} // how often in a row
	for id, h := range l.known {
		if _, there := l.have[id]; !there {
			gone[atCloud(h)] = l.state.Gone[atCloud(h)] + 1
		}
	}
	l.state.Gone = gone
	var leave []string
	for id, h := range l.known {
		switch n := gone[atCloud(h)]; {
		case n == 0:
		case h.Instance.Labels == nil:
			l.note(group.Gone, id, "take it out of the fleet file",
				"The instance %s of %s is not there any more; what its addresses may reach is still open to whoever gets them.", id, h.Name)
		case n >= goneAfter || slices.ContainsFunc(l.addresses(h), l.taken(id)):
			leave = append(leave, h.Name)
		}
	}
	if leave == nil {
		return nil
	}
	slices.Sort(leave)
	refused, err := l.take(ctx, func(m *model) (w moved) {
		for _, name := range leave {
			if m.host(name) != nil {
				w.gone = append(w.gone, name)
			}
		}
		w.why = fmt.Sprintf("%s left %s", strings.Join(w.gone, ", "), l.cloud.Name)
		return w
	})
	if refused != "" {
		l.note(group.Gone, strings.Join(leave, ", "), "publish a policy that does without it",
			"What left %s does not leave the fleet: %s", l.cloud.Name, refused)
	}
	return err
}

// addresses are a host's addresses.
func (l *meeting) addresses(h *fleet.Host) (out []netip.Addr) {
	for _, i := range h.Interfaces {
		for _, p := range i.Addresses {
			out = append(out, p.Addr())
		}
	}
	return out
}

// taken tells whether another instance has an address.
func (l *meeting) taken(but string) func(netip.Addr) bool {
	return func(a netip.Addr) bool {
		for id, i := range l.have {
			if id != but && slices.Contains(i.Addresses, a) {
				return true
			}
		}
		return false
	}
}

// again looks at an instance that the fleet knows.
func (l *meeting) again(ctx context.Context, h *fleet.Host, i cloud.Instance) error {
	has := l.addresses(h)
	elsewhere := len(i.Addresses) > 0 &&
		(len(has) != len(i.Addresses) || slices.ContainsFunc(i.Addresses, func(a netip.Addr) bool { return !slices.Contains(has, a) }))
	// A host that the fleet file names without labels is the file's: what the cloud says is only told.
	if h.Instance.Labels == nil {
		if elsewhere && h.Dialect == fleet.NoFilter { // else the host tells its addresses itself
			l.note(group.Elsewhere, i.ID, "mend the fleet file", "The instance %s of %s has %s, and the fleet file says %s.", i.ID,
				h.Name, joinAddresses(i.Addresses), joinAddresses(has))
		}
		return nil
	}
	roles := rolesOf(i.Labels[l.cloud.Label])
	if roles == nil {
		l.note(group.NotTaken, i.ID, "label it with its roles",
			"The instance %s of %s is no longer labelled with roles: it keeps those it had, %s.", i.ID, h.Name, strings.Join(h.Roles, ", "))
		roles = h.Roles
	}
	if !elsewhere && slices.Equal(roles, h.Roles) {
		return nil
	}
	why := ""
	// Within the change, all is looked at again: somebody may have imported a fleet meanwhile.
	refused, err := l.take(ctx, func(m *model) (w moved) {
		now := m.instance(l.cloud.Name, i.ID)
		if now == nil {
			return w
		}
		changed := *now
		if !slices.Equal(roles, now.Roles) {
			if why = unknownRole(m, roles); why != "" {
				return w
			}
			changed.Roles = roles
			w.why = fmt.Sprintf("%s is labelled %s", now.Name, strings.Join(roles, ", "))
		}
		if elsewhere && now.Dialect == fleet.NoFilter {
			nic, wrong := nicOf(m, now, i)
			if why = wrong; why != "" {
				return w
			}
			changed.Interfaces = []fleet.Interface{nic}
			w.why = strings.TrimPrefix(fmt.Sprintf("%s; %s now has %s", w.why, now.Name, joinAddresses(i.Addresses)), "; ")
		}
		instance := *now.Instance
		instance.Labels = i.Labels
		changed.Instance = &instance
		if w.why != "" {
			w.hosts = []*fleet.Host{&changed}
		}
		return w
	})
	if why = cmp.Or(why, refused); why != "" {
		l.note(group.NotTaken, i.ID, "mend the label, or the fleet file", "The instance %s of %s changed, and that is not followed: %s",
			i.ID, h.Name, why)
	}
	return err
}

// first takes over an instance that the fleet does not know.
func (l *meeting) first(ctx context.Context, i cloud.Instance) error {
	var h *fleet.Host
	why := ""
	refused, err := l.take(ctx, func(m *model) (w moved) {
		if h = nil; m.instance(l.cloud.Name, i.ID) != nil {
			return w
		}
		if h, why = newcomer(l.cloud, m, i); h == nil {
			return w
		}
		return moved{hosts: []*fleet.Host{h},
			why: fmt.Sprintf("the instance %s came up in %s, labelled %s", i.ID, l.cloud.Name, strings.Join(h.Roles, ", "))}
	})
	if err != nil {
		return err
	}
	if why = cmp.Or(refused, why); why != "" {
		l.note(group.NotTaken, i.ID, "mend the label, or add it to the fleet file",
			"The instance %s is labelled %q, and is not taken into the fleet: %s", i.ID, i.Labels[l.cloud.Label], why)
		return nil
	}
	if h == nil {
		return nil
	}
	return l.Store.Ask(ctx, atCloud(h), l.m.pair.Number)
}

// joinAddresses are addresses in one line.
func joinAddresses(all []netip.Addr) string {
	words := make([]string, len(all))
	for i, a := range all {
		words[i] = a.String()
	}
	return strings.Join(words, ", ")
}

// instance is the host whose instance has an identity in a cloud; nil if there is none.
func (m *model) instance(cloud, id string) *fleet.Host {
	for _, h := range m.fleet.Hosts {
		if h.Instance != nil && h.Instance.Cloud == cloud && h.Instance.ID == id {
			return h
		}
	}
	return nil
}

// rolesOf are the roles that a label names.
func rolesOf(label string) []string {
	roles := strings.FieldsFunc(label, func(r rune) bool { return r == ' ' || r == ',' })
	if len(roles) == 0 {
		return nil
	}
	return roles
}

// unknownRole says which of some roles the policy does not have; "" if it has all.
func unknownRole(m *model, roles []string) string {
	for _, role := range roles {
		if !slices.ContainsFunc(m.policy.Roles, func(r *policy.Role) bool { return r.Name == role }) {
			return "the policy has no role " + role
		}
	}
	return ""
}

// newcomer is a new instance as a host; why says what is wrong with it.
func newcomer(c CloudAccount, m *model, i cloud.Instance) (h *fleet.Host, why string) {
	name := cmp.Or(i.Labels["name"], i.ID)
	h = &fleet.Host{Name: name, Roles: rolesOf(i.Labels[c.Label]), Dialect: fleet.NoFilter,
		Instance: &fleet.Instance{Cloud: c.Name, ID: i.ID, Labels: i.Labels}}
	if !hostName.MatchString(name) {
		return nil, fmt.Sprintf("%q cannot be a host's name", name)
	}
	if m.host(name) != nil {
		return nil, "another host is named " + name
	}
	if why := unknownRole(m, h.Roles); why != "" {
		return nil, why
	}
	nic, why := nicOf(m, h, i)
	if why != "" {
		return nil, why
	}
	h.Interfaces = []fleet.Interface{nic}
	return h, ""
}

// nicOf is what an instance has as an interface of a host. A cloud is not believed that an
// instance has addresses which others have, or nobody can have.
func nicOf(m *model, h *fleet.Host, i cloud.Instance) (nic fleet.Interface, why string) {
	nic.Name = "nic"
	if len(h.Interfaces) == 1 { // where it was before
		nic = h.Interfaces[0]
		nic.Addresses = nil
	}
	for _, a := range i.Addresses {
		if !fleet.Unicast(a) || a.IsLinkLocalUnicast() {
			return nic, fmt.Sprintf("%s is no address of a host", a)
		}
		for _, other := range m.fleet.Hosts {
			if other.Name != h.Name && other.Addresses().Contains(a) {
				return nic, fmt.Sprintf("%s has the address %s already", other.Name, a)
			}
		}
		nic.Addresses = append(nic.Addresses, netip.PrefixFrom(a, a.BitLen()))
	}
	if nic.Addresses == nil {
		return nic, "it has no address"
	}
	return nic, ""
}
