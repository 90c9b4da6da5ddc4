package host_test

import (
	"context"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/internal/host"
)

// TestWhatIsLoadedAtTheStart is found out by loading it where it harms nobody: the
// distribution's file, as its own tool understands it, and what was kept.
func TestWhatIsLoadedAtTheStart(t *testing.T) {
	m := newMachine(t)
	m.Root = t.TempDir()
	write := func(name, text string) {
		name = filepath.Join(m.Root, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(name), 0o755))
		require.NoError(t, os.WriteFile(name, []byte(text), 0o600))
	}
	boot := func() (b *api.Boot) {
		require.NoError(t, m.ns.Do(func() error {
			r, err := m.Report(context.Background(), "charts-01")
			if err == nil {
				b = r.Around.Boot
			}
			return err
		}))
		return b
	}
	require.Contains(t, boot().Unknown, "systemd does not run here")
	write("run/systemd/system/x", "")
	require.Equal(t, &api.Boot{}, boot(), "nothing is loaded by anybody")

	const conf = "flush ruleset\ndefine web = { 80, 443 }\ntable inet filter {\n\tchain input {\n\t\ttype filter hook input priority 5; " +
		"policy accept;\n\t\tiif \"eth9\" tcp dport $web accept\n\t\ttcp dport 23 drop\n\t}\n}\n"
	write("etc/nftables.conf", conf)
	write("etc/systemd/system/sysinit.target.wants/nftables.service", "")
	write("etc/systemd/system/sysinit.target.wants/yfence-boot.service", "")
	require.NoError(t, m.ns.Bridge("eth9"))
	require.NoError(t, m.ns.Load(conf))
	m.OwnConsole = true
	w := wanted(openTo(9000), time.Minute)
	_, err := m.make(w)
	require.NoError(t, err)
	_, err = m.Keep(nil, true)
	require.NoError(t, err)
	b := boot()
	require.True(t, b.Same && b.Ours, "%+v", b)
	require.Equal(t, "revision 7", b.Kept.What)
	require.Equal(t, "/etc/nftables.conf", b.Loads[0].File)

	require.NoError(t, m.ns.Load("add rule inet filter input tcp dport 7000 drop\nadd rule inet yellowfence inbound tcp dport 7001 "+
		"accept\n"))
	b = boot()
	require.False(t, b.Same)
	text := b.InForce.Dumps[1].Text
	require.Contains(t, text, `iif "eth9" tcp dport { 80, 443 } accept`)
	require.Contains(t, text, "9000")
	require.NotContains(t, text, "7000")
	require.NotContains(t, text, "7001")

	write("etc/nftables.d/more.nft", "add rule inet filter input tcp dport 7002 drop\n")
	write("etc/nftables.conf", conf+"include \""+m.Root+"/etc/nftables.d/*.nft\"\n")
	require.Contains(t, boot().InForce.Dumps[1].Text, "7002")
	write("etc/nftables.d/more.nft", "add rule inet filter input tcp dport 7003 drop\n")
	require.Contains(t, boot().InForce.Dumps[1].Text, "7003", "what a file asks for changed")
	require.NoError(t, m.ns.Do(func() error {
		outside, err := os.Readlink("/proc/thread-self/ns/net")
		require.NoError(t, err)
		for _, told := range []string{"", outside} {
			err := host.Rehearse(context.Background(), strings.NewReader(`{"outside": "`+told+`", "kept": true, "dir": "`+m.Dir+`"}`),
				io.Discard)
			require.ErrorContains(t, err, "here it would change the rules that are in force")
		}
		return nil
	}))
	write("etc/nftables.conf", "table inet filter {")
	require.Contains(t, boot().Unknown, "what nftables.service loads cannot be loaded: nft -f ")
}
