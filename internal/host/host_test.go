package host_test

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/internal/host"
	"yellowfence.example/yfence/internal/testbed"
)

// fake puts a program named nft first in the path.
func fake(t *testing.T, script string) {
	dir := t.TempDir()
	if script != "" {
		require.NoError(t, os.WriteFile(filepath.Join(dir, "nft"), []byte("#!/bin/sh\n"+script), 0o755))
	}
	t.Setenv("PATH", dir)
}

// TestAToolThatFailsIsNoHostWithoutRules: missing, failing and empty are told apart.
func TestAToolThatFailsIsNoHostWithoutRules(t *testing.T) {
	for _, c := range []struct{ what, script, want string }{
		{"missing", "", "nft is not installed on this host (Debian's package nftables)"},
		{"failing", "echo 'Operation not permitted' >&2; exit 1", "nft -j list ruleset failed: exit status 1: Operation not permitted"},
	} {
		t.Run(c.what, func(t *testing.T) {
			fake(t, c.script)
			_, err := host.Report(context.Background(), "charts-01")
			require.EqualError(t, err, c.want)
		})
	}
	fake(t, `[ "$1" = --version ] && echo "nftables v1.0.6" || echo '{"nftables": []}'`)
	r, err := host.Report(context.Background(), "charts-01")
	require.NoError(t, err)
	require.Equal(t, "{\"nftables\": []}\n", r.Dumps[0].Text)
	require.Equal(t, []any{"charts-01", 1, "nftables v1.0.6"}, []any{r.Host, r.Version, r.Tools["nft"]})
	require.NotEmpty(t, r.Tools["kernel"])
}

func TestRulesAreCheckedBeforeTheyAreLoaded(t *testing.T) {
	log := filepath.Join(t.TempDir(), "calls")
	fake(t, `echo "$*" >>`+log+`; [ "$1" = -c ] && { echo "syntax error" >&2; exit 1; }; exit 0`)
	_, err := host.Settle(context.Background(), "nonsense")
	require.EqualError(t, err, "nft -c -f - failed: exit status 1: syntax error")
	calls, err := os.ReadFile(log)
	require.NoError(t, err)
	require.Equal(t, "-c -f -\n", string(calls), "nothing was loaded")
}

// TestSettleInAKernel loads real rules: all of them, or none.
func TestSettleInAKernel(t *testing.T) {
	if err := testbed.Available(); err != nil {
		if os.Getenv("CI") != "" {
			t.Fatal("the kernel must be there in CI: ", err)
		}
		t.Skip("NOT TRIED ON A KERNEL: ", err)
	}
	ns, err := testbed.NewNamespace(fmt.Sprintf("yf-settle-%d", os.Getpid()))
	require.NoError(t, err)
	defer func() { require.NoError(t, ns.Close()) }()
	// The tools run as children of a thread that is in the namespace.
	in := func(f func() error) error { return ns.Do(f) }
	const rules = "table inet yellowfence\ndelete table inet yellowfence\ntable inet yellowfence {\n\tchain inbound {\n\t\ttype filter hook input priority filter; policy drop;\n\t\ttcp dport 22 accept\n\t}\n}\n"
	require.NoError(t, in(func() error { _, err := host.Settle(context.Background(), rules); return err }))
	before, err := ns.ListJSON()
	require.NoError(t, err)
	require.Contains(t, string(before), `"policy": "drop"`)

	broken := rules + "table inet other {\n\tchain c {\n\t\ttcp dport 70000 accept\n\t}\n}\n"
	require.Error(t, in(func() error { _, err := host.Settle(context.Background(), broken); return err }))
	after, err := ns.ListJSON()
	require.NoError(t, err)
	require.Equal(t, string(before), string(after), "nothing half-done")

	require.NoError(t, in(func() error {
		r, err := host.Report(context.Background(), "charts-01")
		if err == nil {
			require.JSONEq(t, string(before), r.Dumps[0].Text)
		}
		return err
	}))
	_, err = exec.LookPath("nft")
	require.NoError(t, err)
}
