package ask_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/ask"
	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy/policytest"
)

// TestMatrix: what a cell says is what a question about its ends is answered, for services that are named and others.
func TestMatrix(t *testing.T) {
	pol := policytest.Saltmarsh(t, "../..")
	m, err := ask.MatrixOf(packet.Budget{}, pol, now)
	require.NoError(t, err)
	require.Zero(t, m.More)
	cells := map[[2]string]ask.ReachCell{}
	for _, c := range m.Cells {
		cells[[2]string{c.From, c.To}] = c
	}
	hill := cells[[2]string{"hill-lan", "logbook"}]
	require.Empty(t, append(hill.All, hill.Some...), "nobody on the hill comes to the logbook: pilotage does, and is a role")
	pilots := cells[[2]string{"pilotage", "logbook"}]
	require.Contains(t, strings.Join(append(pilots.All, pilots.Some...), ", "), "tcp 5432")
	require.Contains(t, fmt.Sprint(pilots.By), "allow logbook-db")

	k := ask.NewAsker(pol)
	services := []string{"tcp 22", "tcp 443", "tcp 5432", "udp 53", "tcp 8096", "tcp 8883", "udp 4500", "tcp 9100"}
	asked, passed := 0, 0
	for _, from := range m.Ends {
		for _, to := range m.Ends {
			if from.Kind != "role" || to.Kind != "role" || from.Name == to.Name && from.Hosts == 1 {
				continue // a question about a network is about its hosts too, and one about a host alone about itself
			}
			for _, service := range services {
				q, problems := fence.ParseQuestion(from.Name + " -> " + to.Name + " : " + service)
				require.Empty(t, problems)
				answer, problems := k.Policy(q, now)
				require.Empty(t, problems)
				want := map[string]string{"admitted": "all", "mixed": "some"}[answer.Verdict]
				cell := cells[[2]string{from.Name, to.Name}]
				require.Equal(t, want, fares(cell, service), "%s -> %s : %s\n%+v", from.Name, to.Name, service, cell)
				asked++
				if want != "" {
					passed++
				}
			}
		}
	}
	require.Greater(t, passed, 5, "of %d", asked)
	require.Greater(t, asked-passed, 5)
}

// fares says how a service fares by a cell: between all, between some, or "".
func fares(c ask.ReachCell, service string) string {
	for _, list := range []struct {
		of   []string
		says string
	}{{c.Some, "some"}, {c.All, "all"}} {
		for _, said := range list.of {
			if said == "everything" || covers(said, service) {
				return list.says
			}
		}
	}
	return ""
}

// covers says that a service as a sentence writes it has one port among its own.
func covers(said, service string) bool {
	protocol, number, _ := strings.Cut(service, " ")
	has, ports, some := strings.Cut(said, " ")
	if has != protocol {
		return false
	}
	return !some || slices.ContainsFunc(strings.Split(ports, ", "), func(p string) bool {
		var lo, hi, n int
		_, _ = fmt.Sscan(number, &n)
		if _, err := fmt.Sscanf(p, "%d-%d", &lo, &hi); err != nil {
			_, _ = fmt.Sscan(p, &lo)
			hi = lo
		}
		return lo <= n && n <= hi
	})
}

// TestMatrixWithin: a budget that does not suffice ends it.
func TestMatrixWithin(t *testing.T) {
	pol := policytest.Saltmarsh(t, "../..")
	_, err := ask.MatrixOf(packet.Budget{Edges: 100}, pol, now)
	require.Error(t, err)
}
