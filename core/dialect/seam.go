package dialect

import (
	"fmt"
	"strings"

	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
)

// A Form is one dialect, both ways. What it writes and reads back is the very
// same decision as the plan's, or it is refused by name.
type Form interface {
	// Name is the dialect as a fleet file says it.
	Name() string
	// Rules is what a kernel has in force that has loaded what Write gives.
	Rules(sp *packet.Space, plan *compile.Plan) *kernel.Ruleset
	// Write gives a plan as the files to load, in that order. Loading them twice
	// changes nothing, and they touch nothing that is not ours. What cannot be
	// said is refused with a *Refusal.
	Write(sp *packet.Space, plan *compile.Plan) ([]File, error)
	// Unsayable are the statements of a plan that Write refuses, each with what it cannot say.
	Unsayable(plan *compile.Plan) []string
	// Read gives what a host's kernel has in force that has loaded files of Write. Whom
	// they speak of they say by name.
	Read(sp *packet.Space, h *fleet.Host, files []File) (*kernel.Ruleset, error)
	// Ours says that a chain is one that we write and own.
	Ours(c *kernel.Chain) bool
	// Overrides says that loading what Write gives undoes whatever stands in a chain: it
	// is ours, or asked only after ours.
	Overrides(c *kernel.Chain) bool
	// Label names all of it, as in "table inet yellowfence".
	Label() string
}

// A File is rules for one of the kernel's tools.
type File struct {
	Kind string `json:"kind" enum:"nft,ipset,iptables,ip6tables,portable,group" doc:"whose rules they are, and the file's ending"`
	Text string `json:"text"`
}

// Unproven is text that does not do what its plan means.
type Unproven struct {
	Host    string
	Packet  packet.Packet // fares otherwise
	Written packet.Outcome
	Meant   packet.Outcome
}

func (u *Unproven) Error() string {
	return fmt.Sprintf("the rules written for %s are wrong, which is a mistake of ours: %s would be %s, and should be %s", u.Host, u.Packet, u.Written.Verdict, u.Meant.Verdict)
}

// Prove reads what Write gave back, as a kernel lists it, and holds it against the
// plan for every packet. The error is an *Unproven, or tells what could not be read.
func Prove(f Form, sp *packet.Space, plan *compile.Plan, files []File) error {
	written, err := f.Read(sp, plan.Host, files)
	if err != nil {
		return err
	}
	done, meant := written.Decision(sp), plan.Decision(sp)
	if done == meant {
		return nil
	}
	p, _ := sp.Example(sp.Differ(done, meant), nil)
	return &Unproven{plan.Host.Name, p, sp.Outcome(done, p), sp.Outcome(meant, p)}
}

// A Refusal is a plan that a dialect cannot express.
type Refusal struct {
	Host, Dialect string
	What          []string // the rules and what they say that cannot be written
}

func (r *Refusal) Error() string {
	return fmt.Sprintf("the rules of %s cannot be written for %s: it has no way yet to say %s", r.Host, r.Dialect, strings.Join(r.What, "; "))
}

// NoFilter is the error of writing rules for a host that has no filter of its own.
type NoFilter struct{ Host string }

func (n *NoFilter) Error() string {
	return fmt.Sprintf("there are no rules for %s: the fleet file says that it has no filter of its own (dialect none)", n.Host)
}
