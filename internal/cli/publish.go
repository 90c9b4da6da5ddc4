package cli

import (
	"bufio"
	"cmp"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/client"
	"yellowfence.example/yfence/core/check"
	"yellowfence.example/yfence/core/source"
)

// publishCommand makes `yfence publish`, which shows what changes and asks, unless --yes says
// so before.
func (a *app) publishCommand() *cobra.Command {
	var f publishFlags
	var after int64
	c := &cobra.Command{
		Use:   "publish -m WHY",
		Short: "Publish a policy as a new revision",
		Long: `Publish shows what check says of the policy, and what it newly admits and refuses
compared with what is published, asks whether that is meant, and publishes it. A policy with an error, a broken
expectation among them, is refused.

With --fleet FILE the file becomes the fleet, and both are published together: a policy with a
new role, and the hosts that have it.`,
		Example: `  yfence publish --policy saltmarsh -m "charts moved to the new rack" --after 7
  yfence publish --policy saltmarsh --fleet saltmarsh/fleet.json -m "a second broker"`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			req, err := f.request()
			if err != nil {
				return err
			}
			if req.Files, err = a.sources(); err != nil {
				return err
			}
			if a.fleetFile != "" {
				_, file, _, err := a.fleet()
				if err != nil {
					return err
				}
				req.Fleet = &file
			}
			if cmd.Flags().Changed("after") {
				req.After = &after
			}
			return a.publish(cmd, req, f.yes)
		},
	}
	f.of(c)
	c.Flags().Int64Var(&after, "after", 0, "refuse if another revision than this is published; 0 is none")
	return c
}

// publishFlags are those of the commands that publish.
type publishFlags struct {
	why    string
	yes    bool
	accept []string
}

// of adds them to a command.
func (f *publishFlags) of(c *cobra.Command) {
	because(c, &f.why)
	c.Flags().BoolVar(&f.yes, "yes", false, "publish what is shown without asking")
	c.Flags().StringSliceVar(&f.accept, "accept", nil, "publish with this error: the code of a check, as no-guard; say why with -m")
}

// request is what they say of a publication.
func (f *publishFlags) request() (api.PublishRequest, error) {
	if f.why == "" {
		return api.PublishRequest{}, errors.New("say why, for the history: -m WHY")
	}
	return api.PublishRequest{Why: f.why, Accept: f.accept}, nil
}

// publish shows what a request would change, asks unless it is said before, and publishes.
func (a *app) publish(cmd *cobra.Command, req api.PublishRequest, yes bool) error {
	svc, err := a.service()
	if err != nil {
		return err
	}
	texts := req.Files
	if req.Fleet != nil {
		texts = append(slices.Clone(texts), *req.Fleet)
	}
	look := req
	look.Preview = true
	seen, err := svc.Publish(cmd.Context(), look)
	if err != nil {
		return a.changed(seen, err, texts, nil)
	}
	if seen.Same {
		return a.print(seen, func(w io.Writer) { _, _ = fmt.Fprintf(w, "it is published already, as revision %d\n", seen.Revision) })
	}
	if len(seen.Problems) > 0 {
		a.explain(a.errOut, seen.Problems, texts)
	}
	if req.Fleet != nil {
		printChanges(a.errOut, seen.Changes)
	}
	needs := seen.Need != nil && seen.Need.People > 0
	if err := a.meant(cmd, svc, req, seen.Revision, yes || needs); err != nil {
		return err
	}
	if needs {
		a.say("\nnot published: it needs %s", seen.Need)
		for _, r := range seen.Need.Because {
			a.say("  %s: %s", kindWords(r.Kind), strings.Join(r.Shown, " "))
		}
		a.say("propose it: yfence propose -m WHY")
		return errFound
	}
	if req.After == nil {
		req.After = &seen.Revision // what was looked at is what is published over
	}
	done, err := svc.Publish(cmd.Context(), req)
	done.Problems = nil // they were told
	return a.changed(done, err, texts, func(w io.Writer) {
		text := fmt.Sprintf("published revision %d", done.Revision)
		if len(done.Changes) > 0 {
			text += fmt.Sprintf(" with generation %d of the fleet", done.Generation)
		}
		_, _ = fmt.Fprintln(w, text)
		a.say("it is not in force yet where it is new: yfence waves start puts it in force, step by step")
	})
}

// meant shows what a request would change compared with the revision that is published, and, if it
// is not said, asks whether that is meant. Before the first there is nothing to compare with.
func (a *app) meant(cmd *cobra.Command, svc *client.Client, req api.PublishRequest, published int64, said bool) error {
	if published == 0 {
		a.say("Nothing is published yet: this is the first policy. It is put in force on no host before a wave, or settle there.")
	} else {
		changes, err := svc.Compare(cmd.Context(), api.CompareRequest{From: api.Side{Revision: published},
			To: api.Side{Files: req.Files, Fleet: req.Fleet}})
		if err != nil { // a policy that is published with errors is not compared
			a.say("what it changes cannot be shown: %s", err)
		} else {
			a.printChanges(a.errOut, changes.Changes)
			a.printCuts(a.errOut, changes.Cuts)
		}
		if err == nil && len(changes.Changes.Changes) == 0 && req.Fleet == nil {
			return nil
		}
	}
	if said {
		return nil
	}
	return a.agreed("Publish this?", "not published")
}

// agreed asks somebody, and is errFound where he does not say yes; not is what then is not done.
func (a *app) agreed(question, not string) error {
	_, _ = fmt.Fprintf(a.errOut, "\n%s [yes/no] ", question)
	answer, _ := bufio.NewReader(a.stdin).ReadString('\n') // an answer that ends early is none
	if answer = strings.ToLower(strings.TrimSpace(answer)); answer != "yes" && answer != "y" {
		a.say("%s; say yes, or --yes where nobody can be asked", not)
		return errFound
	}
	return nil
}

// changed tells how a change of policy or fleet went.
func (a *app) changed(done api.Checked, err error, texts []check.Source, text func(io.Writer)) error {
	var refused *client.Problem
	if errors.As(err, &refused) && refused.Problems != nil {
		if err := a.print(map[string]any{"version": api.Version, "problems": refused.Problems},
			func(w io.Writer) { a.explain(w, refused.Problems, texts) }); err != nil {
			return err
		}
		a.say("yfence: %s", refused.Detail)
		a.together(refused.Problems)
		return told(refused.Problems)
	}
	if err != nil {
		return err
	}
	return a.print(done, func(w io.Writer) {
		if len(done.Problems) > 0 {
			a.explain(a.errOut, done.Problems, texts)
		}
		text(w)
	})
}

// together names the one command that publishes a policy and a fleet at once, where the fleet has
// a role that the policy does not know: neither can go first.
func (a *app) together(problems []source.Problem) {
	for _, pr := range problems {
		if pr.Code == "unknown" && !strings.HasSuffix(pr.File, ".fence") && !(a.fleetFile != "" && a.policyDir != "") {
			a.say("a policy that knows these roles and this fleet go together: yfence publish --policy DIR --fleet %s -m WHY",
				cmp.Or(a.fleetFile, "FILE"))
			return
		}
	}
}

// inSpite says in spite of which checks a revision was published.
func inSpite(r api.Revision) string {
	var codes []string
	for _, a := range r.Accepted {
		if !slices.Contains(codes, a.Code) {
			codes = append(codes, a.Code)
		}
	}
	if codes == nil {
		return ""
	}
	return " (accepted: " + strings.Join(codes, ", ") + ")"
}
