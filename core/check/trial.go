package check

import (
	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/source"
)

// trialEnds leaves out trials that end open (`else open`): nothing is refused then.
var trialEnds = Check{
	Code:     "trial-ends",
	Severity: source.Warning,
	Doc: `A trial ends within two weeks.

From then on what it only notes now is refused, without anybody acting. Look at what it noted:
yfence ask names what it would refuse, and the hosts' logs and counters tell what came.
`,
	run: func(p *pass) {
		p.eachTrial(func(what string, pos source.Pos, width int, t *fence.Trial, end int64) {
			if end > p.now && end-p.now <= soon && !t.Open {
				p.report(p.at(pos, width, "the trial of %s ends with %s, and it refuses then", what, t.Until.Text).
					Hinted("look at what it noted, and give it a later end if that is not all known"))
			}
		})
	},
}

// trialOver is told of what the words say now: it refuses, or never will.
var trialOver = Check{
	Code:     "trial-over",
	Severity: source.Warning,
	Doc: `A trial is over.

The words on trial say nothing any more: it refuses now or, with else open, never will. Take
the words away, or what was tried and did not stay.
`,
	run: func(p *pass) {
		p.eachTrial(func(what string, pos source.Pos, width int, t *fence.Trial, end int64) {
			does := "it refuses now"
			if t.Open {
				does = "it refuses nothing"
			}
			if end <= p.now {
				p.report(p.at(pos, width, "the trial of %s ended with %s: %s", what, t.Until.Text, does).
					Hinted("take `on trial …` away, or what was tried"))
			}
		})
	},
}

// eachTrial calls f for each trial of the policy, with what is on trial and when that ends.
func (p *pass) eachTrial(f func(what string, pos source.Pos, width int, t *fence.Trial, end int64)) {
	for _, r := range p.pol.Rules {
		if t := r.Decl.Trial; t != nil && !r.Off && (r.Until == 0 || p.now < r.Until) {
			end, _ := t.Until.Instant()
			f(r.Title(), r.Pos, len(fence.Bare(r.Name)), t, end)
		}
	}
	for _, file := range p.files {
		for _, stmt := range file.Stmts {
			d, ok := stmt.(*fence.RoleDecl)
			if !ok {
				continue
			}
			for _, s := range d.Stances {
				if s.Trial != nil {
					end, _ := s.Trial.Until.Instant()
					f(s.Direction+" closed of role "+d.Name, s.Pos, len(s.Direction), s.Trial, end)
				}
			}
		}
	}
}
