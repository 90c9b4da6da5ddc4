package cli

import (
	"errors"
	"fmt"
	"io"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"yellowfence.example/yfence/api"
)

// tokensCommand makes `yfence tokens`, which lists, and what is under it.
func (a *app) tokensCommand() *cobra.Command {
	c := &cobra.Command{Use: "tokens", Short: "Access to the service: make and revoke tokens"}
	c.AddCommand(a.tokensMake(), a.tokensRevoke())
	return listing(c, a.tokensList())
}

// tokensMake makes `yfence tokens make`.
func (a *app) tokensMake() *cobra.Command {
	var host, purpose string
	var rights []string
	var lasts time.Duration
	c := &cobra.Command{
		Use:   "make NAME",
		Short: "Make a token and print its secret, this once",
		Example: "  yfence tokens make pat --right read --right publish\n  yfence tokens make chart-ci --right propose --right " +
			"settle:charts " +
			"--lasts 30d --for 'the build of the charts'\n  yfence tokens make logbook-01 --host logbook-01 > token",
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			svc, err := a.service()
			if err != nil {
				return err
			}
			req := api.TokenRequest{Name: args[0], Host: host, For: purpose}
			if lasts != 0 {
				end := time.Now().Add(lasts)
				req.Until = &end
			}
			for _, r := range rights {
				req.Rights = append(req.Rights, api.Right(r))
			}
			t, err := svc.NewToken(cmd.Context(), req)
			if err != nil {
				return err
			}
			end := ""
			if t.Until != nil {
				end = ", and ends on " + dateText(*t.Until)
			}
			a.say("token %d for %s; it is printed this once%s", t.ID, t.Name, end)
			return a.print(map[string]any{"version": api.Version, "token": t}, func(w io.Writer) { _, _ = fmt.Fprintln(w, t.Secret) })
		},
	}
	c.Flags().StringVar(&host, "host", "", "the host that this token belongs to")
	c.Flags().StringArrayVar(&rights, "right", nil, "read, propose, approve, publish, settle, pause or tokens, or as "+
		"settle:charts,broker for the hosts of some roles; once for each")
	lengthVar(c, &lasts, "lasts", 0, "for how long, up to 366d; 90d if not said, and a host's own has no end")
	c.Flags().StringVar(&purpose, "for", "", "what it is for, as others will read it")
	return c
}

// tokensList makes the list that `yfence tokens` is.
func (a *app) tokensList() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "All tokens", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			svc, err := a.service()
			if err != nil {
				return err
			}
			tokens, err := svc.Tokens(cmd.Context())
			if err != nil {
				return err
			}
			return a.print(tokens, func(w io.Writer) {
				t := tabwriter.NewWriter(w, 0, 0, 3, ' ', 0)
				_, _ = fmt.Fprintln(t, "TOKEN\tNAME\tRIGHTS\tHOST\tFOR\tMADE\tLAST USED\tENDS")
				for _, k := range tokens.Tokens {
					used, end := "", ""
					if k.UsedAt != nil {
						used = dateText(*k.UsedAt)
					}
					switch {
					case k.RevokedAt != nil:
						end = "revoked " + minuteText(*k.RevokedAt)
					case k.Until != nil:
						end = dateText(*k.Until)
					}
					_, _ = fmt.Fprintf(t, "%d\t%s\t%s\t%s\t%s\t%s\t%s\t%s\n", k.ID, k.Name, strings.Join(api.Words(k.Rights), " "),
						k.Host, k.For,
						dateText(k.CreatedAt), used, end)
				}
				_ = t.Flush()
			})
		},
	}
}

// tokensRevoke makes `yfence tokens revoke`.
func (a *app) tokensRevoke() *cobra.Command {
	return &cobra.Command{
		Use: "revoke NUMBER", Short: "Revoke a token; it stops working at once", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			var id int64
			if _, err := fmt.Sscan(args[0], &id); err != nil {
				return errors.New("name the token by its number; yfence tokens tells it")
			}
			svc, err := a.service()
			if err != nil {
				return err
			}
			if err := svc.RevokeToken(cmd.Context(), id); err != nil {
				return err
			}
			return a.print(map[string]any{"version": api.Version, "revoked": id},
				func(w io.Writer) { _, _ = fmt.Fprintf(w, "revoked token %d\n", id) })
		},
	}
}
