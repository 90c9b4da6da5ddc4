package host_test

import (
	"context"
	"errors"
	"net"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/traffic"
	"yellowfence.example/yfence/internal/host/inventory"
)

// counted is rules that count what comes to a port, by a statement; more is another of its lines.
func counted(more string) string {
	return "table inet yellowfence\ndelete table inet yellowfence\n\ntable inet yellowfence {\n\tchain inbound {\n" +
		"\t\ttype filter hook input priority filter; policy accept;\n" + more +
		"\t\tudp dport 2009 counter accept comment \"allow log\"\n\t}\n}\n"
}

// TestNoCountIsLost: whatever happens to the host agent, to the rules and to the clock, each
// packet is told once.
func TestNoCountIsLost(t *testing.T) {
	m := newMachine(t)
	m.OwnConsole = true
	require.NoError(t, m.ns.IP("link set lo up"))
	record := traffic.NewRecord()
	number := 0
	send := func(packets int) {
		number += packets
		require.NoError(t, m.ns.Do(func() error {
			c, err := net.Dial("udp", "127.0.0.1:2009")
			if err != nil {
				return err
			}
			defer func() { _ = c.Close() }()
			for n := 0; n < packets; { // a datagram that nothing waits for is answered by an error to the next
				if _, err := c.Write([]byte("x")); err == nil {
					n++
				}
			}
			return nil
		}))
	}
	count := func() {
		require.NoError(t, m.ns.Do(func() error {
			_, counts, err := inventory.InForce(context.Background())
			return errors.Join(err, m.Count(counts))
		}))
	}
	at := time.Now().Unix()
	take := func(b traffic.Batch) error {
		record.Take(b, at, func(f traffic.Flow) traffic.Flow { return f })
		return nil
	}
	settle := func(rules string) {
		_, err := m.make(wanted(rules, time.Minute))
		require.NoError(t, err)
		var c api.HostChange
		require.NoError(t, m.ns.Do(func() (err error) { c, err = m.Keep(nil, true); return err }))
		require.Equal(t, api.Kept, c.Phase)
	}
	total := func() (n int) {
		if s := record.Hits["allow log in"]; s != nil {
			for _, day := range s.Days {
				n += int(day[0])
			}
		}
		return n
	}
	away := errors.New("the service is away")
	for _, step := range []struct {
		what string
		do   func()
	}{
		{"rules that are settled are counted from their first packet on", func() { settle(counted("")); send(3) }},
		{"what came since is added", func() { count(); send(4) }},
		{"nothing came", func() {}},
		{"rules that are settled anew begin at nothing, what was before is kept", func() {
			send(5)
			settle(counted("\t\ttcp dport 80 counter accept comment \"allow web\"\n"))
			send(20)
		}},
		{"a change that goes back brings no old counts", func() {
			send(2)
			_, err := m.make(wanted(counted(""), time.Minute))
			require.NoError(t, err)
			send(6)
			count() // what is counted when it goes back belongs to rules that are gone
			require.NoError(t, m.ns.Do(func() error { _, err := m.Back("tried"); return err }))
			m.waitFor(api.WentBack)
			send(1)
		}},
		{"the service is away for a while", func() {
			for range 3 {
				send(2)
				count()
				require.ErrorIs(t, m.TellTraffic(func(traffic.Batch) error { return away }), away)
			}
		}},
		{"the service took it, and its answer is lost", func() {
			send(2)
			count()
			require.ErrorIs(t, m.TellTraffic(func(b traffic.Batch) error { return errors.Join(take(b), away) }), away)
			send(1)
		}},
		{"the host agent is killed after counting, and what is half written is passed over", func() {
			send(3)
			count()
			require.NoError(t, os.WriteFile(filepath.Join(m.Dir, ".new-1234"), []byte("{\"epo"), 0o600))
		}},
		{"the clock is set back by days", func() { at -= 10 * 86400; send(2) }},
		{"and forward", func() { at += 20 * 86400; send(2) }},
		{"the machine starts anew: counters stand lower, in rules of the same name", func() {
			m.Root = filepath.Join(m.Dir, "root") // where the boot has another number
			boot := filepath.Join(m.Root, "proc/sys/kernel/random/boot_id")
			require.NoError(t, os.MkdirAll(filepath.Dir(boot), 0o700))
			require.NoError(t, os.WriteFile(boot, []byte("another"), 0o600))
			require.NoError(t, m.ns.Load(counted("")))
			send(200)
		}},
	} {
		step.do()
		count()
		require.NoError(t, m.TellTraffic(take))
		require.NoError(t, m.TellTraffic(take), "once more")
		require.Equal(t, number, total(), step.what)
	}
	require.NotContains(t, record.Hits, "allow web in", "what is gone, and never decided, is not told")

	// What is lost with the file is at most one interval's, and nothing counts twice.
	require.NoError(t, os.Remove(filepath.Join(m.Dir, "counting.json")))
	send(3)
	count()
	require.NoError(t, m.TellTraffic(take))
	require.Equal(t, number-3, total(), "what came before the first look")
	send(4)
	count()
	require.NoError(t, m.TellTraffic(take))
	require.Equal(t, number-3, total())
}

// TestTrafficOfBothTools: counters of iptables are known by the statement of their rule too.
func TestTrafficOfBothTools(t *testing.T) {
	m := newMachine(t)
	for _, load := range []string{"iptables-nft-restore", "iptables-legacy-restore"} {
		_, err := m.ns.Run([]byte("*filter\n:yf-inbound - [0:0]\n-A INPUT -j yf-inbound\n[7:700] -A yf-inbound -p tcp -m tcp --dport 22 "+
			"-m comment --comment \"allow ops; from user pat\" -j ACCEPT\n"+
			"[9:900] -A yf-inbound -m comment --comment \"allow ops\" -j LOG\n"+
			"[5:500] -A INPUT -m comment --comment \"allow theirs\" -j ACCEPT\nCOMMIT\n"), load, "-c")
		require.NoError(t, err)
		var counts []api.Count
		require.NoError(t, m.ns.Do(func() (err error) { _, counts, err = inventory.InForce(context.Background()); return err }))
		sum := int64(0)
		for _, c := range counts {
			if c.By != "" {
				require.Equal(t, "allow ops", c.By)
				sum += c.Packets
			}
		}
		require.EqualValues(t, map[string]int{"iptables-nft-restore": 7, "iptables-legacy-restore": 14}[load], sum, load)
	}
}
