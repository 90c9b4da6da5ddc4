package cli

import (
	"fmt"
	"io"
	"log/slog"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"yellowfence.example/yfence/api"
)

// storeCommand makes `yfence store`, which has what is about the service's memory under it.
func (a *app) storeCommand() *cobra.Command {
	noun := &cobra.Command{Use: "store", Short: "The service's database: what it holds, and its tables"}
	noun.AddCommand(a.storeShow(), a.storeMigrate())
	return noun
}

// storeShow makes `yfence store show`.
func (a *app) storeShow() *cobra.Command {
	return &cobra.Command{
		Use: "show", Short: "What the service keeps, how much of it, since when and for how long", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			svc, err := a.service()
			if err != nil {
				return err
			}
			s, err := svc.Store(cmd.Context())
			if err != nil {
				return err
			}
			return a.print(s, func(w io.Writer) {
				t := tabwriter.NewWriter(w, 0, 0, 3, ' ', 0)
				_, _ = fmt.Fprintln(t, "KEPT\tROWS\tSIZE\tSINCE\tFOR")
				total := int64(0)
				for _, p := range s.Parts {
					since := ""
					if p.Oldest != nil {
						since = dateText(*p.Oldest)
					}
					_, _ = fmt.Fprintf(t, "%s\tabout %d\t%s\t%s\t%s\n", p.What, p.Rows, bytesText(p.Bytes), since, p.Keeps)
					total += p.Bytes
				}
				_ = t.Flush()
				_, _ = fmt.Fprintf(w, "\n%s in all; tables of version %d, %s\n", bytesText(total), s.Tables, s.Server)
			})
		},
	}
}

// storeMigrate makes `yfence store migrate`.
func (a *app) storeMigrate() *cobra.Command {
	var file, ca string
	c := &cobra.Command{
		Use: "migrate", Short: "Bring the database's tables up to date, as a user who may change them", Args: cobra.NoArgs,
		Long: `Migrate makes the tables of the service, or brings them up to date. yfence serve does
so by itself where its database user may change tables. Where he may not, run this
first, with another user. Services of the version before run on meanwhile.`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			source, err := a.databaseOf(file)
			if err != nil {
				return err
			}
			st, err := openStore(cmd.Context(), source, ca, slog.New(a.logHandler(serveFlags{})))
			if err != nil {
				return err
			}
			defer func() { _ = st.Close() }()
			version, err := st.Tables(cmd.Context())
			if err != nil {
				return err
			}
			return a.print(map[string]any{"version": api.Version, "tables": version},
				func(w io.Writer) { _, _ = fmt.Fprintf(w, "the tables are of version %d\n", version) })
		},
	}
	c.Flags().StringVar(&file, "database-file", "", "a file that names the database (else YFENCE_DATABASE)")
	c.Flags().StringVar(&ca, "database-ca", "", "certificates of the authorities that stand for the database, a file")
	return c
}
