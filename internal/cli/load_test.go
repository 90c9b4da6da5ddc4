package cli_test

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/internal/cli"
	"yellowfence.example/yfence/internal/testbed"
)

// TestWhatIsWrittenIsInForce once it is loaded as its files say, in both families and however
// often; and rules that the kernel does not ask are told of as that.
func TestWhatIsWrittenIsInForce(t *testing.T) {
	testbed.Needed(t, "RULES ARE NOT LOADED INTO A KERNEL")
	const policy, fleet = "../../demo/saltmarsh", "../../demo/saltmarsh/fleet.json"
	run := func(args ...string) (string, int) {
		var out bytes.Buffer
		code := cli.Main(append(args, "--policy", policy, "--fleet", fleet), strings.NewReader(""), &out, &out,
			func(string) string { return "" })
		return out.String(), code
	}
	dir := t.TempDir()
	out, code := run("rules", "charts-02", "--into", dir)
	require.Equal(t, 0, code, out)
	require.Contains(t, out, "charts-02.load")

	ns, err := testbed.NewNamespace("yf-load")
	require.NoError(t, err)
	defer func() { require.NoError(t, ns.Close()) }()
	drift := func() (string, int) {
		var files []string
		for _, tool := range []string{"iptables-save", "ip6tables-save", "ipset save"} {
			words := strings.Fields(tool)
			text, err := ns.Run(nil, words[0], words[1:]...)
			require.NoError(t, err)
			name := filepath.Join(dir, words[0]+".txt")
			require.NoError(t, os.WriteFile(name, text, 0o600))
			files = append(files, "--dump", name)
		}
		return run(append([]string{"drift", "charts-02"}, files...)...)
	}
	for range 2 {
		_, err := ns.Run(nil, "sh", filepath.Join(dir, "charts-02.load"))
		require.NoError(t, err)
		out, code = drift()
		require.Equal(t, 0, code, out)
	}
	text, err := ns.Run(nil, "iptables-save")
	require.NoError(t, err)
	require.Equal(t, 1, strings.Count(string(text), "-A INPUT -j yf-inbound"))
	for _, tool := range []string{"iptables", "ip6tables"} {
		_, err := ns.Run(nil, tool, "-D", "INPUT", "-j", "yf-inbound")
		require.NoError(t, err)
	}
	out, code = drift()
	require.Equal(t, 1, code)
	require.Contains(t, out, "gets in: the chain INPUT no longer asks our rules.")
}
