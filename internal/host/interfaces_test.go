package host_test

import (
	"context"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/internal/host"
	"yellowfence.example/yfence/internal/host/apply"
)

// TestAnInterfaceThatIsNotThere: rules that ask for one are not put in force unless somebody
// insists; what is kept may ask for it on.
func TestAnInterfaceThatIsNotThere(t *testing.T) {
	m := newMachine(t)
	for _, rules := range []string{
		strings.Replace(openTo(443), "\t\ttcp dport", "\t\tiifname { \"eth7\", \"lo\", \"ctr*\" } tcp dport", 1),
		strings.Replace(openTo(443), "\t\ttcp dport", "\t\toifname != \"eth7\" tcp dport", 1),
	} {
		_, err := m.make(wanted(rules, time.Minute))
		var missing *host.NoInterface
		require.ErrorAs(t, err, &missing)
		require.Equal(t, []string{"eth7"}, missing.Names)
		require.NotContains(t, m.normal(), "eth7", "nothing is in force")
	}
	_, err := m.make(wanted(strings.Replace(openTo(443), "\t\ttcp dport",
		"\t\tiifname \"ctr0\" accept comment \"leave containers\"\n\t\ttcp dport", 1), 200*time.Millisecond))
	require.NoError(t, err, "what is left to others may come later")
	m.waitFor("went back")

	m.OwnConsole = true
	insists := wanted(strings.Replace(openTo(443), "\t\ttcp dport", "\t\tiifname \"eth7\" tcp dport", 1), time.Minute)
	insists.Force = true
	_, err = m.make(insists)
	require.NoError(t, err)
	require.NoError(t, m.ns.Do(func() error { _, err := m.Keep(nil, true); return err }))
	_, err = m.make(wanted(strings.Replace(openTo(444), "\t\ttcp dport", "\t\tiifname \"eth7\" tcp dport", 1), 200*time.Millisecond))
	require.NoError(t, err, "it was asked for before")
	m.waitFor("went back")
}

// TestPutBackIsKeptAtTheConsole: a host with a console of its own has it for what is put back too.
func TestPutBackIsKeptAtTheConsole(t *testing.T) {
	m := newMachine(t)
	m.OwnConsole = true
	_, err := m.make(wanted(openTo(443), time.Minute))
	require.NoError(t, err)
	require.NoError(t, m.ns.Do(func() error { _, err := m.Keep(nil, true); return err }))
	m.OwnConsole = false // whoever puts a copy back has no rules that say it
	var now *apply.Copy
	require.NoError(t, m.ns.Do(func() (err error) { now, err = apply.TakeCopy(context.Background()); return err }))
	_, err = m.make(host.Wanted{Change: api.HostChange{Kind: "put back", What: "copy 1"}, Copy: now, Within: time.Minute})
	require.NoError(t, err)
	require.NoError(t, m.ns.Do(func() error { _, err := m.Keep(nil, true); return err }))
}
