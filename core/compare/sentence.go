package compare

import (
	"fmt"
	"strings"

	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
)

// leftAlone is what to do about a chain that settling does not touch.
func leftAlone(chain *kernel.Chain) string {
	return fmt.Sprintf("it stands in table %s %s, which settling leaves alone: take it out there", chain.Family, chain.Table)
}

// blamed says a finding that is put down to one thing: what fares otherwise, by what, and what
// takes the difference away.
func (c *comparison) blamed(n *cause, f *Finding, about subject, published compile.Decider, passes string) {
	b := n.blame
	if b.rule != nil {
		f.Live.At, f.Live.Rule = kernel.Decider{Chain: b.chain, Rule: b.rule}.At(), kernel.Decider{Chain: b.chain, Rule: b.rule}.Text()
	}
	switch {
	case n.kind == Shut && b.fault == emptyChain:
		f.Sentence = fmt.Sprintf("Chain %s has no rules left while its policy is %s: nothing %s, answers to the host's own connections "+
			"included.", b.chain.Name, policyWord(b.chain.Policy), passes)
	case n.kind == Shut && b.fault == missingRule && published.Name == fence.PartReplies && about.ground == fence.PartReplies:
		f.Sentence = "The rule for replies is missing. Connections hang: " + f.Traffic + " no longer " + passes + "."
	case n.kind == Altered:
		f.Sentence = f.Traffic + " is " + c.manners(n, *f.Packet) + "."
	default:
		f.Sentence = c.effect(n, about, published.String(), passes) + c.reason(n, f, published)
	}
	f.Hint = c.remedy(n, published)
}

// effect is the first half of a sentence: what fares otherwise.
func (c *comparison) effect(n *cause, about subject, published, passes string) string {
	traffic := about.text
	if n.kind == Opened {
		switch n.blame.fault {
		case missingRule, changedRule, wrongOrder:
			if n.published.Kind == compile.ByBlock || n.published.Kind == compile.ByGround {
				return traffic + " " + passes + ", though " + published + " refuses it"
			}
		}
		return traffic + " " + passes
	}
	s := traffic + " no longer " + passes
	if about.admitted {
		return s
	}
	if n.several {
		return s + ", though the policy admits it"
	}
	switch n.blame.fault {
	case extraRule, elsewhere, wrongOrder, wrongPolicy:
		return s + ", though " + published + " admits it"
	}
	return s
}

// reason is the second half: the one thing that does it.
func (c *comparison) reason(n *cause, f *Finding, published compile.Decider) string {
	b := n.blame
	switch b.fault {
	case extraRule:
		if n.kind == Opened && published.Kind == compile.ByStance {
			return "; nothing in the policy admits it."
		} else if n.kind == Opened {
			return "; " + published.String() + " refuses it."
		}
		return fmt.Sprintf(": the rule `%s` stands in the way.", b.rule.Text)
	case changedRule:
		what := "a rule of the chain " + b.chain.Name
		if b.rule.Comment != "" {
			what = "the rule for " + b.rule.Comment
		}
		if strings.Contains(b.rule.Text.String(), "@") {
			what += ", or a set it names,"
		}
		return fmt.Sprintf(": %s was changed. It is now `%s`.", what, b.rule.Text)
	case missingRule:
		return fmt.Sprintf(": the rule for %s is missing.", published)
	case wrongOrder:
		return fmt.Sprintf(": the rule `%s` now stands before its own.", f.Live.Rule)
	case wrongPolicy:
		return fmt.Sprintf(": the policy of the chain %s was changed to %s.", b.chain.Name, policyWord(b.chain.Policy))
	case emptyChain:
		return fmt.Sprintf(": the chain %s has no rules left.", b.chain.Name)
	case missingJump:
		return fmt.Sprintf(": the chain %s no longer asks our rules.", b.chain.Name)
	case missingRules:
		return fmt.Sprintf(": our chain %s is gone.", b.chain.Name)
	case pausing:
		return ": the filter is paused."
	}
	if b.rule != nil {
		return fmt.Sprintf(": the rule `%s` of the chain %s stands in the way.", b.rule.Text, b.chain.Place())
	}
	return fmt.Sprintf(": the chain %s has the policy %s.", b.chain.Place(), policyWord(b.chain.Policy))
}

// policyWord is a chain's policy as rules write it.
func policyWord(v packet.Verdict) string {
	if v == packet.Drop {
		return "drop"
	}
	return "accept"
}

// remedy is what takes a difference away; it does if it is followed.
func (c *comparison) remedy(n *cause, published compile.Decider) string {
	b := n.blame
	if !b.settles {
		return leftAlone(b.chain)
	}
	switch {
	case n.kind == Opened && b.fault == extraRule && published.Kind == compile.ByStance:
		if s := c.suggestion(n); s != "" {
			return fmt.Sprintf("to keep it, add `%s` to the policy; else %s removes it", s, c.undo)
		}
	case n.kind == Shut && b.fault == extraRule:
		return c.undo + " undoes it; to keep it, add a block to the policy"
	case b.fault == wrongOrder:
		return c.undo + " puts them in their order"
	case b.fault == missingRules || b.fault == emptyChain:
		return c.undo + " puts the rules back"
	case b.fault == missingRule:
		return c.undo + " puts it back"
	case b.fault == changedRule || b.fault == wrongPolicy:
		return c.undo + " changes it back"
	case b.fault == missingJump:
		return c.undo + " has the kernel ask them"
	case b.fault == pausing:
		return "resuming " + c.plan.Host.Name + " ends that"
	}
	return c.undo + " undoes it"
}
