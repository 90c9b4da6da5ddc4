package client_test

import (
	"flag"
	"os"
	"os/exec"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

var update = flag.Bool("update", false, "write golden files anew")

// TestSurface keeps what the package exports: whoever changes it sees it here, and changes Version with it.
func TestSurface(t *testing.T) {
	out, err := exec.Command("go", "doc", "-short", "-all", ".").Output()
	require.NoError(t, err)
	var lines []string
	exported := regexp.MustCompile(`^(func|type|const|var) `)
	for line := range strings.Lines(string(out)) {
		if exported.MatchString(line) {
			lines = append(lines, strings.TrimSpace(strings.TrimSuffix(strings.TrimSpace(line), "{")))
		}
	}
	got := strings.Join(lines, "\n") + "\n"
	const golden = "testdata/surface.txt"
	if *update {
		require.NoError(t, os.MkdirAll("testdata", 0o755))
		require.NoError(t, os.WriteFile(golden, []byte(got), 0o644))
	}
	want, err := os.ReadFile(golden)
	require.NoError(t, err)
	require.Equal(t, string(want), got, "the package's surface changed: raise client.Version, and run the test with -update")
}
