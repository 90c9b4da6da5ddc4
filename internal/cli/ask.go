package cli

import (
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/client"
	"yellowfence.example/yfence/core/ask"
	"yellowfence.example/yfence/core/check"
	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/core/source"
	"yellowfence.example/yfence/internal/limits"
	"yellowfence.example/yfence/internal/live"
)

// askCommand makes `yfence ask`, of files, of dumps or of the service.
func (a *app) askCommand() *cobra.Command {
	var dumps []string
	var expect string
	var at *moment
	c := &cobra.Command{
		Use:   "ask 'QUESTION'",
		Short: "Answer whether some traffic passes, and which rule decides",
		Long: `Ask tells what becomes of every packet a question speaks of: by the policy, at
both ends, or by what a host has in force (--dump). It exits with status 0 if all of it is
admitted, and with 1 if not; with --expect refused the other way round. Where that is
uncertain, or the question, the policy or a dump cannot be read, it exits with status 2.

    [in [at IF]|out [at IF]|through [from IF] [to IF]] SRC [port N] -> DST : SERVICE
    [state new|established|related|invalid|untracked] [user NAME] [unit NAME] [encrypted]

SRC and DST are addresses or hosts of the fleet, and by a policy also roles,
networks, segments, everywhere and strangers.

With --at the service answers by what the hosts at both ends had in force at a time, as
they had reported it, and not by a policy.`,
		Example: `  yfence ask 'crew-vpn -> jump-01 : ssh'
  yfence ask 'everywhere -> logbook : postgresql' --policy saltmarsh --expect refused
  yfence ask '10.60.0.7 -> logbook-01 : postgresql' --at 16:00
  yfence ask 'in at eth1 10.40.3.31 -> 10.40.3.40 : tcp 5432' --dump report.json`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if expect != "admitted" && expect != "refused" {
				return fmt.Errorf("--expect is admitted or refused, not %q", expect)
			}
			answer, problems, err := a.ask(cmd, args[0], dumps, at.at)
			if err != nil {
				return err
			}
			if problems != nil {
				a.explain(a.errOut, problems, []check.Source{{Name: "question", Text: args[0]}})
				return told(problems)
			}
			if err := a.print(answer, func(w io.Writer) { a.printAnswer(w, answer) }); err != nil {
				return err
			}
			return answered(answer, expect)
		},
	}
	at = momentVar(c, "at", "by what was in force then: a date and time, a time of day, or how long ago")
	c.Flags().BoolVar(&a.complete, "complete", false, "the dumps are all there is: no rules of iptables for the other family")
	c.Flags().StringVar(&expect, "expect", "admitted", "what all of it should be, for the exit status: admitted or refused")
	_ = c.RegisterFlagCompletionFunc("expect", cobra.FixedCompletions([]string{"admitted", "refused"}, cobra.ShellCompDirectiveNoFileComp))
	c.Flags().StringArrayVar(&dumps, "dump", nil,
		"[HOST=]FILE with a report or listing of a host, to ask instead of the policy; - for standard input")
	return c
}

// answered ends a command with whether all that was asked about is as it was expected to be.
func answered(answer api.Answer, expect string) error {
	verdicts := map[string]bool{answer.Verdict: true}
	if answer.Verdict == ask.Mixed {
		verdicts = map[string]bool{}
		for _, e := range answer.Examples {
			verdicts[e.Verdict] = true
		}
	}
	admitted := verdicts[packet.Admit.String()]
	switch {
	case verdicts[ask.Uncertain]:
		return told(nil)
	case answer.Verdict == ask.Mixed && (admitted || expect == "admitted"), admitted != (expect == "admitted"),
		len(answer.Examples) == 0 && answer.Verdict == "":
		return errFound
	}
	return nil
}

// ask answers a question; problems are those of the question or of the policy, with their
// places.
func (a *app) ask(cmd *cobra.Command, text string, dumps []string, at time.Time) (answer api.Answer, problems []source.Problem, err error) {
	// The service answers what is published, and says on how many hosts that is in force.
	if !at.IsZero() && (dumps != nil || a.onFiles()) {
		return answer, nil, errAtService
	}
	if dumps == nil && !a.onFiles() {
		svc, err := a.service()
		if err != nil {
			return answer, nil, err
		}
		if at.IsZero() {
			answer, err = svc.Ask(cmd.Context(), text)
		} else {
			answer, err = svc.AskAt(cmd.Context(), text, at)
		}
		var refused *client.Problem
		if errors.As(err, &refused) && refused.Problems != nil {
			return answer, refused.Problems, nil
		}
		return answer, nil, err
	}
	q, problems := fence.ParseQuestion(text)
	if problems != nil {
		return answer, problems, nil
	}
	// By a policy in files, or by dumps alone, for which names of hosts are enough.
	var pol *policy.Policy
	switch {
	case a.onFiles():
		pol, err = a.sound()
	default: // a dump needs no policy; a fleet file tells whose an address is
		fl := &fleet.Fleet{}
		if a.fleetFile != "" {
			fl, _, problems, err = a.fleet()
		}
		pol, _ = policy.Resolve(policy.Input{Fleet: fl})
	}
	if err != nil || problems != nil {
		return answer, problems, err
	}
	now := time.Now().Unix()
	var found *ask.Answer
	if dumps == nil {
		if err := within(limits.Cases, "answering", func(b packet.Budget) (err error) {
			found, problems, err = ask.NewAsker(pol).PolicyWithin(b, q, now)
			return err
		}); err != nil {
			return answer, nil, err
		}
	} else {
		// A dump comes from outside: it is read within a bound, and what is beyond that is uncertain.
		f, err := a.inForce(dumps)
		if err != nil {
			return answer, nil, err
		}
		var tangled *packet.TooComplexError
		if err := reading(f, func(sp *packet.Space, rules *kernel.Ruleset) {
			found, problems = ask.Dump(sp, pol, rules, q, now)
		}); err != nil && !errors.As(err, &tangled) {
			return answer, nil, errors.New(unreadable(dumps, err))
		}
		if tangled != nil {
			found = &ask.Answer{Verdict: ask.Uncertain, Steps: []ask.Step{}, Examples: []ask.Example{}, Unread: []string{tangled.Error()}}
		}
	}
	if problems != nil {
		return answer, problems, nil
	}
	return api.Answer{Version: api.Version, Question: text, Answer: *found}, nil, nil
}

// inForce reads files with what one host has in force.
func (a *app) inForce(names []string) (all api.InForce, err error) {
	all.Complete = a.complete
	for _, name := range names {
		_, name, _ = a.named(name)
		data, err := a.readFile(name)
		if err != nil {
			return all, err
		}
		f := live.Sniff(name, data)
		if all.Dumps = append(all.Dumps, f.Dumps...); all.Names == nil {
			all.Names = f.Names
		}
	}
	return all, nil
}

// unreadable says what is wrong with the text of files, and which it is.
func unreadable(names []string, err error) string {
	why := err.Error()
	said := func(name string) bool { // it may be HOST=FILE
		return strings.HasPrefix(why, name+": ") || strings.HasPrefix(why, name[strings.Index(name, "=")+1:]+": ")
	}
	if !slices.ContainsFunc(names, said) {
		why = strings.Join(names, ", ") + ": " + why
	}
	return why
}

// verdictColours are the colours of verdicts; the words say the same.
var verdictColours = map[string]string{"admitted": green, "dropped": red, "rejected": red, ask.Mixed: amber, ask.Uncertain: amber}

// printAnswer prints an answer: the verdict, an example of each, and who decides.
func (a *app) printAnswer(w io.Writer, answer api.Answer) {
	p := a.paint(w)
	line := func(format string, args ...any) { _, _ = fmt.Fprintf(w, format+"\n", args...) }
	if answer.At != nil {
		line("by what was in force at %s", secondText(*answer.At))
	}
	// The verdict and one packet for each way in which some of it fares.
	switch {
	case len(answer.Examples) == 1:
		e := answer.Examples[0]
		line("%s: %s", p(verdictColours[e.Verdict], e.Verdict), e.Traffic)
		line("  such as %s", e.Packet)
	case len(answer.Examples) == 0 && answer.Verdict != "":
		line("%s", p(verdictColours[answer.Verdict], answer.Verdict))
	case len(answer.Examples) == 0:
		line("%s: there is no such packet", p(dim, "nothing"))
	default:
		line("%s:", p(verdictColours[answer.Verdict], answer.Verdict))
		for _, e := range answer.Examples {
			line("  %s  %s", p(verdictColours[e.Verdict], fmt.Sprintf("%-9s", e.Verdict)), e.Traffic)
			line("             such as %s", e.Packet)
		}
	}
	// Below, who decides at each end, in a column unless a name is too long for one.
	const widest = 32
	width, before := 0, ""
	for _, s := range answer.Steps {
		if n := len(s.Where); n <= widest {
			width = max(width, n)
		}
	}
	if len(answer.Steps) > 0 {
		line("")
	}
	for _, s := range answer.Steps {
		most := ""
		if s.AtMost != "" {
			most = " at most " + s.AtMost
		}
		if s.As != "" {
			most += ", " + s.As + ","
		}
		if len(s.Where) > width { // it has a line of its own
			if s.Where != before {
				line("  %s", s.Where)
			}
			before = s.Where
			s.Where = ""
		}
		line("  %-*s  %s%s by %s%s", width, s.Where, p(verdictColours[s.Verdict], s.Verdict), most, s.By, p(dim, place(s.At)))
		if s.Trial != "" {
			line("  %-*s  %s", width, "", p(amber, "on trial: it would be refused by "+s.Trial))
		}
	}
	// At the end, what could make it otherwise: what was not understood or assumed, and what is published
	// and not in force everywhere.
	for _, u := range answer.Unread {
		line("  %s  %s", p(amber, "not understood"), u)
	}
	if answer.Assumed != "" {
		line("  %s  %s", p(amber, "assumed"), answer.Assumed)
	}
	if has := answer.InForce; has != nil && has.Hosts < has.Of {
		not := strings.Join(has.Not, ", ")
		if more := has.Of - has.Hosts - len(has.Not); more > 0 {
			not += fmt.Sprintf(" and %d more", more)
		}
		line("  %s  revision %d says so, and is in force on %d of %s that decide: not on %s", p(amber, "published"), has.Revision,
			has.Hosts, plural(has.Of, "host"), not)
	}
	if outside := notOurs(answer); outside != "" {
		line("  %s", p(dim, outside))
	}
}

// notOurs says which end nobody of ours speaks for.
func notOurs(answer api.Answer) string {
	out, in := false, false
	for _, s := range answer.Steps {
		out, in = out || strings.HasSuffix(s.Where, " outbound"), in || strings.HasSuffix(s.Where, " inbound")
	}
	from, to, _ := strings.Cut(answer.Question, "->")
	to, _, _ = strings.Cut(to, " : ")
	switch {
	case in && !out && !strings.HasPrefix(strings.TrimSpace(from), "in "):
		return strings.TrimSpace(from) + " is not ours: its own filter, if it has one, is taken to let it out"
	case out && !in && !strings.HasPrefix(strings.TrimSpace(from), "out "):
		return strings.TrimSpace(to) + " is not ours: its own filter, if it has one, is taken to let it in"
	}
	return ""
}
