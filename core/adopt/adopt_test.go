package adopt_test

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/adopt"
	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/dialect"
	"yellowfence.example/yfence/core/dialect/forms"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/core/policy/policytest"
)

const now = 1_795_600_000

// settled are hosts that have in force what a policy means for them.
func settled(pol *policy.Policy) (hosts []adopt.Host) {
	for _, h := range pol.Fleet.Hosts {
		if h.Dialect == fleet.NoFilter {
			continue
		}
		hosts = append(hosts, adopt.Host{Name: h.Name, Read: func(sp *packet.Space) (*dialect.Ruleset, error) {
			return forms.Of(h).Rules(sp, compile.Host(sp, pol, h, now)), nil
		}})
	}
	return hosts
}

func TestSaltmarshComesBack(t *testing.T) {
	pol := policytest.Saltmarsh(t, "../..")
	r, err := adopt.Policy(pol.Fleet, "saltmarsh", settled(pol), now)
	require.NoError(t, err)
	t.Log("\n" + r.Text)
}

var _ = rand.New
