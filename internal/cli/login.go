package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/coreos/go-oidc/v3/oidc"
	"github.com/spf13/cobra"
	"golang.org/x/oauth2"

	"yellowfence.example/yfence/api"
)

// A kept session is what login leaves for the commands that come after it.
type keptSession struct {
	Server string    `json:"server"`
	Secret string    `json:"secret"`
	Name   string    `json:"name"`
	Until  time.Time `json:"until"`
}

// configFolder is where a user's settings and session are; "" where he has no home.
func (a *app) configFolder() string {
	if dir := a.getenv("XDG_CONFIG_HOME"); dir != "" {
		return filepath.Join(dir, "yfence")
	}
	if home := a.getenv("HOME"); home != "" {
		return filepath.Join(home, ".config", "yfence")
	}
	return ""
}

// sessionFile is where login keeps a session.
func (a *app) sessionFile() string { return filepath.Join(a.configFolder(), "session.json") }

// session is the session with a server that login has left; its secret is "" where there is none, or it
// is over.
func (a *app) session(server string) (k keptSession) {
	if a.configFolder() == "" {
		return k
	}
	text, err := os.ReadFile(a.sessionFile())
	if err != nil || json.Unmarshal(text, &k) != nil || k.Server != strings.TrimSuffix(server, "/") || time.Now().After(k.Until) {
		return keptSession{}
	}
	return k
}

// loginCommand makes `yfence login`.
func (a *app) loginCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "login",
		Short: "Sign in through the company's identity provider",
		Long: `Login shows an address and a code. Open the address in any browser, sign in as always, and enter the
code; the command ends when that is done. The commands that come after it need no token, for twelve
hours or until yfence logout.`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			server, _, err := a.address()
			if err != nil {
				return err
			}
			if server == "" {
				return errors.New("no service is named: give --server URL (or set YFENCE_SERVER)")
			}
			if a.configFolder() == "" {
				return errors.New("there is no place to keep the session: set HOME")
			}
			authorities, err := a.authorities()
			if err != nil {
				return err
			}
			svc, err := a.client(server, "", authorities)
			if err != nil {
				return err
			}
			ways, err := svc.SignInWays(cmd.Context())
			if err != nil {
				return err
			}
			if ways.Provider == nil {
				return fmt.Errorf("%s has no identity provider; use a token (--token-file FILE)", server)
			}
			id, err := a.signInAt(cmd.Context(), *ways.Provider)
			if err != nil {
				return err
			}
			s, err := svc.SignInPerson(cmd.Context(), id)
			if err != nil {
				return err
			}
			if err := a.keepSession(keptSession{strings.TrimSuffix(server, "/"), s.Secret, s.Name, s.Until}); err != nil {
				return err
			}
			s.Secret = "" // it is kept where it belongs
			return a.print(s, func(w io.Writer) {
				_, _ = fmt.Fprintf(w, "signed in as %s until %s, with the rights %s\n", s.Name, minuteText(s.Until),
					strings.Join(api.Words(s.Rights), ", "))
			})
		},
	}
}

// signInAt has somebody sign in at the provider (RFC 8628), and gives its token that says who it is.
func (a *app) signInAt(ctx context.Context, at api.ProviderNote) (idToken string, err error) {
	ctx = oidc.ClientContext(ctx, &http.Client{Timeout: 20 * time.Second})
	p, err := oidc.NewProvider(ctx, at.Issuer)
	if err != nil {
		return "", fmt.Errorf("the identity provider %s does not answer as it should: %w", at.Issuer, err)
	}
	flow := &oauth2.Config{ClientID: at.ClientID, Endpoint: p.Endpoint(), Scopes: []string{oidc.ScopeOpenID, "profile", "email", "groups"}}
	if flow.Endpoint.DeviceAuthURL == "" {
		return "", fmt.Errorf("the identity provider %s does not sign in terminals; use a token", at.Issuer)
	}
	asked, err := flow.DeviceAuth(ctx)
	if err != nil {
		return "", fmt.Errorf("the identity provider %s does not give a code: %w", at.Issuer, err)
	}
	a.say("open %s and enter the code %s", asked.VerificationURI, asked.UserCode)
	if asked.VerificationURIComplete != "" {
		a.say("or open %s", asked.VerificationURIComplete)
	}
	token, err := flow.DeviceAccessToken(ctx, asked)
	if err != nil {
		return "", fmt.Errorf("nobody signed in: %w", err)
	}
	idToken, ok := token.Extra("id_token").(string)
	if !ok {
		return "", fmt.Errorf("the identity provider %s does not say who signed in", at.Issuer)
	}
	return idToken, nil
}

// keepSession writes a session to a file that its owner alone reads.
func (a *app) keepSession(k keptSession) error {
	if err := os.MkdirAll(a.configFolder(), 0o700); err != nil {
		return err
	}
	text, err := json.Marshal(k)
	if err != nil {
		return err
	}
	next := a.sessionFile() + ".new"
	if err := os.WriteFile(next, text, 0o600); err != nil {
		return err
	}
	return os.Rename(next, a.sessionFile())
}

// logoutCommand makes `yfence logout`.
func (a *app) logoutCommand() *cobra.Command {
	return &cobra.Command{
		Use: "logout", Short: "End the session that yfence login began", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			text, err := os.ReadFile(a.sessionFile())
			if errors.Is(err, fs.ErrNotExist) {
				return errors.New("nobody is signed in")
			} else if err != nil {
				return err
			}
			var k keptSession
			if err := json.Unmarshal(text, &k); err == nil && time.Now().Before(k.Until) {
				authorities, err := a.authorities()
				if err != nil {
					return err
				}
				svc, err := a.client(k.Server, k.Secret, authorities)
				if err == nil {
					err = svc.SignOut(cmd.Context())
				}
				if err != nil {
					a.say("the service at %s was not told: %s", k.Server, err)
				}
			}
			if err := os.Remove(a.sessionFile()); err != nil {
				return err
			}
			return a.print(map[string]any{"version": api.Version, "signed_out": k.Name}, func(w io.Writer) {
				_,
					_ = fmt.Fprintln(w, "signed out")
			})
		},
	}
}
