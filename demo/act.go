package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/internal/live"
)

func (d *demo) publish(ctx context.Context) error {
	name := filepath.Join(d.policy, "fleet.json")
	data, err := os.ReadFile(name)
	if err != nil {
		return err
	}
	if _, err := d.svc.Import(ctx, api.ImportRequest{File: "fleet.json", Text: string(data), Why: "the harbour as it stands"}); err != nil {
		return err
	}
	return d.operate(ctx, 0, "publish", "--policy", d.policy, "-m", "first policy of the harbour", "--yes")
}

// operate runs the program as an operator would, who sees what it prints, and expects
// an exit code.
func (d *demo) operate(ctx context.Context, code int, args ...string) error {
	return d.operateAs(ctx, "token", code, args...)
}

// operateAs is operate by whoever has the token in a file of the demo's folder.
func (d *demo) operateAs(ctx context.Context, token string, code int, args ...string) error {
	cmd := exec.CommandContext(ctx, d.program, args...)
	cmd.Env = append(os.Environ(), "YFENCE_SERVER="+d.url, "YFENCE_TOKEN=")
	cmd.Args = append(cmd.Args, "--token-file", filepath.Join(d.dir, token))
	cmd.Stdout, cmd.Stderr = os.Stdout, os.Stderr
	var exit *exec.ExitError
	if err := cmd.Run(); err != nil && !errors.As(err, &exit) {
		return err
	}
	if got := cmd.ProcessState.ExitCode(); got != code {
		return fmt.Errorf("yfence %s ended with %d, not with %d", args[0], got, code)
	}
	return nil
}

// each does something on all hosts, two at a time.
func (d *demo) each(f func(name string) error) error {
	var mu sync.Mutex
	var wg sync.WaitGroup
	var all error
	slots := make(chan struct{}, 2)
	for _, h := range d.fleet.Hosts {
		if inCloud(h) {
			continue
		}
		wg.Add(1)
		go func() {
			defer wg.Done()
			slots <- struct{}{}
			err := f(h.Name)
			<-slots
			if err != nil {
				mu.Lock()
				all = errors.Join(all, fmt.Errorf("%s: %w", h.Name, err))
				mu.Unlock()
			}
		}()
	}
	wg.Wait()
	return all
}

// yfence runs the program on a host, as its operator would.
func (d *demo) yfence(name string, args ...string) ([]byte, error) {
	program, err := filepath.Abs(d.program)
	if err != nil {
		return nil, err
	}
	return d.hosts[name].Run(nil, program, append(args, "--state", d.stateOf(name))...)
}

// stateOf is the folder of what a host keeps.
func (d *demo) stateOf(name string) string { return filepath.Join(d.dir, "host-"+name) }

// enrol gives every host a token of its own, and has it attend.
func (d *demo) enrol(ctx context.Context) error {
	fmt.Println("Enrolling the hosts; yfence attend runs on each ...")
	program, err := filepath.Abs(d.program)
	if err != nil {
		return err
	}
	ca, err := filepath.Abs(filepath.Join(d.dir, "ca.pem"))
	if err != nil {
		return err
	}
	server := fmt.Sprintf("https://%s:%d", d.fleet.Service.Addresses[0], d.fleet.Service.Port)
	for _, h := range d.fleet.Hosts {
		if inCloud(h) {
			continue
		}
		if err := os.RemoveAll(d.stateOf(h.Name)); err != nil { // of a demo before
			return err
		}
		once, err := d.svc.NewEnrolment(ctx, h.Name)
		if err != nil {
			return err
		}
		file := filepath.Join(d.dir, "once-"+h.Name)
		if err := os.WriteFile(file, []byte(once.Token+"\n"), 0o600); err != nil {
			return err
		}
		log, err := os.Create(filepath.Join(d.dir, "attend-"+h.Name+".log"))
		if err != nil {
			return err
		}
		cmd := exec.Command(program, "attend", "--seen", "--enrol", file, "--server", server, "--ca-file", ca, "--state", d.stateOf(h.Name),
			"--every", "1m", "--look", "2s")
		cmd.Stderr = log
		ended, err := d.hosts[h.Name].Start(cmd)
		if err != nil {
			return err
		}
		_ = log.Close()
		d.attend = append(d.attend, process{cmd, ended})
	}
	return d.until(ctx, "all hosts attend", func(h api.HostStatus) bool { return h.Attends != nil && h.HeardAt != nil })
}

// until waits until something holds of all hosts.
func (d *demo) until(ctx context.Context, what string, holds func(api.HostStatus) bool) error {
	for deadline := time.Now().Add(40 * time.Second); ; time.Sleep(100 * time.Millisecond) {
		fl, err := d.svc.Fleet(ctx)
		if err != nil {
			return err
		}
		late := slices.IndexFunc(fl.Hosts, func(h api.HostStatus) bool { return h.Dialect != fleet.NoFilter && !holds(h) })
		if late < 0 {
			return nil
		}
		if time.Now().After(deadline) {
			return fmt.Errorf("%s: %s does not (%s); see %s", what, fl.Hosts[late].Name, fl.Hosts[late].State,
				filepath.Join(d.dir, "attend-"+fl.Hosts[late].Name+".log"))
		}
	}
}

// wave puts what is published in force on all hosts. No other host may log in to the
// jump host, so that somebody keeps it at its console.
func (d *demo) wave(ctx context.Context, args ...string) error {
	ctx, cancel := context.WithCancel(ctx)
	kept := make(chan struct{})
	go func() {
		defer close(kept)
		for ctx.Err() == nil {
			if _, err := d.yfence("jump-01", "keep", "--at-console"); err == nil {
				return
			}
			time.Sleep(200 * time.Millisecond)
		}
	}()
	err := d.operate(ctx, 0, append([]string{"waves", "start"}, args...)...)
	cancel()
	<-kept
	return err
}

// playDumps sends recorded reports in the hosts' stead.
func (d *demo) playDumps(ctx context.Context) error {
	for _, m := range mishaps {
		fmt.Printf("  %-15s %s\n", m.host, m.what)
	}
	if err := d.operate(ctx, 0, "waves", "start", "charts-cloud-01"); err != nil { // the cloud is there all the same
		return err
	}
	if err := d.cloudMishapsHappen(ctx); err != nil {
		return err
	}
	return d.each(func(name string) error {
		recorded, err := os.ReadFile(filepath.Join(d.recorded, name+".json"))
		if err != nil {
			return err
		}
		if _, err := d.svc.Settle(ctx, name); err != nil {
			return err
		}
		_, err = d.svc.Report(ctx, api.Report{Version: api.Version, Host: name, TakenAt: time.Now().UTC(),
			InForce: live.Sniff(name, recorded)})
		return err
	})
}

// show prints what the service found, and waits.
func (d *demo) show(ctx context.Context, start time.Time) error {
	fmt.Printf("\n$ yfence drift\n")
	drift := exec.CommandContext(ctx, d.program, "drift", "--server", d.url, "--token-file", filepath.Join(d.dir, "token"))
	drift.Stdout, drift.Stderr = os.Stdout, os.Stderr
	var exit *exec.ExitError
	if err := drift.Run(); err != nil && (!errors.As(err, &exit) || exit.ExitCode() != 1) {
		return err
	}
	if d.hosts != nil {
		if err := d.showTraffic(ctx); err != nil {
			return err
		}
		if err := d.showRecord(ctx); err != nil {
			return err
		}
	}
	token, err := os.ReadFile(filepath.Join(d.dir, "token"))
	if err != nil {
		return err
	}
	fmt.Printf("\nUp after %.1f s. The console is at\n\n    %s\n\nSign in with the token\n\n    %s\n", time.Since(start).Seconds(), d.url,
		strings.TrimSpace(string(token)))
	if d.hosts != nil {
		fmt.Printf("\nTry a mishap of your own; the host reports it by itself, and the console shows it:\n\n    ip netns exec "+
			"%scharts-01 nft add rule inet yellowfence inbound tcp dport 8096 accept\n\nAnd put it right again:\n\n    export "+
			"YFENCE_SERVER=%s YFENCE_TOKEN=$(cat %s)\n    %s waves start charts-01\n",
			d.prefix, d.url, filepath.Join(d.dir, "token"), d.program)
	}
	if d.once {
		return nil
	}
	fmt.Println("\nCtrl-C ends the demo and takes everything down.")
	<-ctx.Done()
	fmt.Println()
	return nil
}
