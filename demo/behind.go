package main

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
)

// behind publishes a narrower revision that nobody settles, has the program tell of it, and
// settles it in a wave that shows by real connections what it changed.
func (d *demo) behind(ctx context.Context) error {
	dir := filepath.Join(d.dir, "narrower")
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
	const was, is = "allow chart-web:        everywhere -> charts", "allow chart-web:        office, watch -> charts"
	narrower := strings.Replace(string(text), was, is, 1)
	if narrower == string(text) {
		return fmt.Errorf("%s has no line that begins with %q", file, was)
	}
	if err := os.WriteFile(file, []byte(narrower), 0o600); err != nil {
		return err
	}
	for _, step := range []struct {
		says string
		code int
		args []string
	}{
		{"The chart site is for the office alone while its pages are mended, and nobody settles that:\n\n$ yfence publish -m 'the site " +
			"is being mended'; yfence revisions", 0, []string{"publish", "--policy", dir, "-m", "the site is being mended", "--yes"}},
		{"", 0, []string{"revisions"}},
		{"\n$ yfence drift charts-01", 1, []string{"drift", "charts-01"}},
		{"\n$ yfence ask 'crew-vpn -> charts : https'", 1, []string{"ask", "crew-vpn -> charts : https"}},
		{"\n$ yfence waves start charts          # its probes show what it changed", 0,
			[]string{"waves", "start", "charts", "--steps", "100%"}},
		{"\n$ yfence revisions", 0, []string{"revisions"}},
	} {
		if step.says != "" {
			fmt.Println(step.says)
		}
		if err := d.operate(ctx, step.code, step.args...); err != nil {
			return err
		}
	}
	fmt.Println()
	return nil
}
