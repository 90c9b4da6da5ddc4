package cli

import (
	"errors"
	"fmt"
	"io"
	"strings"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"yellowfence.example/yfence/internal/api"
)

// tokensCommand makes `yfence tokens` and what is under it.
func (a *app) tokensCommand() *cobra.Command {
	c := &cobra.Command{Use: "tokens", Short: "Access to the service: make and revoke tokens"}
	var host string
	var rights []string
	create := &cobra.Command{
		Use:     "make NAME",
		Short:   "Make a token and print its secret, this once",
		Example: "  yfence tokens make pat --right read --right publish\n  yfence tokens make logbook-01 --host logbook-01 > token",
		Args:    cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			svc, err := a.service()
			if err != nil {
				return err
			}
			req := api.TokenRequest{Name: args[0], Host: host}
			for _, r := range rights {
				req.Rights = append(req.Rights, api.Right(r))
			}
			t, err := svc.NewToken(cmd.Context(), req)
			if err != nil {
				return err
			}
			a.say("token %d for %s; it is printed this once", t.ID, t.Name)
			return a.print(map[string]any{"version": api.Version, "token": t}, func(w io.Writer) { _, _ = fmt.Fprintln(w, t.Secret) })
		},
	}
	create.Flags().StringVar(&host, "host", "", "the host that this token belongs to")
	create.Flags().StringArrayVar(&rights, "right", nil, "read, publish, settle or tokens; once for each")
	list := &cobra.Command{
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
				_, _ = fmt.Fprintln(t, "TOKEN\tNAME\tRIGHTS\tHOST\tMADE\tREVOKED")
				for _, k := range tokens.Tokens {
					words := make([]string, len(k.Rights))
					for i, r := range k.Rights {
						words[i] = string(r)
					}
					revoked := ""
					if k.RevokedAt != nil {
						revoked = k.RevokedAt.Format("2006-01-02 15:04 MST")
					}
					_, _ = fmt.Fprintf(t, "%d\t%s\t%s\t%s\t%s\t%s\n", k.ID, k.Name, strings.Join(words, ", "), k.Host,
						k.CreatedAt.Format("2006-01-02 15:04 MST"), revoked)
				}
				_ = t.Flush()
			})
		},
	}
	revoke := &cobra.Command{
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
	c.AddCommand(create, revoke)
	return listing(c, list)
}
