package live_test

import (
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/rogpeppe/go-internal/txtar"
	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/adopt"
	"yellowfence.example/yfence/core/compare"
	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/core/say"
	"yellowfence.example/yfence/internal/live"
)

// foundFiles are the dumps of a host that an administrator wrote by hand.
func foundFiles(t testing.TB, host string) api.InForce {
	t.Helper()
	archive, err := txtar.ParseFile(filepath.Join("testdata", "found", host+".txtar"))
	require.NoError(t, err)
	f := api.InForce{Names: &kernel.Names{Users: map[string]int{"backup": 34}, Groups: map[string]int{"backup": 34}}}
	files := archive.Files
	if !slices.ContainsFunc(files, func(f txtar.File) bool { return f.Name == "routes" }) {
		routes, err := os.ReadFile(filepath.Join("testdata", "routes"))
		require.NoError(t, err)
		files = append(files, txtar.File{Name: "routes", Data: routes})
	}
	slices.SortFunc(files, func(a, b txtar.File) int { return strings.Compare(a.Name, b.Name) })
	for _, file := range files {
		f.Dumps = append(f.Dumps, live.Sniff(file.Name, file.Data).Dumps...)
	}
	return f
}

const foundFleet = `{"hosts": [{"name": "host", "roles": ["new"], "dialect": "nft", "interfaces": [
 {"name": "wan0", "addresses": ["203.0.113.1/28", "2001:db8:1::1/64"]},
 {"name": "eth0", "addresses": ["10.40.0.1/16", "fd40::1/48"], "segment": "quay-lan"},
 {"name": "eth1", "addresses": ["10.60.0.1/16"], "segment": "hill-lan"}]}]}`

// TestAdoptFound: rulesets as administrators write them become policies. Held against what the
// hosts have in force they have no finding but those that stand at their ends.
func TestAdoptFound(t *testing.T) {
	for _, host := range []string{"login-first", "drop-last", "mail-server", "nat-gateway", "intercepting-proxy", "guest-host",
		"edge-router", "database", "name-server", "tunnel-end"} {
		t.Run(host, func(t *testing.T) {
			fl, problems := fleet.ReadJSON("fleet.json", []byte(foundFleet))
			require.Empty(t, problems)
			fl.Hosts[0].Name = host
			f := foundFiles(t, host)
			r, err := adopt.Policy(fl, "found", []adopt.Host{{Name: host,
				Read: func(sp *packet.Space) (*kernel.Ruleset, error) { return live.Read(sp, f) }}}, foundAt)
			require.NoError(t, err)
			file := filepath.Join("testdata", "adopted", host+".fence")
			if *update {
				require.NoError(t, os.WriteFile(file, []byte(r.Text), 0o644))
			}
			want, err := os.ReadFile(file)
			require.NoError(t, err)
			require.Equal(t, string(want), r.Text)

			parsed, problems := fence.Parse("adopted.fence", r.Text)
			require.Empty(t, problems)
			pol, problems := policy.Resolve(policy.Input{Files: []*fence.File{parsed}, Fleet: r.Fleet})
			require.Empty(t, problems)
			res, err := live.Drift([]live.Stage{{Policy: pol, Host: r.Fleet.Host(host)}}, say.NamesOf(pol), foundAt, f, time.Time{})
			require.NoError(t, err)
			left := 0
			for _, finding := range res.Findings {
				if finding.Kind == compare.Cosmetic {
					continue
				}
				left++
				require.Contains(t, r.Text, fmt.Sprintf("# %s: %s: %s\n", host, finding.Kind,
					strings.Join(strings.Fields(finding.Sentence), " ")))
			}
			require.Len(t, r.Left, left+len(res.Unread))
		})
	}
}

const foundAt = 1_795_600_000

var update = flag.Bool("update", false, "write the golden files")
