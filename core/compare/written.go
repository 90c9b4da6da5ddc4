package compare

import (
	"fmt"
	"slices"
	"strings"

	"yellowfence.example/yfence/core/policy"
)

// Written is what the statements of two policies say differently that is easily overlooked, in
// words: that one is off, where it is on, what it goes through.
func Written(from, to *policy.Policy) (out []string) {
	type says struct {
		off, guard         bool
		on, through, trial string
	}
	// Of each statement, by its title, what a reader passes over: words at its end.
	of := func(p *policy.Policy) map[string]says {
		all := map[string]says{}
		for _, r := range p.Rules {
			s := says{off: r.Off, on: policy.NamesOf(r.On), guard: r.Guard}
			var through []string
			for _, role := range r.Through {
				through = append(through, role.Name)
			}
			if s.through = strings.Join(through, ", "); r.Decl.Trial != nil {
				s.trial = r.Decl.Trial.Until.Text
			}
			all[r.Title()] = s
		}
		for _, q := range p.Redirects {
			all["redirect "+q.Name] = says{off: q.Off}
		}
		for _, m := range p.Masquerades {
			all["masquerade "+m.Name] = says{off: m.Off}
		}
		for _, e := range p.Expects {
			all["expect "+e.Name] = says{off: e.Off, on: policy.NamesOf(e.On)}
		}
		return all
	}
	before := of(from)
	for title, is := range of(to) {
		was, known := before[title]
		if !known {
			continue
		}
		say := func(format string, args ...any) { out = append(out, title+" "+fmt.Sprintf(format, args...)) }
		switch {
		case !was.off && is.off:
			say("is off now")
		case was.off && !is.off:
			say("is no longer off")
		}
		if was.guard && !is.guard {
			say("is no guard any more")
		}
		for _, w := range [][3]string{{"on", was.on, is.on}, {"through", was.through, is.through},
			{"on trial until", was.trial, is.trial}} {
			switch word, was, is := w[0], w[1], w[2]; {
			case was == is:
			case is == "":
				say("no longer says %s %s", word, was)
			case was == "":
				say("says %s %s now", word, is)
			default:
				say("says %s %s now, and said %s %s", word, is, word, was)
			}
		}
	}
	slices.Sort(out)
	return out
}
