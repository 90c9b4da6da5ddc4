package compare

import (
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/dialect/forms"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy/policytest"
	"yellowfence.example/yfence/core/say"
)

// TestPausedRules: what a paused filter admits is told in one sentence for each direction, with
// what ends it: settling is refused during a pause.
func TestPausedRules(t *testing.T) {
	pol := policytest.Saltmarsh(t, "../..")
	names := say.NamesOf(pol)
	for _, h := range pol.Fleet.Hosts {
		sp := packet.NewSpace()
		plan := compile.ForHost(sp, pol, h, 0)
		if len(plan.Chains) == 0 || h.Dialect == "portable" {
			continue // nothing of ours to pause
		}
		res := DriftSince(sp, names, []Stage{{Plan: plan, Revision: 4}}, forms.Of(h).Rules(sp, plan.Paused(sp)))
		require.NotEmpty(t, res.Findings, h.Name)
		for _, f := range res.Findings {
			require.Equal(t, "resuming "+h.Name+" ends that", f.Hint, "%s: %s", h.Name, f.Sentence)
			require.Zero(t, f.Revision, "nobody changed what was settled")
			if f.Kind == Opened {
				require.Regexp(t, "^whatever the policy refuses (gets in|gets out|is forwarded): the filter is paused.$", f.Sentence)
			}
		}
		require.LessOrEqual(t, len(res.Findings), 4, "%s: one for a direction, and what is admitted without a limit", h.Name)
	}
}
