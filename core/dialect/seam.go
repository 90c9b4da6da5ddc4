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
	// Files are the kinds of files that Write gives.
	Files() []Kind
	// Alike says that what Write gives for hosts of one class differs in the host's name alone.
	Alike() bool
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
	// Carries says which direction a chain of ours is for, and whether others of ours lead to it.
	Carries(c *kernel.Chain) (d packet.Direction, helper, ok bool)
	// Label names all of it, as in "table inet yellowfence".
	Label() string
}

// How rules of ours tell the host agent what they refuse: the kernel hands the beginning of such a
// packet to whoever listens to this group of its netlink log, each rule so many in a second and no
// more. Nothing else is done about the packet, and nothing at all where nobody listens.
const (
	NoteGroup   = 8480
	NoteRate    = 100   // packets in a second, of each rule
	NoteBytes   = 96    // of a packet
	NoteOf      = "yf " // what the prefix of such a rule begins with; whose refusal it is follows
	LongestNote = 63    // of a prefix, as the kernel's tools take it
)

// A QuickReader reads the dumps of many hosts, most of whose tables are alike.
type QuickReader interface {
	// Read gives the tables of a dump, which together are its rules. Two tables of one text are
	// the same Ruleset. ok is false for what it cannot take apart.
	Read(dump []byte, names *kernel.Names) (tables []*kernel.Ruleset, ok bool)
}

// A Quick is a Form whose dumps a QuickReader can read.
type Quick interface {
	Form
	Quick(sp *packet.Space) QuickReader
}

// Direction is the direction that the name of a chain begins with, as Carries tells it.
func Direction(name string) (d packet.Direction, helper, ok bool) {
	for _, d := range packet.Directions {
		if rest, ok := strings.CutPrefix(name, d.String()); ok && (rest == "" || rest[0] == '-') {
			return d, rest != "", true
		}
	}
	return 0, false, false
}

// A File is rules for one of the kernel's tools.
type File struct {
	Kind Kind   `json:"kind" enum:"nft,ipset,iptables,ip6tables,portable,group" doc:"whose rules they are, and the file's ending"`
	Text string `json:"text"`
	// Hooks are the rules, once the text is loaded, by which the kernel's own chains ask these.
	Hooks []Hook `json:"hooks,omitempty" nullable:"false" doc:"rules to insert in the kernel's own chains once, so that they ask these"`
}

// A Hook is a rule at the head of one of the kernel's own chains.
type Hook struct {
	Table string `json:"table"`
	Chain string `json:"chain"`
	Rule  string `json:"rule"`
}

// Unproven is text that does not do what its plan means.
type Unproven struct {
	Host    string
	Packet  packet.Packet // fares otherwise
	Written packet.Outcome
	Meant   packet.Outcome
}

// Error says what packet would fare otherwise, and how.
func (u *Unproven) Error() string {
	return fmt.Sprintf("the rules written for %s are wrong, which is a mistake of ours: %s would be %s, and should be %s", u.Host,
		u.Packet, u.Written.Verdict, u.Meant.Verdict)
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

// Error lists what the dialect has no way to say.
func (r *Refusal) Error() string {
	return fmt.Sprintf("the rules of %s cannot be written for %s: it has no way yet to say %s", r.Host, r.Dialect,
		strings.Join(r.What, "; "))
}

// NoFilter is the error of writing rules for a host that has no filter of its own.
type NoFilter struct{ Host string }

// Error says why there are no rules.
func (n *NoFilter) Error() string {
	return fmt.Sprintf("there are no rules for %s: the fleet file says that it has no filter of its own (dialect none)", n.Host)
}
