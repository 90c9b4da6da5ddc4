package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/check"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/core/source"
	"yellowfence.example/yfence/core/traffic"
)

// checkCommand makes `yfence check`, which works on files; only --by may ask the service what
// is published.
func (a *app) checkCommand() *cobra.Command {
	var strict, accepted, seen bool
	var since time.Duration
	var explain, by, before string
	c := &cobra.Command{
		Use:   "check [DIR]",
		Short: "Check a policy: print all errors and warnings",
		Long: `Check reads a policy, holds it against a fleet, and tells everything that is
wrong with it, each where it stands. It exits with status 1 if there is an error, or with
--strict a warning. The policy is DIR, or the one whose folder this is. --output sarif gives a SARIF 2.1.0 log, for code review.

With --by NAME it says besides what of the change NAME may not make: against the folder
--before, or what is published. Who may change what the policy says (part … by NAME), as it was before.

With --seen the service is asked too which connections were seen on hosts (yfence traffic seen) though
an expectation of the policy says that there are none.`,
		Example: "  yfence check saltmarsh\n  yfence check --policy saltmarsh --fleet fleet.json\n" +
			"  yfence check saltmarsh --seen\n  yfence check --explain guard-refused",
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if explain != "" {
				return a.explainCode(explain)
			}
			if accepted {
				return a.printAccepted()
			}
			_, texts, problems, err := a.checked()
			if err != nil {
				return err
			}
			if by != "" || before != "" {
				found, err := a.mayChange(cmd.Context(), by, before)
				if err != nil {
					return err
				}
				problems = append(problems, found...)
				source.SortProblems(problems)
			}
			if problems == nil {
				problems = []source.Problem{}
			}
			if seen && !source.HasErrors(problems) {
				return a.checkSeen(cmd.Context(), problems, texts, strict, since)
			}
			if a.output == "sarif" {
				err = a.printSARIF(problems)
			} else {
				err = a.print(map[string]any{"version": api.Version, "problems": problems},
					func(w io.Writer) { a.explain(w, problems, texts) })
			}
			if err != nil {
				return err
			}
			if source.HasErrors(problems) || strict && len(problems) > 0 {
				return errFound
			}
			return nil
		},
	}
	c.Flags().BoolVar(&seen, "seen", false,
		"ask the service too which connections were seen though an expectation says that there are none")
	lengthVar(c, &since, "since", 7*day, "with --seen: how far back")
	c.Flags().BoolVar(&strict, "strict", false, "exit with status 1 for warnings too")
	c.Flags().BoolVar(&accepted, "accepted", false, "list the warnings that the policy accepts, and what each covers, instead")
	c.Flags().StringVar(&by, "by", "", "say what of the change this person may not make")
	c.Flags().StringVar(&before, "before", "", "the policy's folder as it was before the change; what is published, if not said")
	_ = c.MarkFlagDirname("before")
	c.Flags().StringVar(&explain, "explain", "", "print what a problem's code means")
	_ = c.RegisterFlagCompletionFunc("explain", cobra.FixedCompletions(codes(), cobra.ShellCompDirectiveNoFileComp))
	return c
}

// checkSeen tells the problems of a policy, and which connections were seen though its expectations say
// that there are none.
func (a *app) checkSeen(ctx context.Context, problems []source.Problem, texts []check.Source, strict bool, since time.Duration) error {
	if since < time.Second || since > traffic.FlowDays*day {
		return fmt.Errorf("--since is from 1s to %dd: what was earlier is not kept", traffic.FlowDays)
	}
	svc, err := a.service()
	if err != nil {
		return err
	}
	files, err := a.sources()
	if err != nil {
		return err
	}
	// The files go along: what was seen is held against what they say, published or not.
	found, err := svc.Against(ctx, api.Side{Files: files}, since)
	if err != nil {
		return err
	}
	err = a.print(map[string]any{"version": api.Version, "problems": problems, "seen": found}, func(w io.Writer) {
		a.explain(w, problems, texts)
		p := a.paint(w)
		for _, c := range found.Against {
			_, _ = fmt.Fprintf(w, "%s%s\n    was seen: %s  %s\n    from %s\n", p(bold, "expect "+c.Expectation), place(c.Place),
				c.Group.String(), a.often(w, c.Group, time.Now()), sendersText(c.Group))
		}
		switch {
		case found.Watching == 0:
			_, _ = fmt.Fprintln(w, "no host listens to which connections begin (yfence attend --seen), so that nothing is known of them")
		case len(found.Against) == 0:
			_, _ = fmt.Fprintf(w, "nothing that %s saw since %s is against an expectation\n", plural(found.Watching, "host"),
				momentText(found.Since, time.Now()))
		}
	})
	if err == nil && (len(found.Against) > 0 || strict && len(problems) > 0) {
		return errFound
	}
	return err
}

// mayChange is what of the change from a folder, or from what is published, a person may not make.
func (a *app) mayChange(ctx context.Context, by, before string) ([]source.Problem, error) {
	if by == "" {
		return nil, errors.New("--before says what the change is from; say whose change it is: --by NAME")
	}
	after, err := a.sources()
	if err != nil {
		return nil, err
	}
	var was []check.Source
	if before != "" {
		was, err = a.folder(before)
	} else {
		was, err = a.published(ctx)
	}
	if err != nil {
		return nil, err
	}
	return policy.MayChange(was, after, by), nil
}

// published are the files of the newest revision.
func (a *app) published(ctx context.Context) ([]check.Source, error) {
	svc, err := a.service()
	if err != nil {
		return nil, fmt.Errorf("say what the policy was before the change, with --before DIR, or name the service: %w", err)
	}
	all, err := svc.Revisions(ctx)
	if err != nil {
		return nil, err
	}
	newest := slices.IndexFunc(all.Revisions, func(r api.Revision) bool { return r.Published })
	if newest < 0 {
		return nil, nil
	}
	revision, err := svc.Revision(ctx, all.Revisions[newest].Number)
	return revision.Files, err
}

// printAccepted lists what a policy accepts with `knowingly`.
func (a *app) printAccepted() error {
	var all []check.Acceptance
	texts, problems, err := a.checkedBy(func(b packet.Budget, files []check.Source, fl *fleet.Fleet, now int64) (found []source.Problem,
		err error) {
		all, found, err = check.AcceptedWithin(b, files, fl, now)
		return found, err
	})
	if err != nil {
		return err
	}
	if err := a.usable(problems, texts); err != nil {
		return err
	}
	return a.print(map[string]any{"version": api.Version, "accepted": all}, func(w io.Writer) {
		p := a.paint(w)
		for _, k := range all {
			_, _ = fmt.Fprintf(w, "%s accepts %s: %s  %s\n", p(bold, k.In), k.Code, k.Why,
				p(dim, fmt.Sprintf("(%s:%d:%d)", k.File, k.Line, k.Column)))
			for _, c := range k.Covers {
				_, _ = fmt.Fprintf(w, "    %s  %s\n", c.Message, p(dim, fmt.Sprintf("(%s:%d:%d)", c.File, c.Line, c.Column)))
			}
		}
		if len(all) == 0 {
			_, _ = fmt.Fprintln(w, "nothing is accepted")
		}
	})
}

// codes are the codes of all checks, for completion.
func codes() []string {
	all := check.Codes()
	out := make([]string, len(all))
	for i, c := range all {
		out[i] = c.Code
	}
	return out
}

// explainCode prints the page of a check.
func (a *app) explainCode(code string) error {
	for _, c := range check.Codes() {
		if c.Code == code {
			return a.print(map[string]any{"version": api.Version, "code": c.Code, "text": c.Doc},
				func(w io.Writer) { _, _ = fmt.Fprint(w, c.Doc) })
		}
	}
	hint := "the codes are " + strings.Join(codes(), ", ")
	if near := source.Nearest(code, codes()); near != "" {
		hint = fmt.Sprintf("did you mean %s?", near)
	}
	return fmt.Errorf("nothing has the code %q; %s", code, hint)
}

// mostProblems is how many problems are printed in full; the rest are counted.
const mostProblems = 100

// explain prints problems, each with the line it stands on, and counts them.
func (a *app) explain(w io.Writer, problems []source.Problem, texts []check.Source) {
	p := a.paint(w)
	lines := map[string][]string{}
	for _, t := range texts {
		lines[t.Name] = strings.Split(t.Text, "\n")
	}
	shown, again := once(problems)
	for i, pr := range shown {
		if i == mostProblems {
			_, _ = fmt.Fprintf(w, "and %d more\n\n", len(shown)-mostProblems)
			break
		}
		colour := red
		if pr.Severity == source.Warning {
			colour = amber
		}
		_, _ = fmt.Fprintf(w, "%s: %s\n", p(colour, string(pr.Severity)), p(bold, pr.Message))
		_, _ = fmt.Fprintf(w, "  %s:%d:%d  %s\n", a.pathOf(pr), pr.Line, pr.Column, p(dim, pr.Code))
		if all := lines[pr.File]; pr.Line >= 1 && pr.Line <= len(all) {
			number := fmt.Sprint(pr.Line)
			line, pad, mark := excerpt(all[pr.Line-1], pr.Column, pr.Width)
			_, _ = fmt.Fprintf(w, "  %s  %s\n  %s  %s%s\n", p(dim, number), line, strings.Repeat(" ", len(number)), pad, p(colour, mark))
		}
		if pr.Packet != nil {
			_, _ = fmt.Fprintf(w, "  for example: %s\n", pr.Packet)
		}
		if pr.Hint != "" {
			_, _ = fmt.Fprintf(w, "  %s\n", pr.Hint)
		}
		if places := again[i]; len(places) > 0 {
			_, _ = fmt.Fprintf(w, "  the same at %s\n", someOf(places))
		}
		_, _ = fmt.Fprintln(w)
	}
	_, _ = fmt.Fprintln(w, check.Summary(problems))
	a.elsewhere(w, problems, texts)
}

// once leaves of problems that say the same of a name that is not declared the first; again
// has by its place in that where the others are.
func once(problems []source.Problem) (shown []source.Problem, again map[int][]string) {
	again = map[int][]string{}
	first := map[string]int{}
	for _, pr := range problems {
		key := pr.Code + " " + pr.Message
		if i, told := first[key]; told && (pr.Code == "unknown" || pr.Code == "fleet-role") {
			again[i] = append(again[i], fmt.Sprintf("%s:%d:%d", filepath.Base(pr.File), pr.Line, pr.Column))
			continue
		}
		first[key] = len(shown)
		shown = append(shown, pr)
	}
	return shown, again
}

// someOf lists the first few places.
func someOf(places []string) string {
	const most = 4
	if more := len(places) - most; more > 0 {
		return fmt.Sprintf("%s and %d more places", strings.Join(places[:most], ", "), more)
	}
	return strings.Join(places, ", ")
}

// elsewhere says of which files the service has the text and whoever reads this does not.
func (a *app) elsewhere(w io.Writer, problems []source.Problem, texts []check.Source) {
	if len(texts) == 0 || a.command == nil || !slices.Contains(taken(a.command), "server") {
		return
	}
	var files []string
	for _, pr := range problems {
		if !slices.ContainsFunc(texts, func(t check.Source) bool { return t.Name == pr.File }) && !slices.Contains(files, pr.File) {
			files = append(files, pr.File)
		}
	}
	if len(files) > 0 {
		_, _ = fmt.Fprintf(w, "%s: as the service has it, which is the policy and the fleet that are published\n",
			strings.Join(files, ", "))
	}
}

// pathOf is the path of the file a problem is in, from where the program runs.
func (a *app) pathOf(pr source.Problem) string {
	if pr.File == a.fleetFile || pr.File == "question" {
		return pr.File
	}
	return filepath.Join(a.policyDir, pr.File)
}

// longest is how much of a line is shown around a mistake, in characters.
const longest = 160

// excerpt gives a line, cut around the mistake if it is long, what to print below
// it up to the mistake, and the mark.
func excerpt(line string, column, width int) (shown, pad, mark string) {
	text := []rune(strings.TrimRight(line, "\r"))
	at := min(max(column-1, 0), len(text))
	before, after := text[:at], text[at:]
	if len(text) > longest && len(before) > longest/2 {
		before = append([]rune("… "), before[len(before)-longest/2:]...)
	}
	if len(text) > longest && len(after) > longest {
		after = append(after[:longest:longest], []rune(" …")...)
	}
	// Tabs stand for themselves above the mark too, so that it stays in place.
	pad = strings.Map(func(r rune) rune {
		if r == '\t' {
			return r
		}
		return ' '
	}, string(before))
	return string(before) + string(after), pad, strings.Repeat("^", max(min(width, len(after)), 1))
}
