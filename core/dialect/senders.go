package dialect

import (
	"fmt"
	"slices"
	"strings"

	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/packet"
)

// FilledIn are the users and units that rules of a plan ask for, as in "unit backup.service":
// which those are on the host is filled in there, and where it is not, what names them decides
// nothing.
func FilledIn(plan *compile.Plan) (out []string) {
	for _, c := range plan.Chains {
		for _, r := range c.Rules {
			for _, s := range r.Match.Senders {
				for _, name := range s.Names {
					if what := string(s.Kind) + " " + name; s.Kind != packet.ByProgram && !slices.Contains(out, what) {
						out = append(out, what)
					}
				}
			}
		}
	}
	slices.Sort(out)
	return out
}

// ToFillIn is what the head of a file says of those.
func ToFillIn(plan *compile.Plan) string {
	who := FilledIn(plan)
	if len(who) == 0 {
		return ""
	}
	return fmt.Sprintf("# yfence settle, on the host, fills in who these are there: %s; loaded without that, rules about them decide "+
		"nothing\n", strings.Join(who, ", "))
}

// Unsayable says what is wrong with the senders of a plan's rules, for a text that
// quotes their names: one item each, with the rule.
func Unsayable(plan *compile.Plan) (out []string) {
	for _, c := range plan.Chains {
		for _, r := range c.Rules {
			for _, s := range r.Match.Senders {
				if s.Kind == packet.ByProgram {
					if what := r.Decider.Rule.Title() + ": from program"; !slices.Contains(out, what) {
						out = append(out, what)
					}
					continue
				}
				for _, name := range s.Names {
					if len(name) > 100 || strings.ContainsAny(name, "\"\\\n") {
						out = append(out, fmt.Sprintf("%s: from %s %q, a name the kernel's tool cannot take", r.Decider, s.Kind, name))
					}
				}
			}
		}
	}
	return out
}
