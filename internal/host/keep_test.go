package host_test

import (
	"context"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/internal/testbed"
)

// TestKeepOverALogIn: with a real sshd. What counts is a connection that was opened
// after the change; one that is shared with an earlier log-in is none.
func TestKeepOverALogIn(t *testing.T) {
	sshd, err := exec.LookPath("sshd")
	if err != nil {
		if os.Getenv("CI") != "" {
			t.Fatal("sshd must be there in CI: ", err)
		}
		t.Skip("KEEPING IS NOT TRIED OVER A REAL LOG-IN: ", err)
	}
	m := newMachine(t)
	dir := m.Dir
	desk := newNamespace(t, "yf-desk") // from which somebody logs in
	require.NoError(t, desk.Bridge("quay"))
	require.NoError(t, desk.IP("addr add 10.40.0.5/16 dev quay"))
	require.NoError(t, m.ns.Attach(desk, "quay", "eth1", "10.40.2.1/16"))
	require.NoError(t, exec.Command("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", dir+"/key").Run())
	require.NoError(t, os.WriteFile(dir+"/sshd_config",
		[]byte(fmt.Sprintf("ListenAddress 10.40.2.1\nHostKey %s/key\nAuthorizedKeysFile %s/key.pub\nStrictModes no\nUsePAM no\nPidFile "+
			"none\nPermitRootLogin yes\n", dir, dir)), 0o600))
	require.NoError(t, os.MkdirAll("/run/sshd", 0o755))
	server := exec.Command(sshd, "-D", "-e", "-f", dir+"/sshd_config")
	require.NoError(t, m.ns.Do(server.Start))
	t.Cleanup(func() { _ = server.Process.Kill(); _ = server.Wait() })
	ssh := func(from *testbed.Namespace, args ...string) string {
		args = append([]string{"-F", "none", "-i", dir + "/key", "-o", "StrictHostKeyChecking=no", "-o", "UserKnownHostsFile=/dev/null",
			"-o", "LogLevel=ERROR"}, args...)
		for try := 0; ; try++ {
			out, err := from.Run(nil, "ssh", args...)
			if err == nil {
				return string(out)
			}
			require.Less(t, try, 50, "%v", err)
			time.Sleep(50 * time.Millisecond) // until it listens
		}
	}
	self, err := os.Executable()
	require.NoError(t, err)
	keep := self + " keep " + dir
	shared := []string{"-o", "ControlPath=" + dir + "/shared", "root@10.40.2.1"}
	ssh(desk, append([]string{"-M", "-N", "-f"}, shared...)...)
	t.Cleanup(func() { ssh(desk, append([]string{"-O", "exit"}, shared...)...) })

	was := m.normal()
	_, err = m.make(wanted(strings.ReplaceAll(openTo(9000), "22, ", ""), time.Minute))
	require.Regexp(t, `^nothing was changed: these rules would cut off the log-in at 10\.40\.2\.1:22 from 10\.40\.0\.5; mend the policy, `+
		`or say --force to try it`, err.Error())
	require.Equal(t, was, m.normal())

	_, err = m.make(wanted(openTo(9000), time.Minute))
	require.NoError(t, err)
	_, err = m.Keep(nil, true)
	require.ErrorContains(t, err, "this keep came over no connection")
	require.Regexp(t, `^in force  this keep came over the connection 10\.40\.2\.1:22 from 10\.40\.0\.5:\d+, which was open before `+
		`the change`, ssh(desk, append(shared, keep)...))
	require.Regexp(t, `^in force  this keep came over the connection 10\.40\.2\.1:22 from 10\.40\.2\.1:\d+, which the host has to `+
		`itself, so it does not show that the way in is open`, ssh(m.ns, "root@10.40.2.1", keep))
	require.Regexp(t, `^kept over 10\.40\.2\.1:22 from 10\.40\.0\.5:\d+ <nil>`, ssh(desk, "root@10.40.2.1", keep))
	m.waitFor(api.Kept)
	kept, err := m.Kept()
	require.NoError(t, err)
	require.Equal(t, openTo(9000), kept.Files[0].Text)

	require.NoError(t, m.ns.Load("flush ruleset"))
	require.NoError(t, m.ns.Do(func() error { _, _, err := m.LoadKept(context.Background()); return err }))
	require.Contains(t, m.normal(), "9000", "what is kept is what the boot loads")
}

// TestConnectionsThatWouldBeCut speaks of the service's too.
func TestConnectionsThatWouldBeCut(t *testing.T) {
	m := newMachine(t)
	closed := strings.Replace(openTo(9000), "ct state established,related accept\n", "", 1)
	require.NoError(t, m.ns.Do(func() error {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			return err
		}
		defer func() { _ = l.Close() }()
		at := l.Addr().(*net.TCPAddr).AddrPort()
		w := wanted(closed, time.Minute)
		w.Service = append(w.Service, at)
		_, err = m.Make(context.Background(), w)
		require.Regexp(t, regexp.QuoteMeta("would cut off what this host sends to the service at "+at.String()), err.Error())
		w.Force = true
		made, err := m.Make(context.Background(), w)
		require.NoError(t, err)
		require.Len(t, made.Cut, 1)
		_, err = m.Back("the test is over")
		return err
	}))
}

// TestTheClockIsNobodysToSet: the time for a keep is counted on a clock that no step of
// the machine's time moves, and that runs on in sleep.
func TestTheClockIsNobodysToSet(t *testing.T) {
	m := newMachine(t)
	_, err := m.make(wanted(openTo(1000), 3*time.Second))
	require.NoError(t, err)
	pids := m.watchdogs()
	require.NotEmpty(t, pids)
	timers := 0
	for _, pid := range pids {
		files, err := filepath.Glob(fmt.Sprintf("/proc/%d/fdinfo/*", pid))
		require.NoError(t, err)
		for _, file := range files {
			info, _ := os.ReadFile(file)
			if clock := regexp.MustCompile(`(?m)^clockid: (\d+)$`).FindStringSubmatch(string(info)); clock != nil {
				timers++
				require.Equal(t, "7", clock[1], "CLOCK_BOOTTIME of clock_gettime(2)")
			}
		}
	}
	require.Equal(t, len(pids), timers)
	m.waitFor(api.WentBack)
}
