package host_test

import (
	"bufio"
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/api"
)

var (
	kills    = flag.Int("kills", 48, "how many changes TestNobodyDiesWithTheWayBack disturbs")
	killSeed = flag.Uint64("kill-seed", 1, "which")
)

// within is the time for a keep in these tests.
const within = 1500 * time.Millisecond

// manager stands in for systemd: what it is asked to run it runs again whenever it fails.
const manager = `#!/bin/bash
while [[ $1 == --* ]]; do [[ $1 == --setenv=* ]] && export "${1#--setenv=}"; shift; done
setsid bash -c 'while ! "$@" > /dev/null 2>&1; do sleep 0.2; done' manager "$@" < /dev/null > /dev/null 2>&1 &
`

// managed has the machine managed by such a stand-in.
func (m *machine) managed() {
	m.Root = m.TempDir()
	require.NoError(m, os.MkdirAll(filepath.Join(m.Root, "run/systemd/system"), 0o755))
	require.NoError(m, os.MkdirAll(filepath.Join(m.Root, "proc/1/ns"), 0o755))
	require.NoError(m, os.MkdirAll(filepath.Join(m.Root, "bin"), 0o755))
	require.NoError(m, os.WriteFile(filepath.Join(m.Root, "bin/systemd-run"), []byte(manager), 0o755))
	require.NoError(m, m.ns.Do(func() error {
		network, err := os.Readlink("/proc/thread-self/ns/net")
		require.NoError(m, err)
		return os.Symlink(network, filepath.Join(m.Root, "proc/1/ns/net"))
	}))
}

// settling begins a settle in a process of its own and gives what it says, a line each.
func (m *machine) settling(rules string) (cmd *exec.Cmd, said chan string) {
	file := filepath.Join(m.TempDir(), "rules")
	require.NoError(m, os.WriteFile(file, []byte(rules), 0o600))
	cmd = exec.Command("/proc/self/exe", "settle", m.Dir, file, m.Root, within.String())
	cmd.Env = append(os.Environ(), "PATH="+filepath.Join(m.Root, "bin")+":"+os.Getenv("PATH"))
	out, err := cmd.StdoutPipe()
	require.NoError(m, err)
	require.NoError(m, m.ns.Do(cmd.Start))
	m.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	said = make(chan string, 1)
	go func() {
		line, _ := bufio.NewReader(out).ReadString('\n')
		said <- strings.TrimSpace(line)
	}()
	return cmd, said
}

// watching are the machine's watchdogs, those that stand by apart.
func (m *machine) watching() (first, standby []int) {
	all, err := filepath.Glob("/proc/[0-9]*/cmdline")
	require.NoError(m, err)
	for _, name := range all {
		line, _ := os.ReadFile(name)
		args := strings.Split(string(line), "\x00")
		pid, _ := strconv.Atoi(strings.Split(name, "/")[2])
		if len(args) < 6 || args[1] != "watchdog" || args[3] != m.Dir {
			continue
		}
		if args[6] == "--standby" {
			standby = append(standby, pid)
		} else {
			first = append(first, pid)
		}
	}
	return first, standby
}

// TestNobodyDiesWithTheWayBack disturbs changes at any moment: it kills or freezes the
// command, the watchdog, the one that stands by, or all of them. When the time for the keep
// is over the old rules are in force, or the change is kept, and what anybody said is so.
func TestNobodyDiesWithTheWayBack(t *testing.T) {
	rng := rand.New(rand.NewPCG(*killSeed, 2))
	whom := []string{"the command", "the watchdog", "the one that stands by", "both watchdogs", "all of them",
		"all of them, and whoever keeps it"}
	for n := range *kills {
		who, signal, managed, after := whom[n%len(whom)], []syscall.Signal{syscall.SIGKILL, syscall.SIGSTOP}[n/len(whom)%2],
			n/len(whom)/2%2 == 1, time.Duration(rng.IntN(700))*time.Millisecond
		t.Run(fmt.Sprintf("%s %s after %s, managed %v", who, signal, after, managed), func(t *testing.T) {
			t.Parallel()
			m := newMachine(t)
			m.OwnConsole = true
			if managed {
				m.managed()
			}
			require.NoError(t, m.ns.Load(openTo(443)))
			was := m.normal()
			settling, said := m.settling(openTo(9000))
			pids := []int{settling.Process.Pid}
			if who == whom[5] {
				word := <-said
				require.Equal(t, "made <nil>", word)
				said <- word
				keeping := exec.Command("/proc/self/exe", "keep", m.Dir, "at-console")
				require.NoError(t, m.ns.Do(keeping.Start))
				t.Cleanup(func() { _ = keeping.Process.Kill(); _ = keeping.Wait() })
				pids = append(pids, keeping.Process.Pid)
				after /= 20 // a keep is quick
			}
			time.Sleep(after)
			first, standby := m.watching()
			if who != whom[0] && who != whom[4] && who != whom[5] {
				pids = nil
			}
			if who == whom[1] || n%len(whom) >= 3 {
				pids = append(pids, first...)
			}
			if n%len(whom) >= 2 {
				pids = append(pids, standby...)
			}
			for _, pid := range pids {
				_ = syscall.Kill(pid, signal)
			}
			t.Cleanup(func() {
				for _, pid := range pids {
					_ = syscall.Kill(pid, syscall.SIGKILL)
				}
			})
			select {
			case word := <-said: // what the command says is so when it says it
				if strings.Contains(word, "nothing was changed") || strings.Contains(word, "in force again") {
					require.Equal(t, was, m.normal(), word)
				}
			case <-time.After(within):
			}
			time.Sleep(within)
			require.NoError(t, m.ns.Do(m.Resume)) // as the host agent does, and each command
			var c api.HostChange
			require.Eventually(t, func() (over bool) {
				require.NoError(t, m.ns.Do(func() (err error) { c, err = m.Change(); return err }))
				_ = m.ns.Do(m.Resume)
				return c.Phase == "" || c.Phase == api.Kept || c.Phase == api.WentBack
			}, 40*time.Second, 300*time.Millisecond, "%+v", &c)
			kept, err := m.Kept()
			require.NoError(t, err)
			if c.Phase == api.Kept {
				require.Contains(t, m.normal(), "9000")
				require.Equal(t, c.ID, kept.Change.ID)
			} else {
				require.Equal(t, was, m.normal(), "%s: %s", c.Phase, c.Why)
				require.Nil(t, kept, "what is loaded at the start is what it was")
			}
			thaw := syscall.SIGCONT // whoever thaws does no harm
			if c.Phase == "" {
				thaw = syscall.SIGKILL // it had not begun, and would begin now
			}
			for _, pid := range pids {
				_ = syscall.Kill(pid, thaw)
			}
			now := m.normal()
			time.Sleep(time.Second)
			require.Equal(t, now, m.normal())
			again, err := m.Change()
			require.NoError(t, err)
			require.Equal(t, c.Phase, again.Phase)
			left, _ := filepath.Glob(filepath.Join(m.Dir, "waiting-*"))
			require.Empty(t, left)
			_, err = m.make(wanted(openTo(9001), time.Minute)) // and nothing is stuck
			require.NoError(t, err)
			_, err = m.Back("the test is over")
			require.NoError(t, err)
		})
	}
}
