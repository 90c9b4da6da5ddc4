package cli_test

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/internal/testbed"
)

// lone is one machine without a service, and a desk from which its owner logs in.
type lone struct {
	*testing.T
	program, dir, prefix string
	gate, desk           *testbed.Namespace
}

// newLone makes both, with sshd on the machine and something that listens at TCP 8095.
func newLone(t *testing.T) *lone {
	sshd, err := exec.LookPath("sshd")
	if err == nil {
		err = testbed.Available()
	}
	if err != nil {
		if os.Getenv("CI") != "" {
			t.Fatal("the kernel and sshd must be there in CI: ", err)
		}
		t.Skip("ONE MACHINE IS NOT TRIED ON A KERNEL: ", err)
	}
	dir, err := os.MkdirTemp("", "yfl") // a socket's path is short
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	l := &lone{T: t, dir: dir, program: filepath.Join(dir, "yfence"), prefix: fmt.Sprintf("yfl%d-", os.Getpid())}
	build(t, l.program)
	t.Cleanup(func() { _ = testbed.Remove(l.prefix) })
	l.gate, err = testbed.NewNamespace(l.prefix + "gate")
	require.NoError(t, err)
	l.desk, err = testbed.NewNamespace(l.prefix + "desk")
	require.NoError(t, err)
	require.NoError(t, l.desk.Bridge("quay"))
	require.NoError(t, l.desk.IP("addr add 192.0.2.9/24 dev quay"))
	require.NoError(t, l.gate.Attach(l.desk, "quay", "eth0", "192.0.2.7/24"))
	require.NoError(t, exec.Command("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", dir+"/key").Run())
	require.NoError(t, os.WriteFile(dir+"/sshd_config", []byte(fmt.Sprintf("ListenAddress 192.0.2.7\nHostKey %s/key\n"+
		"AuthorizedKeysFile %s/key.pub\nStrictModes no\nUsePAM no\nPidFile none\nPermitRootLogin yes\n", dir, dir)), 0o600))
	require.NoError(t, os.MkdirAll("/run/sshd", 0o755))
	server := exec.Command(sshd, "-D", "-e", "-f", dir+"/sshd_config")
	require.NoError(t, l.gate.Do(server.Start))
	t.Cleanup(func() { _ = server.Process.Kill(); _ = server.Wait() })
	require.NoError(t, l.gate.Do(func() error {
		listener, err := net.Listen("tcp", "0.0.0.0:8095")
		if err == nil {
			t.Cleanup(func() { _ = listener.Close() })
			go func() {
				for c, err := listener.Accept(); err == nil; c, err = listener.Accept() {
					_ = c.Close()
				}
			}()
		}
		return err
	}))
	require.Eventually(t, func() bool { return l.reaches(22) && l.reaches(8095) }, 10*time.Second, 20*time.Millisecond)
	return l
}

// reaches says that the desk can open a connection to the machine.
func (l *lone) reaches(port int) bool {
	return l.desk.Do(func() error {
		c, err := net.DialTimeout("tcp", fmt.Sprint("192.0.2.7:", port), time.Second)
		if err == nil {
			_ = c.Close()
		}
		return err
	}) == nil
}

// in logs in from the desk and runs a command, and gives what it says and how it ended.
func (l *lone) in(command string) (said string, code int) {
	ssh := exec.Command("ssh", "-F", "none", "-i", l.dir+"/key", "-o", "StrictHostKeyChecking=no", "-o", "UserKnownHostsFile=/dev/null",
		"-o", "LogLevel=ERROR", "-o", "ConnectTimeout=3", "root@192.0.2.7", fmt.Sprintf("cd %s; PATH=%s:$PATH:/usr/sbin:/sbin "+
			"YFENCE_STATE=%s/state %s 2>&1", l.dir, l.dir, l.dir, command))
	var out []byte
	require.NoError(l, l.desk.Do(func() error { out, _ = ssh.CombinedOutput(); return nil }))
	return string(out), ssh.ProcessState.ExitCode()
}

// does is in for a command that must end so, and say that.
func (l *lone) does(command string, code int, says string) {
	l.Helper()
	said, got := l.in(command)
	require.Equal(l, code, got, "%s: %s", command, said)
	require.Regexp(l, says, said, command)
}

// write changes the policy's text.
func (l *lone) write(old, text string) {
	l.Helper()
	name := filepath.Join(l.dir, "gate", "policy.fence")
	was, err := os.ReadFile(name)
	require.NoError(l, err)
	require.Contains(l, string(was), old)
	require.NoError(l, os.WriteFile(name, []byte(strings.Replace(string(was), old, text, 1)), 0o644))
}

// TestOneMachine walks from nothing to a closed machine without a service: it cannot lock its owner
// out, has one more service opened, is paused, and starts again as it was kept.
func TestOneMachine(t *testing.T) {
	t.Parallel()
	l := newLone(t)
	l.does("yfence settle", 2, `^yfence: this host is not enrolled .*; or name a policy in files: --policy DIR\n$`)
	l.does("yfence new --here --host gate-01 gate", 0, `^wrote gate/policy.fence and gate/fleet.yaml; what is next:`)
	text, err := os.ReadFile(filepath.Join(l.dir, "gate", "policy.fence"))
	require.NoError(t, err)
	require.Contains(t, string(text), "network login           = 192.0.2.9\n")
	require.Contains(t, string(text), "allow way-in:           login -> machine : ssh  guard\n")
	require.Contains(t, string(text), "# allow cli-test: everywhere -> machine : tcp 8095  # cli.test")
	l.does("yfence check gate", 0, "no problems")

	// Closed: nothing but the way in is open, and it stays only once that is shown.
	l.does("yfence settle --policy gate --within 60s", 0, `gate-01: policy gate is in force, and is undone at .* unless it is kept`)
	require.False(t, l.reaches(8095))
	l.does("yfence drift --here", 1, `(?m)^gate-01  waiting, policy gate is in force, and is undone at`)
	l.does("yfence keep", 0, `^gate-01: policy gate is kept, over 192.0.2.7:22 from 192.0.2.9:\d+\n$`)
	l.does("yfence drift --here", 0, `gate-01  in step`)
	l.does("yfence listeners --here", 1, `shut +tcp 8095 on all .* \(cli.test.*\) listens, and by the policy nobody may come to it`)

	// Who uses this, who is refused, and a connection from elsewhere beside what the files say.
	l.does("yfence traffic unused --here --all", 1, `(?s)counted on 1 of 1 host\n.*nothing met these\n  allow reachable  .*`+
		`used\n  allow way-in  .*times on 1 of 1 host`)
	refused := make(chan string)
	go func() {
		said, _ := l.in("yfence traffic refused --here --for 3s")
		refused <- said
	}()
	for heard := ""; heard == ""; {
		l.reaches(8095)
		select {
		case heard = <-refused:
			require.Regexp(t, `(?s)login -> machine : tcp 8095  \d+ times.*refused by stance inbound closed\n.*`+
				`to admit it: allow login-to-machine-tcp-8095: login -> machine : tcp 8095`, heard)
		default:
		}
	}
	probe := exec.Command(l.program, "probe", "gate-01 : tcp 22, tcp 8095", "--policy", l.dir+"/gate", "--fleet", l.dir+"/gate/fleet.yaml")
	var came []byte
	require.NoError(t, l.desk.Do(func() error { came, _ = probe.CombinedOutput(); return nil }))
	require.Regexp(t, `(?s)192.0.2.9 -> gate-01 \(192.0.2.7\) : tcp 22  answered by what listens there in .*, and the policy says `+
		`admitted\n`+
		`.* : tcp 8095  silent, and the policy says dropped\n2 of 2 came out as the policy says`, string(came))

	// What would lock its owner out is refused; by force it comes back by itself.
	l.write("= 192.0.2.9\n", "= 203.0.113.0/24\n")
	l.does("yfence settle", 2, `nothing was changed: these rules would cut off the log-in at 192.0.2.7:22 from 192.0.2.9; mend the policy`)
	l.does("yfence settle --force --within 3s", 0, `it cuts off the log-in at 192.0.2.7:22 from 192.0.2.9\n`)
	require.False(t, l.reaches(22), "it is locked")
	require.Eventually(t, func() bool { return l.reaches(22) }, 20*time.Second, 100*time.Millisecond, "it comes back by itself")
	l.does("yfence drift --here", 1, `gate-01  behind\n +opened +tcp 22 from 192.0.2.9 still gets in: by the files as they are now `+
		`nothing in the policy admits it; that is `+
		`not settled here`)
	l.write("= 203.0.113.0/24\n", "= 192.0.2.9\n")

	// One more service, undone once and kept then.
	l.write("# allow cli-test:", "allow cli-test:")
	l.does("yfence settle", 0, "policy gate is in force")
	require.True(t, l.reaches(8095))
	l.does("yfence undo", 0, `^gate-01: policy gate went back, taken back on the host\n$`)
	require.False(t, l.reaches(8095))
	l.does("yfence settle", 0, "policy gate is in force")
	l.does("yfence keep", 0, "policy gate is kept")
	l.does("yfence copies --here", 0, `(?m)^2 .* policy gate\n1 .* policy gate$`)

	// A pause, by the files that it follows.
	l.does("yfence pause --here --for 30h --because x", 2, `--for is from 1s to 24h`)
	l.does("yfence pause --here --for 1h --because 'is it the filter?'", 0, `^yfence: the policy is .*/gate, as of the last settle\n`+
		`gate-01: the filter is paused until `)
	l.does("yfence drift --here", 1, `gate-01  paused, until .*: is it the filter\?`)
	l.does("yfence resume --here", 0, "the pause went back, resumed on the host")
	l.does("yfence resume --here", 2, `^yfence: gate-01 is not paused\n$`)
	l.does("yfence drift --here", 0, "in step")

	// A start of the machine loads what was kept.
	require.NoError(t, l.gate.Load("flush ruleset\n"))
	l.does("yfence drift --here", 1, `No filter is in force`)
	l.does("yfence boot", 0, `^gate-01: policy gate is in force, as it was kept\n$`)
	l.does("yfence drift --here", 0, "in step")

	// Rules that are there already become the policy.
	l.does("yfence new --here --host gate-01 again", 0, `the policy is made of the rules that are in force: 2 statements\n`)
	l.does("yfence new --here gate", 2, `gate holds fleet.yaml already: name a folder that is new, or empty`)
	l.does("yfence settle --policy nothere", 2, `the policy's folder: stat nothere: no such file or directory`)
	l.does("yfence settle --policy gate --host web-01", 2, `the fleet has no host "web-01".*say which one this is: --host NAME`)
}
