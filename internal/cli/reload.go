package cli

import (
	"log/slog"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"yellowfence.example/yfence/internal/service"
)

// reloading reads the settings of the service again while it runs.
type reloading struct {
	settings func() (serveFlags, serviceConfig, []Setting, error)
	was      []Setting
}

// atOnce are the settings that count as soon as they are read again; the others do at the next start.
var atOnce = []string{"max-pause", "whole-strangers", "follow", "keep", "keep-daily", "sign-in", "approvals", "events"}

// readsAgain gives what works out the settings anew, from what was typed, the variables and the file as it is then.
func (a *app) readsAgain(typed *pflag.FlagSet) func() (serveFlags, serviceConfig, []Setting, error) {
	given := map[string][]string{}
	typed.VisitAll(func(f *pflag.Flag) {
		if !f.Changed {
			return
		}
		given[f.Name] = []string{f.Value.String()}
		if list, is := f.Value.(pflag.SliceValue); is {
			given[f.Name] = list.GetSlice()
		}
	})
	return func() (f serveFlags, c serviceConfig, all []Setting, err error) {
		fresh := &cobra.Command{}
		f.of(fresh)
		for name, values := range given {
			for _, v := range values {
				if err := fresh.Flags().Set(name, v); err != nil {
					return f, c, nil, err
				}
			}
		}
		c, all, err = a.configured(fresh.Flags(), f.config)
		return f, c, all, err
	}
}

// read reads the settings again; nil where they are no good, which the log says. What does not count before
// the next start is named.
func (r *reloading) read(log *slog.Logger) *service.Settings {
	f, config, now, err := r.settings()
	var set service.Settings
	if err == nil {
		set, err = f.set(config)
	}
	if err != nil {
		log.Error("the configuration could not be read again; the one from before counts", "error", err)
		return nil
	}
	changed, later := differing(r.was, now)
	log.Info("the configuration was read again", "changed", strings.Join(changed, " "), "at the next start", strings.Join(later, " "))
	r.was = now
	return &set
}

// apply reads the settings again, for a service that runs or for one that waits for its database.
func (r *reloading) apply(log *slog.Logger, svc *service.Service, waits *service.Options) {
	switch set := r.read(log); {
	case set == nil:
	case svc != nil:
		svc.Set(*set)
	default:
		waits.Settings = *set
	}
}

// differing are the names of settings that are others now: those that count at once, and those that do not.
func differing(was, now []Setting) (changed, later []string) {
	before, after := map[string]string{}, map[string]string{}
	names := []string{}
	for _, s := range was {
		before[s.Name] = s.Value
		names = append(names, s.Name)
	}
	for _, s := range now {
		after[s.Name] = s.Value
		names = append(names, s.Name)
	}
	slices.Sort(names)
	for _, name := range slices.Compact(names) {
		kind, _, _ := strings.Cut(name, ",")
		switch {
		case before[name] == after[name]:
		case slices.Contains(atOnce, kind):
			changed = append(changed, name)
		default:
			later = append(later, name)
		}
	}
	return changed, later
}
