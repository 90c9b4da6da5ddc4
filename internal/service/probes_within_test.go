package service

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/policy/policytest"
)

// TestExpectationsWithinAreTriedThere: no connection is tried from one of what an expectation is
// within to another, of which it says nothing.
func TestExpectationsWithinAreTriedThere(t *testing.T) {
	hosts := func(role, name string) string {
		return fmt.Sprintf(`{"name": "%s-1", "roles": [%q], "interfaces": [{"name": "e", "addresses": ["10.40.0.%s1/16"]}]}, {"name": `+
			`"%s-2", "roles": [%q], "interfaces": [{"name": "e", "addresses": ["10.40.0.%s2/16"]}]}`,
			role, role, name, role, role, name)
	}
	pol := policytest.Resolve(t, `{"hosts": [`+hosts("prod", "1")+", "+hosts("stage", "2")+`]}`,
		"policy p language 1\nrole prod\nrole stage\nexpect apart: never fleet -> fleet : ssh within prod, stage\n")
	var tried []string
	for _, one := range expected(pol.Expects[0], pol.Fleet.Hosts, func(*fleet.Host) bool { return true }) {
		tried = append(tried, one.from.Name+" -> "+one.to.Name)
	}
	require.Equal(t, []string{"prod-1 -> prod-2", "stage-1 -> stage-2"}, tried)
}
