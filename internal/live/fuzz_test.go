package live_test

import (
	"path/filepath"
	"testing"
	"time"

	"github.com/rogpeppe/go-internal/txtar"
	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/policy/policytest"
	"yellowfence.example/yfence/core/say"
	"yellowfence.example/yfence/internal/live"
)

// FuzzDrift: whatever a file holds that is said to be a host's listing or report, it is
// compared with the policy in the time there is, or refused with a reason.
func FuzzDrift(f *testing.F) {
	pol := policytest.Resolve(f, policytest.Fleet, "policy p language 1\nrole red\nrole blue\nrole green\nnetwork vpn = 198.51.100.0/25\n"+
		"allow ops: vpn -> fleet : ssh  guard\nallow use: blue -> red : tcp 443\n")
	found, err := filepath.Glob("testdata/found/*.txtar")
	require.NoError(f, err)
	require.NotEmpty(f, found)
	for _, name := range found {
		archive, err := txtar.ParseFile(name)
		require.NoError(f, err)
		for _, file := range archive.Files {
			if len(file.Data) < 20_000 {
				f.Add(file.Data)
			}
		}
	}
	f.Add([]byte(`{"host": "r1", "dumps": [{"kind": "nft-json", "text": "{\"nftables\": []}"}, {"kind": "ipset-save", "text": "create x ` +
		`hash:ip\n"}, {"kind": "routes", "text": "default via 192.0.2.1 dev eth0\n"}], "names": {"users": {"0": "root"}}}`))
	f.Add([]byte("\xff\xfe{\x00}\x00"))
	f.Fuzz(func(t *testing.T, data []byte) {
		said, begun := live.Sniff("f", data), time.Now()
		res, err := live.Drift([]live.Stage{{Policy: pol, Host: pol.Fleet.Hosts[0]}}, say.NamesOf(pol), 1795564800, said,
			begun.Add(time.Second))
		if err == nil {
			require.NotNil(t, res)
		}
		require.Less(t, time.Since(begun), 40*time.Second)
	})
}
