package host_test

import (
	"net"
	"os"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/api"
)

// TestAWatchdogThatEnds after its change, while it is asked, is one of no change.
func TestAWatchdogThatEnds(t *testing.T) {
	m := newMachine(t)
	_, err := m.make(wanted(openTo(9000), time.Minute))
	require.NoError(t, err)
	_, err = m.Back("somebody said so")
	require.NoError(t, err)
	m.waitFor(api.WentBack)
	_ = os.Remove(m.Path("watchdog.sock"))
	ending, err := net.Listen("unix", m.Path("watchdog.sock"))
	require.NoError(t, err)
	t.Cleanup(func() { _ = ending.Close() })
	go func() {
		for c, err := ending.Accept(); err == nil; c, err = ending.Accept() {
			_ = c.Close()
		}
	}()
	for range 20 { // it may be found out in writing or in reading
		_, err = m.Keep(nil, true)
		require.EqualError(t, err, "no change waits for its keep")
	}
}

// TestAWatchdogKilledWhileAsked: whoever sees to a change finds another to watch it, however its
// watchdog came to its end.
func TestAWatchdogKilledWhileAsked(t *testing.T) {
	m := newMachine(t)
	_, err := m.make(wanted(openTo(9000), time.Minute))
	require.NoError(t, err)
	first, standby := m.watching()
	for _, pid := range append(first, standby...) {
		require.NoError(t, syscall.Kill(pid, syscall.SIGKILL))
	}
	_ = os.Remove(m.Path("watchdog.sock"))
	killed, err := net.Listen("unix", m.Path("watchdog.sock")) // as it is seen by who has asked already
	require.NoError(t, err)
	killed.(*net.UnixListener).SetUnlinkOnClose(false)
	t.Cleanup(func() { _ = killed.Close() })
	go func() {
		if c, err := killed.Accept(); err == nil {
			_ = c.Close()
		}
		_ = killed.Close()
	}()
	require.NoError(t, m.ns.Do(m.Resume))
	require.Eventually(t, func() bool { first, standby := m.watching(); return len(first) == 1 && len(standby) == 1 }, 10*time.Second,
		20*time.Millisecond)
	_, err = m.Back("the test is over")
	require.NoError(t, err)
}
