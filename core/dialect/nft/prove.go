package nft

import (
	"fmt"
	"strings"

	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/packet"
)

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
func Prove(sp *packet.Space, plan *compile.Plan, text string) error {
	_, table, ok := strings.Cut(text, "\n\n")
	if !ok {
		return fmt.Errorf("the rules written for %s have no table", plan.Host.Name)
	}
	// Whom the rules speak of a host puts in when they are loaded: anybody will do.
	names := &Names{Users: map[string]int{}}
	for i, s := range SendersOf(text) {
		element := fmt.Sprintf("%q", "any.slice/"+s.Name)
		if s.Kind == "user" {
			names.Users[s.Name] = 1000 + i
			if element = fmt.Sprint(1000 + i); s.Name == "root" {
				element = "0"
			}
		}
		comment := fmt.Sprintf("comment %q\n", s.Kind+" "+s.Name)
		table = strings.Replace(table, comment, comment+"\t\telements = { "+element+" }\n", 1)
	}
	written, err := ReadText(sp, plan.Host.Name+".nft", []byte(table), names)
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
