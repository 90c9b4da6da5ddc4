package live

import (
	"errors"
	"time"

	"yellowfence.example/yfence/core/compare"
	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/dialect"
	"yellowfence.example/yfence/core/dialect/group"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/internal/api"
)

// Drift holds what a host has in force against what a policy means for it, at an
// instant in seconds since 1970. Of rules that are too complex it tells what can be
// told; it gives up at the time over, if that is not zero. Names are those of the policy. The error is about the text of the dumps.
//
// Security groups among the dumps are held against what a group is to admit, the others
// against the whole of it.
func Drift(pol *policy.Policy, names *compare.Names, h *fleet.Host, now int64, f api.InForce, over time.Time) (res *compare.Result, err error) {
	var groups []api.Dump
	own := f
	own.Dumps = nil
	for _, d := range f.Dumps {
		if d.Kind == Groups {
			groups = append(groups, d)
		} else {
			own.Dumps = append(own.Dumps, d)
		}
	}
	if groups == nil {
		return drift(pol, names, h, now, f, over)
	}
	res = &compare.Result{Findings: []compare.Finding{}}
	if own.Dumps != nil {
		if res, err = drift(pol, names, h, now, own, over); err != nil {
			return nil, err
		}
	}
	for _, d := range groups {
		doc, err := group.Parse([]byte(d.Text))
		if err != nil {
			return nil, err
		}
		var of *compare.Result
		tangled := packet.Untangled(func() {
			sp := packet.Budget{Edges: Bound, Halt: inTime(over)}.Space()
			sp.Since(now)
			var rules *dialect.Ruleset
			if rules, err = group.Read(sp, h, pol.Fleet, doc); err == nil {
				of = compare.Groups(sp, names, compile.Host(sp, pol, h, now), rules)
			}
		})
		if err != nil {
			return nil, err
		}
		if tangled != nil {
			res.Unread = append(res.Unread, tangled.Error())
			continue
		}
		res.Findings = append(res.Findings, of.Findings...)
		res.Bare = res.Bare || of.Bare && own.Dumps == nil // else its own filter is there at least
		if res.Until == 0 || of.Until != 0 && of.Until < res.Until {
			res.Until = of.Until
		}
	}
	return res, nil
}

// inTime gives an error from a time on.
func inTime(over time.Time) func() error {
	if over.IsZero() {
		return nil
	}
	return func() error {
		if time.Now().After(over) {
			return errors.New("too complex to decide exactly in the time there is")
		}
		return nil
	}
}

func drift(pol *policy.Policy, names *compare.Names, h *fleet.Host, now int64, f api.InForce, over time.Time) (res *compare.Result, err error) {
	last := over
	if !over.IsZero() { // what is told of rules that are too complex has its time too
		last = over.Add(10 * time.Second)
	}
	with := func(over time.Time, compared func(*packet.Space, *compile.Plan, *dialect.Ruleset) *compare.Result) (tangled error) {
		return packet.Untangled(func() {
			sp := packet.NewSpace()
			sp.Bound(Bound)
			sp.Halt(inTime(over))
			sp.Since(now)
			plan := compile.Host(sp, pol, h, now) // before the dump says whom the host does not have: their rules stay
			var rules *dialect.Ruleset
			if rules, err = Read(sp, f); err == nil {
				res = compared(sp, plan, rules)
			}
		})
	}
	tangled := with(over, func(sp *packet.Space, plan *compile.Plan, rules *dialect.Ruleset) *compare.Result {
		return compare.Drift(sp, names, plan, rules)
	})
	if tangled != nil && with(last, func(sp *packet.Space, plan *compile.Plan, rules *dialect.Ruleset) *compare.Result {
		return compare.Tangled(sp, names, plan, rules, tangled)
	}) != nil {
		res = &compare.Result{Unread: []string{tangled.Error()}}
	}
	if res != nil && res.Findings == nil {
		res.Findings = []compare.Finding{}
	}
	return res, err
}
