package main

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"regexp"

	"yellowfence.example/yfence/api"
)

// waysIn are the statements that keep a way in, and the expectation about it.
var waysIn = regexp.MustCompile(`(?m)^(allow (way-in|hop):|expect crew-can-work:).*\n`)

// lockOut publishes a policy that lets nobody log in anywhere. It is refused; forced
// through, it goes back by itself on every host. Then the first policy is published again.
func (d *demo) lockOut(ctx context.Context) error {
	dir := filepath.Join(d.dir, "locked")
	if err := os.RemoveAll(dir); err != nil {
		return err
	}
	if err := os.CopyFS(dir, os.DirFS(d.policy)); err != nil {
		return err
	}
	file := filepath.Join(dir, "rules.fence")
	text, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	if err := os.WriteFile(file, waysIn.ReplaceAll(text, nil), 0o600); err != nil {
		return err
	}
	fmt.Println("Somebody tidies the policy, and takes the two lines out that let anybody log in:\n\n$ yfence publish -m 'fewer rules'")
	publish := []string{"publish", "--policy", dir, "-m", "fewer rules", "--yes"}
	if err := d.operate(ctx, 2, publish...); err != nil {
		return err
	}
	fmt.Println("\nForced through, it is in force for ten seconds on every host:\n\n$ yfence publish -m 'fewer rules' --accept no-guard; " +
		"yfence waves start --steps 100% --within 10s")
	if err := d.operate(ctx, 0, append(publish, "--accept", "no-guard")...); err != nil {
		return err
	}
	if err := d.operate(ctx, 1, "waves", "start", "--steps", "100%", "--within", "10s"); err != nil {
		return err
	}
	if err := d.until(ctx, "all hosts went back", func(h api.HostStatus) bool { return h.State == api.WentBackState }); err != nil {
		return err
	}
	fmt.Println("\n$ yfence waves show 2")
	if err := d.operate(ctx, 0, "waves", "show", "2"); err != nil {
		return err
	}
	fmt.Println()
	if err := d.behind(ctx); err != nil {
		return err
	}
	if err := d.twoPeople(ctx); err != nil {
		return err
	}
	if err := d.wave(ctx, "--steps", "100%"); err != nil {
		return err
	}
	fmt.Println()
	return nil
}
