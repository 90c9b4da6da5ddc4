package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/check"
	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/dialect"
	"yellowfence.example/yfence/core/dialect/forms"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/listeners"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/core/say"
	"yellowfence.example/yfence/core/source"
	"yellowfence.example/yfence/internal/host"
	"yellowfence.example/yfence/internal/host/inventory"
	"yellowfence.example/yfence/internal/limits"
	"yellowfence.example/yfence/internal/live"
)

// local is this host by a policy in files, which no service has to do with.
type local struct {
	pol   *policy.Policy
	host  *fleet.Host
	from  followed
	files settledFiles // as they are now
}

// followed is which files this host follows; it is kept in the host's folder, so that commands
// after a settle need not be told again.
type followed struct {
	Policy string `json:"policy"` // absolute, as is the fleet
	Fleet  string `json:"fleet"`
	Host   string `json:"host"` // the name it was settled by
	// Settled is the files as they were with the last change, and with the one that is kept, if
	// that is another.
	Settled []settledFiles `json:"settled"`
}

// settledFiles are the files of one change.
type settledFiles struct {
	Change string         `json:"change"` // its ID
	Policy []check.Source `json:"policy"`
	Fleet  check.Source   `json:"fleet"`
}

// followedFile is where that is kept.
const followedFile = "followed.json"

// byFiles says that a command on this host is to work by files: they are named, or this host was
// settled by files before, or no service is known and this folder is a policy's.
func (a *app) byFiles(h *here) (bool, error) {
	if a.policyDir != "" {
		if h.identity != nil {
			return false, fmt.Errorf("this host is enrolled at %s, and has the rules that are published there: publish the policy "+
				"(yfence publish %s), or take %s away to go by files", h.identity.Server, a.policyDir, h.machine.Path("identity.json"))
		}
		return true, nil
	}
	if h.svc != nil {
		return false, nil
	}
	var last followed
	if err := h.machine.ReadFile(followedFile, &last); err != nil {
		return false, err
	}
	if last.Policy == "" {
		if dir := policyFolder("."); dir != "" {
			a.policyDir = dir
			a.say("yfence: the policy is that of this folder")
		}
		return a.policyDir != "", nil
	}
	a.policyDir, a.fleetFile, h.name = last.Policy, cmp.Or(a.fleetFile, last.Fleet), cmp.Or(h.said, last.Host)
	a.say("yfence: the policy is %s, as of the last settle", a.policyDir)
	return true, nil
}

// local reads the files, and finds this host in the fleet: by the name that was said, by the
// machine's, or because the fleet has no other.
func (a *app) local(h *here) (l local, err error) {
	if _, err := os.Stat(a.policyDir); err != nil {
		return l, fmt.Errorf("the policy's folder: %w", err)
	}
	if a.fleetFile = cmp.Or(a.fleetFile, fleetIn(a.policyDir)); a.fleetFile == "" {
		return l, fmt.Errorf("no fleet is named, and %s holds none (%s): give its file with --fleet FILE", a.policyDir,
			strings.Join(fleetFiles, ", "))
	}
	pol, texts, problems, err := a.checked()
	if err != nil {
		return l, err
	}
	if err := a.usable(problems, texts); err != nil {
		return l, err
	}
	l.pol, l.files = pol, settledFiles{Policy: texts[:len(texts)-1], Fleet: texts[len(texts)-1]}
	if l.from.Policy, err = filepath.Abs(a.policyDir); err != nil {
		return l, err
	}
	if l.from.Fleet, err = filepath.Abs(a.fleetFile); err != nil {
		return l, err
	}
	l.host = l.pol.Fleet.Host(h.name)
	if all := l.pol.Fleet.Hosts; l.host == nil && h.said == "" && len(all) == 1 {
		l.host = all[0]
	}
	if l.host == nil {
		return l, fmt.Errorf("%w; say which one this is: --host NAME", unknownHost(h.name, l.pol.Fleet.Names()))
	}
	h.name, l.from.Host = l.host.Name, l.host.Name
	if l.host.Dialect == fleet.NoFilter {
		return l, &dialect.NoFilter{Host: h.name}
	}
	return l, nil
}

// rules are the rules of a kind, "" for those of the policy, proven to do what the policy means.
func (l local) rules(ctx context.Context, kind string) (files []api.File, err error) {
	pol := l.pol
	if kind == "ground" {
		pol = pol.WaysIn()
	}
	if tangled := packet.Try(func() {
		sp := packet.Budget{Edges: limits.JudgeCases, Halt: ctx.Err}.Space()
		plan := compile.ForHost(sp, pol, l.host, time.Now().Unix())
		if kind == "pause" {
			plan = plan.Paused(sp)
		}
		form := forms.Of(l.host)
		if files, err = form.Write(sp, plan); err == nil {
			err = dialect.Prove(form, sp, plan, files)
		}
	}); tangled != nil {
		err = fmt.Errorf("the rules of %s: %w", l.host.Name, tangled)
	}
	return files, err
}

// settleByFiles puts the rules of a policy in files in force on this host, or a pause of them.
func (a *app) settleByFiles(cmd *cobra.Command, h *here, l local, f settleFlags) (err error) {
	w := host.Wanted{Change: api.HostChange{Kind: api.ChangeSettle, What: f.what("policy " + l.pol.Name), Why: f.why}, Within: f.within,
		Force: f.force}
	if f.pause {
		w.Passing, w.Change.Kind = true, api.ChangePause
	}
	if w.Files, err = l.rules(cmd.Context(), f.kind()); err != nil {
		return fmt.Errorf("nothing was changed: %w", err)
	}
	h.machine.OwnConsole = l.host.OwnConsole
	if err := h.machine.Ready(); err != nil {
		return fmt.Errorf("nothing was changed: %w", err)
	}
	made, err := h.machine.Make(cmd.Context(), w)
	if err != nil {
		return err
	}
	if f.pause { // what it follows stays
		return a.made(cmd, h, made, f.force)
	}
	l.files.Change = made.Change.ID
	l.from.Settled = []settledFiles{l.files}
	if old, ok := h.keptFiles(); ok {
		l.from.Settled = append(l.from.Settled, old)
	}
	if err := h.machine.WriteFile(followedFile, l.from); err != nil {
		a.say("%s: which files it follows could not be noted: %s", h.name, err)
	}
	return a.made(cmd, h, made, f.force)
}

// driftHere is how what this host has in force differs from what its files mean.
func (a *app) driftHere(ctx context.Context, h *here) (d api.Drift, err error) {
	l, err := a.onThis(h)
	if err != nil {
		return d, err
	}
	f, _, err := inventory.InForce(ctx)
	if err != nil {
		return d, mustBeRoot(err)
	}
	taken := time.Now().UTC()
	stages := []live.Stage{{Policy: l.pol, Host: l.host}}
	change, err := h.machine.Change()
	if err != nil {
		return d, err
	}
	waits := change.Phase == api.InForceYet
	if kept, ok := h.keptFiles(); ok && !waits { // what was written since is not settled yet, and no drift
		if then, ok := kept.stage(h.name); ok {
			stages = append([]live.Stage{then}, stages...)
		}
	}
	res, err := live.Drift(stages, say.NamesOf(l.pol), taken.Unix(), f, time.Time{})
	if err != nil {
		return d, err
	}
	one := api.HostDrift{Host: h.name, State: api.State(res.State()), TakenAt: &taken, Findings: res.Findings, Unread: res.Unread}
	switch until := secondText(change.Until); {
	case waits && change.Kind == api.ChangePause:
		one.State, one.Why = api.Paused, fmt.Sprintf("until %s: %s", until, change.Why)
	case waits:
		one.State, one.Why = api.Waiting, fmt.Sprintf("%s is in force, and is undone at %s unless it is kept", change.What, until)
	}
	return api.Drift{Version: api.Version, Hosts: []api.HostDrift{one}}, nil
}

// listenersHere is what listens on this host, held against what its files admit.
func (a *app) listenersHere(ctx context.Context, h *here) (out api.Listening, err error) {
	l, err := a.onThis(h)
	if err != nil {
		return out, err
	}
	seen, taken := inventory.Facts(ctx, cmp.Or(h.machine.Root, "/")), time.Now().UTC()
	one := api.HostListening{Host: h.name, TakenAt: &taken, Untold: seen.Untold["listeners"], Notes: []listeners.Note{}}
	if one.Untold == "" {
		err = within(limits.JudgeCases, "comparing the listeners", func(b packet.Budget) error {
			sp := b.Space()
			one.Notes = listeners.Compare(sp, compile.ForHost(sp, l.pol, l.host, taken.Unix()), l.pol.Services,
				listeners.Seen{Listeners: seen.Listeners, Runs: seen.Runs})
			return nil
		})
	}
	return api.Listening{Version: api.Version, Hosts: []api.HostListening{one}}, err
}

// keptFiles are the files of the change that is kept here; ok is false where none is, or where
// files had nothing to do with it.
func (h *here) keptFiles() (files settledFiles, ok bool) {
	kept, err := h.machine.Kept()
	var last followed
	if err != nil || kept == nil || h.machine.ReadFile(followedFile, &last) != nil {
		return files, false
	}
	i := slices.IndexFunc(last.Settled, func(s settledFiles) bool { return s.Change == kept.Change.ID })
	if i < 0 {
		return files, false
	}
	return last.Settled[i], true
}

// stage is what files mean for this host; ok is false where they no longer mean anything.
func (s settledFiles) stage(name string) (out live.Stage, ok bool) {
	fl, problems := fleet.Read(s.Fleet.Name, []byte(s.Fleet.Text))
	if source.HasErrors(problems) || fl.Host(name) == nil {
		return out, false
	}
	in, problems := policy.Read(s.Policy, fl)
	if source.HasErrors(problems) {
		return out, false
	}
	pol, problems := policy.Resolve(in)
	return live.Stage{Policy: pol, Host: pol.Fleet.Host(name)}, !source.HasErrors(problems)
}

// mustBeRoot says that a command that changes or reads this host's rules needs to be root.
func mustBeRoot(err error) error {
	if err != nil && os.Geteuid() != 0 && errors.Is(err, os.ErrPermission) {
		return fmt.Errorf("%w: run it as root", err)
	}
	return err
}

// onThis reads files and finds this host, for a command with --here.
func (a *app) onThis(h *here) (l local, err error) {
	if err := h.find(); err != nil {
		return l, mustBeRoot(err)
	}
	files, err := a.byFiles(h)
	switch {
	case err != nil:
		return l, err
	case !files && h.svc != nil:
		return l, errors.New("this host has its rules from a service: ask that, without --here")
	case !files:
		return l, errors.New("no policy is named: give its folder with --policy DIR, or settle by one first (yfence settle --policy DIR)")
	}
	return a.local(h)
}

// worksHere says that a command finds its policy by itself, since it is about the host that it runs on.
func worksHere(cmd *cobra.Command) bool {
	on := cmd.Flags().Lookup("here")
	return slices.Contains([]string{"settle", "live"}, cmd.Name()) || on != nil && on.Changed
}
