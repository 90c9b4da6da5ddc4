package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/internal/testbed"
)

// TestDemo runs the demo as `make demo` does, on real kernels and with recorded
// dumps, and looks at what it shows and at what it leaves behind.
func TestDemo(t *testing.T) {
	ci := os.Getenv("CI") != ""
	if _, err := exec.LookPath("mariadbd"); err != nil {
		if ci {
			t.Fatal("MariaDB must be there in CI: ", err)
		}
		t.Skip("THE DEMO IS NOT TESTED: ", err)
	}
	dir, prefix := t.TempDir(), fmt.Sprintf("yft%d-", os.Getpid())
	for name, pkg := range map[string]string{"yfence": "../cmd/yfence", "yfence-sim": "../cmd/yfence-sim", "demo": "."} {
		out, err := exec.Command("go", "build", "-o", filepath.Join(dir, name), pkg).CombinedOutput()
		require.NoError(t, err, "%s", out)
	}
	for _, kind := range []string{"live", "recorded"} {
		t.Run(kind, func(t *testing.T) {
			args := []string{"-once", "-program", filepath.Join(dir, "yfence"), "-sim", filepath.Join(dir, "yfence-sim"), "-dir",
				filepath.Join(dir, "data"), "-policy", "saltmarsh", "-recorded", "recorded", "-prefix", prefix}
			if kind == "recorded" {
				args = append(args, "-play")
			} else if err := testbed.Available(); err != nil {
				if ci {
					t.Fatal("namespaces must be permitted in CI: ", err)
				}
				t.Skip("THE DEMO IS NOT PLAYED ON REAL KERNELS: ", err)
			}
			cmd := exec.Command(filepath.Join(dir, "demo"), args...)
			output, err := cmd.CombinedOutput()
			require.NoError(t, err, "%s", output)
			shown := string(output)
			wanted := []string{
				`(?m)^broker-02 +drifted\n    shut      Chain inbound has no rules left while its policy is drop`,
				`(?m)^logbook-01 +drifted\n    opened    tcp 5432 from hill-lan \(IPv4\) gets in; nothing in the policy admits it\.`,
				`(?m)^charts-02 +drifted\n    opened    tcp 22 from 192\.0\.2\.64/28 gets in; nothing in the policy admits it\.`,
				`(?m)^watch-01 +in step\n    cosmetic  The rules are written differently`,
				`(?m)^charts-cloud-01  drifted\n    opened    tcp 22 from everywhere \(IPv4\) gets in; nothing in the policy admits it\.`,
				`(?m)^    no group  The instance dunlin-a41d is in no group: nothing filters for it\.`,
				`15 hosts: 4 drifted, 11 in step`,
				`The console is at\n\n    http://127\.0\.0\.1:\d+\n`,
			}
			if kind == "live" {
				wanted = append(wanted, `it refuses connections that are in use: of those that \d+ hosts saw since`,
					`(?s)--at 20.*dropped: tcp 5432 from 10\.60\.0\.7.*--at 1s\n.*admitted: tcp 5432`,
					`strangers -> beacon : many ports of tcp`, `watch -> depot : tcp 9443`,
					`(?s)strangers -> charts : https  .*until now admitted by allow chart-web`,
					`(?s)nothing met these\n.*allow vault  \(rules\.fence:\d+:\d+\)\n      on its one host`)
			}
			for _, want := range wanted {
				require.Regexp(t, regexp.MustCompile(want), shown)
			}
			left, err := filepath.Glob("/run/netns/" + prefix + "*")
			require.NoError(t, err)
			require.Empty(t, left, "namespaces are left behind")
			require.Error(t, exec.Command("pgrep", "-f", filepath.Join(dir, "data")).Run(), "a process is left behind")
		})
	}
}

// TestSaltmarshIsSound: the demo's policy has no problem and is tidy.
func TestSaltmarshIsSound(t *testing.T) {
	for _, args := range [][]string{{"check", "--strict", "--policy", "saltmarsh", "--fleet", "saltmarsh/fleet.json"},
		{"tidy", "--list", "saltmarsh"}} {
		out, err := exec.Command("go", append([]string{"run", "../cmd/yfence"}, args...)...).CombinedOutput()
		require.NoError(t, err, "%s", out)
	}
}
