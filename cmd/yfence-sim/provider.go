package main

import (
	"fmt"
	"net"
	"net/http"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"yellowfence.example/yfence/internal/provider"
)

// idp makes `yfence-sim provider`.
func idp() *cobra.Command {
	var listen, issuer string
	var people []string
	c := &cobra.Command{
		Use:   "provider",
		Short: "An identity provider that asks for no password",
		Long: `Provider serves OpenID Connect on an address: discovery, sign-in with a code and PKCE, sign-in of
terminals with a device code. Whoever can reach it is whom he says he is.`,
		Example: "  yfence-sim provider --listen 127.0.0.1:9400 --person kim=ops --person gus=gate,ops",
		Args:    cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			var all []provider.Person
			for _, p := range people {
				name, groups, ok := strings.Cut(p, "=")
				if !ok || name == "" {
					return fmt.Errorf("--person is a name and groups, as kim=ops,gate, not %q", p)
				}
				all = append(all, provider.Person{Name: name, Groups: strings.Split(groups, ",")})
			}
			l, err := net.Listen("tcp", listen)
			if err != nil {
				return err
			}
			if issuer == "" {
				issuer = "http://" + l.Addr().String()
			}
			fmt.Fprintln(os.Stderr, "yfence-sim: the provider is at", issuer)
			server := &http.Server{Handler: provider.New(issuer, all...).Handler(), ReadHeaderTimeout: 10 * time.Second}
			return server.Serve(l)
		},
	}
	c.Flags().StringVar(&listen, "listen", "127.0.0.1:9400", "address and port")
	c.Flags().StringVar(&issuer, "issuer", "", "the address that it says it has, if others reach it by another")
	c.Flags().StringArrayVar(&people, "person", nil, "somebody who can sign in, with groups, as kim=ops,gate; once for each")
	return c
}
