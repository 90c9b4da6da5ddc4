package cloud

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"yellowfence.example/yfence/core/dialect/group"
)

// An Account is ours at a cloud. Every method may be tried again: what is asked a second
// time changes nothing more. Its errors are for people; what a cloud does not do however often
// it is asked is a Refusal.
type Account interface {
	// About tells the cloud's name as fleet files say it, whose account this is, and what its groups can.
	About(ctx context.Context) (About, error)
	// Instances are all of the account's, with the groups that they are in and are to be in.
	Instances(ctx context.Context) ([]Instance, error)
	// Groups are all of the account's, as they are in force and are to be.
	Groups(ctx context.Context) ([]Group, error)
	// Make asks for a group that is not there yet.
	Make(ctx context.Context, g group.Group) error
	// Join asks for an instance to be in just these groups.
	Join(ctx context.Context, instance string, groups []string) error
	// Drop takes a group away that is as it was read.
	Drop(ctx context.Context, g Group) error
}

// About is what an account says of itself.
type About struct {
	Cloud     string
	Account   string
	Abilities group.Abilities
}

// An Instance is a machine in a cloud.
type Instance struct {
	ID        string
	Addresses []netip.Addr
	Labels    map[string]string
	Groups    []string // in force
	Asked     bool     // it is to be in others, which is not in force yet
}

// A Group is a security group as a cloud has it.
type Group struct {
	group.Group
	Version int64
	Asked   bool // it is to be otherwise, which is not in force yet
}

// A Refusal is what a cloud does not do, and why.
type Refusal struct{ Why string }

// Error says why the cloud refuses it.
func (r *Refusal) Error() string { return "the cloud refuses it: " + r.Why }

// State is what an account has.
type State struct {
	About
	Instances []Instance
	Groups    []Group
}

// Read reads all that an account has. What does not fit together is an error: half an
// answer is none.
func Read(ctx context.Context, a Account) (s *State, err error) {
	s = &State{}
	if s.About, err = a.About(ctx); err != nil {
		return nil, err
	}
	if err := s.Abilities.Check(); err != nil {
		return nil, fmt.Errorf("the cloud's answer about its abilities: %w", err)
	}
	// Groups stand before anybody is in them, and nobody is in them when they go: instances are read between.
	before, err := a.Groups(ctx)
	if err != nil {
		return nil, err
	}
	if s.Instances, err = a.Instances(ctx); err != nil {
		return nil, err
	}
	if s.Groups, err = a.Groups(ctx); err != nil {
		return nil, err
	}
	known := func(name string) bool {
		is := func(g Group) bool { return g.Name == name }
		return slices.ContainsFunc(s.Groups, is) || slices.ContainsFunc(before, is)
	}
	seen := map[string]bool{}
	for _, i := range s.Instances {
		if i.ID == "" || seen[i.ID] {
			return nil, fmt.Errorf("the cloud's answer has the instance %q twice, or without a name", i.ID)
		}
		seen[i.ID] = true
		for _, name := range i.Groups {
			if !known(name) {
				return nil, fmt.Errorf("the cloud's answer has the instance %s in the group %q, which it does not have", i.ID, name)
			}
		}
	}
	for _, g := range before { // somebody left it between the two
		if !slices.ContainsFunc(s.Groups, func(h Group) bool { return h.Name == g.Name }) &&
			slices.ContainsFunc(s.Instances, func(i Instance) bool { return slices.Contains(i.Groups, g.Name) }) {
			s.Groups = append(s.Groups, g)
		}
	}
	return s, nil
}

// Document is what is in force, as a dump.
func (s *State) Document() (*group.Document, error) {
	d := &group.Document{Version: 1, Kind: group.Kind, Cloud: s.Cloud, Groups: []group.Group{}, Members: []group.Member{}}
	for _, g := range s.Groups {
		d.Groups = append(d.Groups, g.Group)
	}
	for _, i := range s.Instances {
		groups := i.Groups
		if groups == nil {
			groups = []string{}
		}
		d.Members = append(d.Members, group.Member{Instance: i.ID, Groups: groups, Addresses: i.Addresses})
	}
	_, err := group.Parse([]byte(d.String()))
	return d, err
}

// Progress is how far a cloud is.
type Progress struct {
	Waits []string // what was asked for and is not in force yet
	Asked []string // what was asked for now
	Done  bool     // all is as it is to be, but for what is refused

	Refused map[string]string // instances for whom it cannot be done, and why
}

// Advance asks for the next phase of what leads from what a cloud has to what it is to have
// (group.ByContent, without peers that are groups). Nothing is asked for while something of
// it is not in force yet. It is called again and again, each time with what was read anew, until
// it is done; whatever goes wrong between, it leads on from there. What the cloud refuses for one
// instance, or has no room for, hinders no other.
func Advance(ctx context.Context, a Account, have *State, want *group.Document) (p Progress, err error) {
	concerns := map[string]bool{}
	for _, m := range want.Members {
		concerns[m.Instance] = true
	}
	for _, i := range have.Instances {
		if i.Asked && concerns[i.ID] {
			p.Waits = append(p.Waits, i.ID+" is to be in other groups")
		}
	}
	for _, g := range have.Groups {
		if g.Asked && strings.HasPrefix(g.Name, group.Prefix) {
			p.Waits = append(p.Waits, "the group "+g.Name)
		}
	}
	if p.Waits != nil {
		return p, nil
	}
	doc, err := have.Document()
	if err != nil {
		return p, err
	}
	p.Refused = map[string]string{}
	for again := true; again; {
		again = false
		phases, full := group.Steps(doc, want, have.Abilities)
		for _, f := range full {
			p.Refused[f.Instance] = (&Refusal{f.Error()}).Error()
		}
		p.Asked = nil
		if len(phases) == 0 {
			break
		}
		for _, s := range phases[0] {
			switch {
			case s.Put != nil:
				err = a.Make(ctx, *s.Put)
			case s.Instance != "":
				err = a.Join(ctx, s.Instance, s.Groups)
			default:
				at := slices.IndexFunc(have.Groups, func(g Group) bool { return g.Name == s.Drop })
				err = a.Drop(ctx, have.Groups[at])
			}
			var refused *Refusal
			switch {
			case err == nil:
				p.Asked = append(p.Asked, s.String())
			case !errors.As(err, &refused):
				return p, fmt.Errorf("%s: %w", s, err)
			case s.Drop == "": // else somebody needs it: it is no longer ours to drop
				if want = without(want, s, fmt.Sprintf("%s: %s", s, refused), p.Refused); len(want.Members) > 0 {
					again = true // the others need not wait for it
				}
			}
		}
	}
	p.Done = p.Asked == nil
	return p, nil
}

// without is what a cloud is to have but for those who need a step that is refused.
func without(want *group.Document, s group.Step, why string, refused map[string]string) *group.Document {
	left := *want
	left.Members = nil
	for _, m := range want.Members {
		if m.Instance == s.Instance || slices.ContainsFunc(m.Groups, s.Makes) {
			refused[m.Instance] = why
		} else {
			left.Members = append(left.Members, m)
		}
	}
	return left.Attached()
}
