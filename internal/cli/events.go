package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/client"
)

// eventsCommand makes `yfence events`, which lists, and what is under it.
func (a *app) eventsCommand() *cobra.Command {
	noun := &cobra.Command{Use: "events", Short: "What others are told of, and what they did not take"}
	noun.AddCommand(a.eventsUndelivered(), a.eventsSendAgain())
	most, follow := 50, false
	list := &cobra.Command{
		Use:  "events",
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if most < 1 || most > 1000 {
				return fmt.Errorf("--limit is from 1 to 1000, not %d", most)
			}
			svc, err := a.service()
			if err != nil {
				return err
			}
			if follow {
				return a.followEvents(cmd.Context(), svc)
			}
			list, err := svc.Events(cmd.Context(), 0, most)
			if err != nil {
				return err
			}
			return a.print(list, func(w io.Writer) {
				if len(list.Events) == 0 {
					_, _ = fmt.Fprintln(w, "nothing happened yet")
					return
				}
				t := tabwriter.NewWriter(w, 0, 0, 3, ' ', 0)
				_, _ = fmt.Fprintln(t, "EVENT\tAT\tTYPE\tABOUT")
				for _, e := range list.Events {
					_, _ = fmt.Fprintf(t, eventLine, e.Number, e.At.Format(eventTime), e.Type, about(e))
				}
				_ = t.Flush()
			})
		},
	}
	list.Flags().IntVar(&most, "limit", 50, "how many at most")
	list.Flags().BoolVar(&follow, "follow", false, "tell what happens from now on, as it happens, until the command is ended")
	return listing(noun, list)
}

// How an event is printed.
const (
	eventLine = "%d\t%s\t%s\t%s\n"
	eventTime = "2006-01-02 15:04:05 MST"
)

// followEvents prints what happens until ctx ends. Where the service goes away it waits for it, and then goes on after
// what it heard last.
func (a *app) followEvents(ctx context.Context, svc *client.Client) error {
	last := int64(0)
	for first := true; ; first = false {
		stream, err := svc.Stream(ctx, last)
		var refused *client.Problem
		switch {
		case err == nil:
			err = a.printStream(stream, &last)
			_ = stream.Close()
		case first, errors.As(err, &refused) && !refused.Again():
			return err
		}
		if ctx.Err() != nil {
			return nil
		}
		if err != nil && !errors.Is(err, io.EOF) {
			a.say("yfence: %v; trying again", err)
		}
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(followAgain):
		}
	}
}

// followAgain is how long is waited before a stream that ended is begun again.
const followAgain = 2 * time.Second

// printStream prints what a stream tells until it ends, and notes the last event that it told of.
func (a *app) printStream(stream *client.Stream, last *int64) error {
	for {
		m, err := stream.Next()
		if err != nil {
			return err
		}
		if m.Event == nil {
			continue
		}
		*last = m.Number
		if err := a.print(m.Event, func(w io.Writer) {
			_, _ = fmt.Fprintf(w, strings.ReplaceAll(eventLine, "\t", "   "), m.Number, m.Event.At.Format(eventTime), m.Event.Type,
				about(*m.Event))
		}); err != nil {
			return err
		}
	}
}

// about is what an event is about: of a host how it stands, too.
func about(e api.Event) string {
	var way api.WayIn
	if e.Type == api.WayInEvent && json.Unmarshal(e.Data, &way) == nil {
		if way.AtRisk {
			return way.Host + ": a way in that a guard keeps open was shut"
		}
		return way.Host + ": its ways in are open"
	}
	var host api.HostEvent
	if json.Unmarshal(e.Data, &host) != nil || host.Host == "" {
		return e.Subject
	}
	s := host.Host + ": " + string(host.State)
	if host.Changes > 1 {
		s += fmt.Sprintf(", after %d changes", host.Changes)
	}
	return s
}

// eventsUndelivered makes `yfence events undelivered`.
func (a *app) eventsUndelivered() *cobra.Command {
	return &cobra.Command{
		Use: "undelivered", Short: "Events that destinations did not take yet, or never will, and why", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			svc, err := a.service()
			if err != nil {
				return err
			}
			list, err := svc.Undelivered(cmd.Context())
			if err != nil {
				return err
			}
			if err := a.print(list, func(w io.Writer) {
				if len(list.Undelivered) == 0 {
					_, _ = fmt.Fprintln(w, "every event that was tried was delivered")
					return
				}
				t := tabwriter.NewWriter(w, 0, 0, 3, ' ', 0)
				_, _ = fmt.Fprintln(t, "EVENT\tTO\tTYPE\tABOUT\tSTANDS\tTRIES\tWHY")
				for _, u := range list.Undelivered {
					stands := u.State
					if u.State == "due" {
						stands = "again at " + clockText(u.NextAt)
					}
					_, _ = fmt.Fprintf(t, "%d\t%s\t%s\t%s\t%s\t%d\t%s\n", u.Event.Number, u.Destination, u.Event.Type, u.Event.Subject,
						stands, u.Tries,
						u.Said)
				}
				_ = t.Flush()
			}); err != nil || len(list.Undelivered) == 0 {
				return err
			}
			return errFound
		},
	}
}

// eventsSendAgain makes `yfence events send-again`.
func (a *app) eventsSendAgain() *cobra.Command {
	return &cobra.Command{
		Use: "send-again DESTINATION", Short: "Deliver again what was given up for a destination", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			svc, err := a.service()
			if err != nil {
				return err
			}
			n, err := svc.SendAgain(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return a.print(map[string]any{"version": 1, "again": n},
				func(w io.Writer) { _, _ = fmt.Fprintf(w, "%s sent again\n", plural(int(n), "event")) })
		},
	}
}
