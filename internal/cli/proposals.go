package cli

import (
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/client"
	"yellowfence.example/yfence/core/approve"
	"yellowfence.example/yfence/core/check"
)

// proposeCommand makes `yfence propose`.
func (a *app) proposeCommand() *cobra.Command {
	req := api.ProposalRequest{}
	var instead int64
	c := &cobra.Command{
		Use:   "propose -m WHY",
		Short: "Propose a change of the policy, for others to approve",
		Long: `Propose sends a policy, and a fleet file with --fleet, as a change that others approve before it is
published. The service says what the change means and which approvals that needs. A change that needs
none can be published at once, with yfence publish.

With --instead-of N the texts take the place of those of proposal N, which must be yours. What means
the same stays approved.`,
		Example: "  yfence propose --policy saltmarsh -m 'the hill reads the logbook'\n" +
			"  yfence propose --policy saltmarsh --fleet saltmarsh/fleet.json -m 'a second broker' --instead-of 4",
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) (err error) {
			if req.Why == "" {
				return errors.New("say why, for those who approve: -m WHY")
			}
			if req.Files, err = a.sources(); err != nil {
				return err
			}
			texts := req.Files
			if a.fleetFile != "" {
				_, file, _, err := a.fleet()
				if err != nil {
					return err
				}
				req.Fleet = &file
				texts = append(slices.Clone(texts), file)
			}
			svc, err := a.service()
			if err != nil {
				return err
			}
			p, err := svc.Propose(cmd.Context(), instead, req)
			if err != nil {
				return a.changed(api.Checked{}, err, texts, nil)
			}
			return a.print(p, func(w io.Writer) { a.printProposal(w, p, texts) })
		},
	}
	because(c, &req.Why)
	c.Flags().Int64Var(&instead, "instead-of", 0, "put this in the place of your proposal with this number")
	c.Flags().StringSliceVar(&req.Accept, "accept", nil, "go on with this error: the code of a check, as no-guard; say why with -m")
	return c
}

// proposalsCommand makes `yfence proposals`, which lists, and what is under it.
func (a *app) proposalsCommand() *cobra.Command {
	noun := &cobra.Command{Use: "proposals", Short: "Changes that wait for approval: show, approve, decline and publish them"}
	noun.AddCommand(a.proposalsShow(), a.proposalsApprove(), a.proposalsPublish(),
		a.proposalsEnd("decline", "Decline a proposal", "declined proposal %d\n"),
		a.proposalsEnd("withdraw", "Take your own proposal back", "withdrew proposal %d\n"))
	all := false
	list := &cobra.Command{
		Use:  "proposals",
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			svc, err := a.service()
			if err != nil {
				return err
			}
			list, err := svc.Proposals(cmd.Context(), map[bool]string{false: api.ProposalOpen}[all])
			if err != nil {
				return err
			}
			return a.print(list, func(w io.Writer) {
				if len(list.Proposals) == 0 {
					_, _ = fmt.Fprintln(w, "no proposal waits; yfence propose makes one")
					return
				}
				t := tabwriter.NewWriter(w, 0, 0, 3, ' ', 0)
				_, _ = fmt.Fprintln(t, "PROPOSAL\tSTATE\tBY\tMADE\tWHY")
				for _, p := range list.Proposals {
					state := p.State
					if p.Revision != 0 {
						state = fmt.Sprintf("published as %d", p.Revision)
					}
					_, _ = fmt.Fprintf(t, "%d\t%s\t%s\t%s\t%s\n", p.Number, state, p.Author, minuteText(p.MadeAt), p.Why)
				}
				_ = t.Flush()
			})
		},
	}
	list.Flags().BoolVar(&all, "all", false, "those too that were published, declined or withdrawn")
	return listing(noun, list)
}

// proposalNumber reads an argument that names a proposal.
func proposalNumber(arg string) (int64, error) {
	n, err := strconv.ParseInt(arg, 10, 64)
	if err != nil || n < 1 {
		return 0, fmt.Errorf("%q is no proposal's number; yfence proposals tells them", arg)
	}
	return n, nil
}

// proposal asks the service for the proposal that an argument names.
func (a *app) proposal(cmd *cobra.Command, arg string) (svc *client.Client, p api.ProposalShown, err error) {
	n, err := proposalNumber(arg)
	if err == nil {
		svc, err = a.service()
	}
	if err == nil {
		p, err = svc.Proposal(cmd.Context(), n)
	}
	return svc, p, err
}

// printProposal prints a proposal: who and why, what it changes, what it needs and has.
func (a *app) printProposal(w io.Writer, p api.ProposalShown, texts []check.Source) {
	paint := a.paint(w)
	_, _ = fmt.Fprintf(w, "%s  %s, by %s at %s: %s\n", paint(bold, fmt.Sprintf("proposal %d", p.Number)), p.State, p.Author,
		minuteText(p.ChangedAt), p.Why)
	if p.State != api.ProposalOpen {
		if p.Revision != 0 {
			_, _ = fmt.Fprintf(w, "published as revision %d by %s\n", p.Revision, p.DecidedBy)
		} else {
			_, _ = fmt.Fprintf(w, "%s by %s: %s\n", p.State, p.DecidedBy, p.Decided)
		}
		printApprovals(w, p)
		return
	}
	if len(p.Problems) > 0 {
		a.explain(w, p.Problems, texts)
	}
	if !p.Stands {
		_, _ = fmt.Fprintf(w, "%s %s\n", paint(red, "it cannot be published as it is:"), p.Hinders)
		return
	}
	if p.Changes != nil {
		a.printChanges(w, *p.Changes)
		a.printCuts(w, p.Cuts)
	}
	_, _ = fmt.Fprintf(w, "\nit needs %s\n", p.Need)
	for _, r := range p.Need.Because {
		_, _ = fmt.Fprintf(w, "  %s: %s\n", kindWords(r.Kind), strings.Join(r.Shown, " "))
	}
	printApprovals(w, p)
	switch {
	case p.Missing.People > 0:
		missing := approve.Need{People: p.Missing.People, Holding: p.Missing.Holding}
		_, _ = fmt.Fprintf(w, "%s %s: yfence proposals approve %d\n", paint(bold, "it lacks"), missing, p.Number)
	default:
		_, _ = fmt.Fprintf(w, "%s yfence proposals publish %d\n", paint(green, "it can be published:"), p.Number)
	}
}

// kindWords says a kind of meaning.
func kindWords(k approve.Kind) string { return strings.ReplaceAll(string(k), "-", " ") }

// printApprovals prints who approved, and whether that still counts.
func printApprovals(w io.Writer, p api.ProposalShown) {
	for _, g := range p.Approvals {
		note := ""
		if g.Note != "" {
			note = ": " + g.Note
		}
		if p.State == api.ProposalOpen && !g.Counts {
			note += " (it means something else since, so that this does not count)"
		}
		_, _ = fmt.Fprintf(w, "  approved by %s at %s%s\n", g.By, minuteText(g.At), note)
	}
}

// proposalsShow makes `yfence proposals show`.
func (a *app) proposalsShow() *cobra.Command {
	return &cobra.Command{
		Use: "show NUMBER", Short: "Show what a proposal changes, which approvals it needs, and which it has", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			_, p, err := a.proposal(cmd, args[0])
			if err != nil {
				return err
			}
			return a.print(p, func(w io.Writer) { a.printProposal(w, p, nil) })
		},
	}
}

// proposalsApprove makes `yfence proposals approve`.
func (a *app) proposalsApprove() *cobra.Command {
	var note string
	yes := false
	c := &cobra.Command{
		Use: "approve NUMBER", Short: "Show what a proposal means, ask, and approve just that", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			svc, p, err := a.proposal(cmd, args[0])
			if err != nil {
				return err
			}
			switch {
			case p.State != api.ProposalOpen:
				return fmt.Errorf("proposal %d is decided already: it is %s", p.Number, p.State)
			case !p.Stands:
				return fmt.Errorf("proposal %d cannot be published as it is: %s", p.Number, p.Hinders)
			}
			if !yes {
				a.printProposal(a.errOut, p, nil)
				if err := a.agreed("Approve this?", "not approved"); err != nil {
					return err
				}
			}
			p, err = svc.ApproveProposal(cmd.Context(), p.Number, p.Meaning.Sum, note)
			if err != nil {
				return err
			}
			return a.print(p, func(w io.Writer) {
				_, _ = fmt.Fprintf(w, "approved proposal %d\n", p.Number)
				if p.Missing.People > 0 {
					missing := approve.Need{People: p.Missing.People, Holding: p.Missing.Holding}
					_, _ = fmt.Fprintf(w, "it lacks %s\n", missing)
				} else {
					_, _ = fmt.Fprintf(w, "it can be published: yfence proposals publish %d\n", p.Number)
				}
			})
		},
	}
	c.Flags().StringVarP(&note, "note", "m", "", "a word with it, which others see")
	c.Flags().BoolVar(&yes, "yes", false, "approve what it means now without asking")
	return c
}

// proposalsEnd makes `yfence proposals decline` and `withdraw`.
func (a *app) proposalsEnd(how, short, done string) *cobra.Command {
	var why string
	c := &cobra.Command{
		Use: how + " NUMBER -m WHY", Short: short, Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			n, err := proposalNumber(args[0])
			if err != nil {
				return err
			}
			if why == "" {
				return errors.New("say why, for the record: -m WHY")
			}
			svc, err := a.service()
			if err != nil {
				return err
			}
			p, err := svc.EndProposal(cmd.Context(), n, how, why)
			if err != nil {
				return err
			}
			return a.print(map[string]any{"version": api.Version, "proposal": p}, func(w io.Writer) {
				_,
					_ = fmt.Fprintf(w, done, p.Number)
			})
		},
	}
	because(c, &why)
	return c
}

// proposalsPublish makes `yfence proposals publish`.
func (a *app) proposalsPublish() *cobra.Command {
	return &cobra.Command{
		Use: "publish NUMBER", Short: "Publish a proposal that has its approvals", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			n, err := proposalNumber(args[0])
			if err != nil {
				return err
			}
			svc, err := a.service()
			if err != nil {
				return err
			}
			done, err := svc.PublishProposal(cmd.Context(), n)
			if err != nil {
				return err
			}
			return a.print(done, func(w io.Writer) {
				_, _ = fmt.Fprintf(w, "published proposal %d as revision %d\n", n, done.Revision)
				a.say("it is not in force yet where it is new: yfence waves start puts it in force, step by step")
			})
		},
	}
}
