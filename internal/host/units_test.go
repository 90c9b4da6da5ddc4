package host_test

import (
	"flag"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/internal/host"
	"yellowfence.example/yfence/internal/host/inventory"
)

var update = flag.Bool("update", false, "write the golden files anew")

// TestUnits are as they are kept in testdata, and systemd finds nothing wrong with them.
func TestUnits(t *testing.T) {
	dir := t.TempDir()
	for name, text := range inventory.Units("/bin/true", host.StateDir) {
		golden := filepath.Join("testdata", name)
		if *update {
			require.NoError(t, os.MkdirAll("testdata", 0o755))
			require.NoError(t, os.WriteFile(golden, []byte(text), 0o644))
		}
		want, err := os.ReadFile(golden)
		require.NoError(t, err)
		require.Equal(t, string(want), text)
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
		if _, err := exec.LookPath("systemd-analyze"); err == nil {
			// it complains of units that it does not find, too
			out, _ := exec.Command("systemd-analyze", "verify", filepath.Join(dir, name)).CombinedOutput()
			require.NotRegexp(t, `Unknown|Invalid|Failed to parse|ignoring`, string(out))
		}
	}
	require.Contains(t, inventory.Units("/bin/true", "/srv/yfence")[inventory.AttendUnit], "ReadWritePaths=/srv/yfence\n")
}
