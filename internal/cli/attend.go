package cli

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"net/url"
	"os"
	"os/signal"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"yellowfence.example/yfence/internal/host"
	"yellowfence.example/yfence/internal/host/agent"
	"yellowfence.example/yfence/internal/host/inventory"
)

// attendCommand makes `yfence attend`, the agent that stays on a host.
func (a *app) attendCommand() *cobra.Command {
	var enrol string
	var plain, seen bool
	var every, look time.Duration
	c := &cobra.Command{
		Use:   "attend",
		Short: "On a host: run the host agent, which reports and does what the service asks",
		Long: `Attend stays on a host. It reports every so often and whenever rules change, and
does what the service asks: settle, keep, go back, open a connection to try it. It
opens no port, and changes no rules that nobody asked it to change; when a unit starts
anew that rules ask for, they are told what the kernel knows it by now.

A new host is enrolled once: yfence fleet enrol HOST gives a one-time token, and
attend --enrol FILE --server URL trades it for the host's own, and trusts the
service's key from then on.`,
		Args: cobra.NoArgs,
	}
	h := a.onHost(c)
	c.RunE = func(cmd *cobra.Command, _ []string) error {
		ctx, stop := signal.NotifyContext(cmd.Context(), os.Interrupt, syscall.SIGTERM)
		defer stop()
		if enrol != "" {
			if err := a.enrolHere(ctx, h, enrol, plain); err != nil {
				return err
			}
		}
		svc, err := h.service()
		if err != nil {
			return err
		}
		if _, err := svc.Keys(ctx); err == nil || ctx.Err() != nil {
			a.say("%s attends to %s", h.name, svc.URL())
		}
		common := []string{"--host", h.name, "--state", h.machine.Dir}
		if a.server != "" {
			common = append(common, "--server", a.server)
		}
		if a.caFile != "" {
			common = append(common, "--ca-file", a.caFile)
		}
		if a.tokenFile != "" {
			common = append(common, "--token-file", a.tokenFile)
		}
		at := agent.Agent{Machine: h.machine, Host: h.name, Service: svc, Seen: seen, Every: every, Told: !cmd.Flags().Changed("every"),
			Look: look,
			Run:  agent.RunProgram("/proc/self/exe", common),
			Say:  func(format string, args ...any) { a.say(time.Now().Format(time.TimeOnly)+" "+format, args...) }}
		return at.Attend(ctx)
	}
	c.Flags().StringVar(&enrol, "enrol", "", "a file with the one-time token, - for standard input; needed once")
	c.Flags().BoolVar(&plain, "without-tls", false, "enrol with a service that does not speak TLS, over a network that nobody else is on")
	c.Flags().BoolVar(&seen, "seen", false, "listen to which connections begin, for yfence traffic seen; of strangers the service keeps "+
		"prefixes alone")
	lengthVar(c, &every, "every", 5*time.Minute, "how often to report where nothing changes; if not said, what the service says")
	lengthVar(c, &look, "look", 30*time.Second, "how often to look at what the kernel does not tell of: legacy iptables and ipset")
	return c
}

// speaksTLS refuses a service that anybody on the way could listen to, or speak for.
func speaksTLS(server string) error {
	u, err := url.Parse(server)
	if err != nil || u.Scheme == "https" {
		return err
	}
	if at, err := netip.ParseAddr(u.Hostname()); err == nil && at.IsLoopback() || u.Hostname() == "localhost" {
		return nil
	}
	return fmt.Errorf("%s does not speak TLS: whoever is on the way could take this host's token, or give it keys of his own; give an "+
		"https URL (and --ca-file FILE for authorities of your own), or say --without-tls", server)
}

// enrolHere trades a one-time token for this host's own.
func (a *app) enrolHere(ctx context.Context, h *here, file string, plain bool) error {
	data, err := a.readFile(file)
	if err != nil {
		return err
	}
	server, _, err := a.address()
	if err != nil {
		return err
	}
	if server == "" {
		return errors.New("no service is named: give --server URL")
	}
	if err := h.find(); err != nil {
		return err
	}
	if err := speaksTLS(server); err != nil && !plain {
		return err
	}
	authorities, err := a.authorities()
	if err != nil {
		return err
	}
	svc, err := a.client(server, "", authorities)
	if err != nil {
		return err
	}
	req := inventory.About(ctx)
	req.Token = strings.TrimSpace(string(data))
	e, err := svc.Enrol(ctx, req)
	if err != nil {
		return err
	}
	if err := h.machine.Enrol(host.Identity{Host: e.Host, Server: server, Token: e.Secret, CA: string(authorities)}, e.Keys); err != nil {
		return fmt.Errorf("the host is enrolled, and could not keep its token: enrol it again once this is mended: %w", err)
	}
	h.name = e.Host
	a.say("this host is %s, and trusts the service's key %s", e.Host, e.Keys[0])
	return nil
}
