package live

import (
	"errors"
	"time"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/compare"
	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/dialect/group"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/core/say"
)

// A Stage is what a host is to have by one published pair.
type Stage struct {
	Policy               *policy.Policy
	Host                 *fleet.Host
	Revision, Generation int64 // 0 on files
}

// Drift holds what a host has in force against what is published for it, at an
// instant in seconds since 1970. stages are those from what the host was last asked to
// settle to what is published, oldest first; one alone is what is published. Of rules that are too complex it tells what can be
// told; it gives up at the time over, if that is not zero. Names are those of the policy. The error is about the text of the dumps.
//
// Security groups among the dumps are held against what a group is to admit, the others
// against the whole of it.
func Drift(stages []Stage, names *say.Names, now int64, f api.InForce, over time.Time) (res *compare.Result, err error) {
	last := stages[len(stages)-1]
	// A host's own filter and its instance's groups are two filters one behind the other: each is held
	// against its own part of what is meant.
	var groups []api.Dump
	own := f
	own.Dumps = nil
	for _, d := range f.Dumps {
		if d.Kind == group.Listing {
			groups = append(groups, d)
		} else {
			own.Dumps = append(own.Dumps, d)
		}
	}
	if groups == nil {
		return drift(stages, names, now, f, over)
	}
	res = &compare.Result{Findings: []compare.Finding{}}
	if own.Dumps != nil {
		if res, err = drift(stages, names, now, own, over); err != nil {
			return nil, err
		}
	}
	// Groups that are too tangled leave what is known of the host's own filter standing.
	for _, d := range groups {
		var of *compare.Result
		tangled := packet.Try(func() {
			sp := packet.Budget{Edges: Bound, Halt: inTime(over)}.Space()
			sp.Since(now)
			var rules *kernel.Ruleset
			if rules, err = ReadOf(sp, last.Host, last.Policy.Fleet, api.InForce{Dumps: []api.Dump{d}, Complete: true}); err == nil {
				of = compare.Groups(sp, names, plans(sp, stages, now), rules)
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
		res.AsAsked = of.AsAsked && (own.Dumps == nil || res.AsAsked)
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

// plans are the stages as they are compared.
func plans(sp *packet.Space, stages []Stage, now int64) (out []compare.Stage) {
	for _, s := range stages {
		out = append(out, compare.Stage{Plan: compile.ForHost(sp, s.Policy, s.Host, now), Revision: s.Revision, Generation: s.Generation})
	}
	return out
}

// drift judges within bounds. What is too tangled to be held as a whole is looked at again, in
// part.
func drift(stages []Stage, names *say.Names, now int64, f api.InForce, over time.Time) (res *compare.Result, err error) {
	last := over
	if !over.IsZero() { // what is told of rules that are too complex has its time too
		last = over.Add(10 * time.Second)
	}
	with := func(over time.Time, compared func(*packet.Space, []compare.Stage, *kernel.Ruleset) *compare.Result) (tangled error) {
		return packet.Try(func() {
			sp := packet.NewSpace()
			sp.Bound(Bound)
			sp.Halt(inTime(over))
			sp.Since(now)
			plans := plans(sp, stages, now) // before the dump says whom the host does not have: their rules stay
			var rules *kernel.Ruleset
			if rules, err = Read(sp, f); err == nil {
				res = compared(sp, plans, rules)
			}
		})
	}
	tangled := with(over, func(sp *packet.Space, stages []compare.Stage, rules *kernel.Ruleset) *compare.Result {
		return compare.DriftSince(sp, names, stages, rules)
	})
	if tangled != nil && with(last, func(sp *packet.Space, stages []compare.Stage, rules *kernel.Ruleset) *compare.Result {
		return compare.TooComplex(sp, names, stages, rules, tangled)
	}) != nil {
		res = &compare.Result{Unread: []string{tangled.Error()}}
	}
	if res != nil && res.Findings == nil {
		res.Findings = []compare.Finding{}
	}
	return res, err
}
