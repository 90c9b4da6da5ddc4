package compare

import (
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"io"
	"slices"
	"strings"

	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/policy"
)

// meaning is the sum over what each host did and does, and over what no packet shows: hosts that come
// and go, guards, expectations.
func (c *changing) meaning(all *Changes, after *fleet.Fleet) string {
	h := sha256.New()
	slices.Sort(c.sums)
	for _, line := range c.sums {
		_, _ = fmt.Fprintln(h, line)
	}
	for _, host := range after.Hosts {
		if slices.Contains(all.Added, host.Name) {
			facts, _ := json.Marshal(host) // plain data: it never fails
			_, _ = fmt.Fprintf(h, "added %s\n", facts)
		}
	}
	for what, names := range map[string][]string{"removed": all.Removed} {
		_, _ = fmt.Fprintf(h, "%s %q\n", what, names)
	}
	_, _ = io.WriteString(h, "guards "+strings.Join(all.Guards, " ")+"\nexpects "+strings.Join(all.Expects, "\n"))
	return fmt.Sprintf("%x", h.Sum(nil)[:16])
}

// unexpected are the expectations of a policy that another does not have, has off, or words otherwise:
// no packet shows it, and nobody would find out.
func unexpected(from, to *policy.Policy) (out []string) {
	is := map[string]string{}
	for _, e := range to.Expects {
		is[e.Name] = promise(e)
	}
	for _, e := range from.Expects {
		switch now, still := is[e.Name]; {
		case e.Off || now == promise(e):
		case !still:
			out = append(out, fmt.Sprintf("expect %s is gone", e.Name))
		case now == "":
			out = append(out, fmt.Sprintf("expect %s is off now", e.Name))
		default:
			out = append(out, fmt.Sprintf("expect %s says %s now, and said %s", e.Name, now, promise(e)))
		}
	}
	return out
}

// promise is what an expectation says; "" where it is off.
func promise(e *policy.Expectation) string {
	if e.Off {
		return ""
	}
	s := fmt.Sprintf("%s %s -> %s : %s", e.Kind, e.Decl.From, e.Decl.To, e.Services)
	if e.Within != "" {
		s += " within " + e.Within
	}
	if on := policy.NamesOf(e.On); on != "" {
		s += " on " + on
	}
	for i, r := range e.Through {
		s += map[bool]string{true: " through ", false: ", "}[i == 0] + r.Name
	}
	if e.BySteps {
		s += " by steps"
	}
	return s
}
