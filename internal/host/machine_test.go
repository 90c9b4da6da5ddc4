package host_test

import (
	"context"
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
	"yellowfence.example/yfence/internal/host"
	"yellowfence.example/yfence/internal/host/apply"
	"yellowfence.example/yfence/internal/testbed"
)

// TestMain lets the test's own program be the watchdog, and make and keep changes as
// yfence does.
func TestMain(m *testing.M) {
	if len(os.Args) > 1 && os.Args[1] == "watchdog" { // --state DIR --change ID [--standby]
		if err := (&host.Machine{Dir: os.Args[3]}).Watch(os.Args[5], len(os.Args) > 6, os.Stdout); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		os.Exit(0)
	}
	if len(os.Args) > 1 && os.Args[1] == "rehearse" {
		if err := host.Rehearse(context.Background(), os.Stdin, os.Stdout); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		os.Exit(0)
	}
	if len(os.Args) > 2 && os.Args[1] == "keep" {
		c, err := (&host.Machine{Dir: os.Args[2]}).Keep(nil, len(os.Args) > 3)
		fmt.Println(c.Phase, c.Why, err)
		os.Exit(0)
	}
	if len(os.Args) > 3 && os.Args[1] == "settle" { // and stay, to be killed
		files, err := os.ReadFile(os.Args[3])
		w, m := wanted(string(files), 2*time.Second), host.Machine{Dir: os.Args[2]}
		if len(os.Args) > 5 {
			m.Root, m.OwnConsole = os.Args[4], true
			w.Within, _ = time.ParseDuration(os.Args[5])
		}
		if err == nil {
			_, err = m.Make(context.Background(), w)
		}
		fmt.Println("made", err)
		time.Sleep(time.Minute)
		os.Exit(0)
	}
	os.Exit(m.Run())
}

// openTo is rules of ours that let one port in, and everything that this host begins.
func openTo(port int) string {
	return fmt.Sprintf("table inet yellowfence\ndelete table inet yellowfence\n\ntable inet yellowfence {\n\tchain inbound {\n\t\ttype "+
		"filter hook input priority filter; policy drop;\n"+
		"\t\tct state established,related accept\n\t\ttcp dport { 22, %d } accept\n\t}\n}\n", port)
}

func wanted(rules string, within time.Duration) host.Wanted {
	return host.Wanted{Change: api.HostChange{Kind: "settle", What: "revision 7", Revision: 7}, Files: nftFile(rules), Within: within}
}

// machine is a host in a kernel of its own, with rules of somebody else's in it.
type machine struct {
	*testing.T
	host.Machine
	ns *testbed.Namespace
}

const others = "table ip theirs {\n\tset seen {\n\t\ttype ipv4_addr\n\t\tflags dynamic,timeout\n\t\ttimeout 1h\n\t}\n\tchain c " +
	"{\n\t\ttype filter hook input priority 5; policy accept;\n\t\ttcp dport 80 counter accept\n\t}\n}\n"

func newMachine(t *testing.T) *machine {
	dir, err := os.MkdirTemp("", "yfm")
	require.NoError(t, err)
	m := &machine{t, host.Machine{Dir: dir}, newNamespace(t, "yf-m")}
	t.Cleanup(func() { // a change that still waits would be watched, and written about, for minutes
		first, standby := m.watching()
		for _, pid := range append(standby, first...) {
			_ = syscall.Kill(pid, syscall.SIGKILL)
		}
		_ = os.RemoveAll(dir)
	})
	require.NoError(t, m.ns.Load(others))
	return m
}

func (m *machine) make(w host.Wanted) (made host.Made, err error) {
	_ = m.ns.Do(func() error { made, err = m.Make(context.Background(), w); return nil })
	return made, err
}

// normal is all that is in force, without what passes.
func (m *machine) normal() string {
	var c *apply.Copy
	require.NoError(m, m.ns.Do(func() (err error) { c, err = apply.TakeCopy(context.Background()); return err }))
	return c.Normal()
}

// waitFor waits until the change is in a phase.
func (m *machine) waitFor(phase api.Phase) api.HostChange {
	m.Helper()
	for deadline := time.Now().Add(20 * time.Second); ; time.Sleep(10 * time.Millisecond) {
		c, err := m.Change()
		require.NoError(m, err)
		if c.Phase == phase {
			return c
		}
		require.True(m, time.Now().Before(deadline), "it is %s: %s", c.Phase, c.Why)
	}
}

// TestWithoutAKeepItGoesBack: to exactly what was there, whether rules of ours were or not.
func TestWithoutAKeepItGoesBack(t *testing.T) {
	m := newMachine(t)
	for i, before := range []func(){func() {}, func() { require.NoError(t, m.ns.Load(openTo(443))) }} {
		before()
		was := m.normal()
		made, err := m.make(wanted(openTo(9000+i), 300*time.Millisecond))
		require.NoError(t, err)
		require.Equal(t, api.InForceYet, made.Change.Phase)
		require.Contains(t, m.normal(), strconv.Itoa(9000+i))
		c := m.waitFor(api.WentBack)
		require.Equal(t, "nobody kept it within 300ms", c.Why)
		require.Equal(t, was, m.normal())
	}
}

// TestFaults are what may happen while a change waits for its keep. The rules go back
// by themselves after each of them, and nobody else's change is lost.
func TestFaults(t *testing.T) {
	for _, c := range []struct {
		what   string
		happen func(m *machine, settling *exec.Cmd)
		gone   string // what it adds to what is in force
	}{
		{"the process that settled is killed, with all of its group", func(m *machine, settling *exec.Cmd) {
			require.NoError(m, syscall.Kill(-settling.Process.Pid, syscall.SIGKILL))
		}, ""},
		{"another program changes its rules, and ours", func(m *machine, _ *exec.Cmd) {
			require.NoError(m, m.ns.Load("add rule ip theirs c udp dport 53 accept\nadd rule inet yellowfence inbound tcp dport 1 "+
				"accept\n"))
		}, "\t\tudp dport 53 accept\n"},
		{"another program takes all rules away", func(m *machine, _ *exec.Cmd) {
			require.NoError(m, m.ns.Load("flush ruleset\n"+others))
		}, ""},
		{"the network is gone", func(m *machine, _ *exec.Cmd) { require.NoError(m, m.ns.IP("link set lo down")) }, ""},
		{"the disk is full", func(m *machine, _ *exec.Cmd) { m.fillDisk() }, ""},
		{"the program is taken off the disk", func(m *machine, s *exec.Cmd) { require.NoError(m, os.Remove(s.Path)) }, ""},
	} {
		t.Run(c.what, func(t *testing.T) {
			m := newMachine(t)
			m.smallDisk()
			require.NoError(t, m.ns.Load(openTo(443)))
			was := m.normal()
			settling := m.begin(openTo(9000))
			require.Contains(t, m.normal(), "9000")
			c.happen(m, settling)
			m.waitFor(api.WentBack)
			now := m.normal()
			require.Equal(t, was, strings.Replace(now, c.gone, "", 1))
			require.Contains(t, now, c.gone)
		})
	}
}

// begin settles in a process of its own, by a program of its own.
func (m *machine) begin(rules string) *exec.Cmd {
	m.Helper()
	dir := m.TempDir()
	self, err := os.ReadFile("/proc/self/exe")
	require.NoError(m, err)
	require.NoError(m, os.WriteFile(filepath.Join(dir, "program"), self, 0o755))
	require.NoError(m, os.WriteFile(filepath.Join(dir, "rules"), []byte(rules), 0o600))
	cmd := exec.Command(filepath.Join(dir, "program"), "settle", m.Dir, filepath.Join(dir, "rules"))
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	out, err := cmd.StdoutPipe()
	require.NoError(m, err)
	require.NoError(m, m.ns.Do(cmd.Start))
	m.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	b := make([]byte, 200)
	n, err := out.Read(b)
	require.NoError(m, err)
	require.Equal(m, "made <nil>\n", string(b[:n]))
	return cmd
}

// smallDisk puts the machine's folder on a disk of its own, of 2 MB.
func (m *machine) smallDisk() {
	require.NoError(m, syscall.Mount("tmpfs", m.Dir, "tmpfs", 0, "size=2m"))
	m.Cleanup(func() { _ = syscall.Unmount(m.Dir, syscall.MNT_DETACH) })
}

func (m *machine) fillDisk() {
	f, err := os.Create(filepath.Join(m.Dir, "full"))
	require.NoError(m, err)
	for err == nil {
		_, err = f.Write(make([]byte, 4096))
	}
	require.ErrorIs(m, err, syscall.ENOSPC)
	require.NoError(m, f.Close())
}

// TestNothingIsChangedWithoutACopy, nor while another change is made or waits.
func TestNothingIsChangedWithoutACopy(t *testing.T) {
	m := newMachine(t)
	m.smallDisk()
	m.fillDisk()
	was := m.normal()
	_, err := m.make(wanted(openTo(9000), time.Minute))
	require.ErrorContains(t, err, "no space left on device")
	require.Equal(t, was, m.normal())
	require.NoError(t, os.Remove(filepath.Join(m.Dir, "full")))

	_, err = m.make(wanted("delete table inet never-there\n"+openTo(9000), time.Minute))
	require.ErrorContains(t, err, "No such file or directory")
	require.Equal(t, was, m.normal())
	m.waitFor(api.WentBack)

	_, err = m.make(wanted(openTo(9000), time.Minute))
	require.NoError(t, err)
	_, err = m.make(wanted(openTo(9001), time.Minute))
	require.ErrorContains(t, err, "revision 7 waits for its keep until ")
	c, err := m.Back("somebody said so")
	require.NoError(t, err)
	require.Equal(t, []any{api.WentBack, "somebody said so"}, []any{c.Phase, c.Why})
	require.Equal(t, was, m.normal())
	_, err = m.Keep(nil, true)
	require.EqualError(t, err, "no change waits for its keep")
}

// TestTwoAtOnce: of many that settle at the same time one does, and the others say so.
func TestTwoAtOnce(t *testing.T) {
	m := newMachine(t)
	results := make(chan error, 8)
	for i := range cap(results) {
		go func() {
			_, err := m.make(wanted(openTo(9000+i), time.Minute))
			results <- err
		}()
	}
	made := 0
	for range cap(results) {
		if err := <-results; err == nil {
			made++
		} else {
			require.Regexp(t, "somebody else is changing this host's rules right now|waits for its keep", err.Error())
		}
	}
	require.Equal(t, 1, made)
	_, err := m.Back("the test is over")
	require.NoError(t, err)
}

// TestEachKindGoesBack: rules that tools of iptables made go back by those, with sets,
// whatever stood before and behind ours; so do copies of everything.
func TestEachKindGoesBack(t *testing.T) {
	const before = "*filter\n:INPUT ACCEPT [0:0]\n:theirs - [0:0]\n-A INPUT -m set --match-set friends src -j theirs\n-A INPUT -p tcp -m " +
		"tcp --dport 99 -j DROP\n-A theirs -p tcp -m tcp --dport 80 -j ACCEPT\nCOMMIT\n"
	files := func(n int) []api.File {
		set := fmt.Sprintf("yf4.set%d.0123456%d", n, n)
		return []api.File{{Kind: "ipset", Text: fmt.Sprintf("create %s hash:net family inet\nadd %s 10.0.0.%d\n", set, set, n)},
			{Kind: "iptables", Text: fmt.Sprintf("*filter\n:yf-inbound - [0:0]\n-A yf-inbound -m set --match-set %s src -j ACCEPT\n-A "+
				"yf-inbound -p tcp -m tcp --dport 22 -j ACCEPT\n-A yf-inbound -p tcp -m tcp --dport %d -j DROP\nCOMMIT\n", set, 9000+n)},
			{Kind: "ip6tables", Text: "*filter\n:yf-inbound - [0:0]\n-A yf-inbound -j ACCEPT\nCOMMIT\n"}}
	}
	for _, kind := range []string{"legacy", "nft"} {
		t.Run(kind, func(t *testing.T) {
			m := newMachine(t)
			if _, err := m.ns.Run([]byte("create friends hash:ip\nadd friends 198.51.100.7\n"), "ipset", "restore"); err != nil {
				t.Skip("NOT TRIED ON A KERNEL: ", err)
			}
			if _, err := m.ns.Run([]byte(before), "iptables-"+kind+"-restore"); err != nil {
				if os.Getenv("CI") != "" {
					t.Fatal("it must be there in CI: ", err)
				}
				t.Skip("NOT TRIED ON A KERNEL: ", err)
			}
			first := m.normal()
			settle := func(n int) {
				t.Helper()
				_, err := m.make(host.Wanted{Change: api.HostChange{Kind: "settle", What: "a revision"}, Files: files(n),
					Within: time.Minute})
				require.NoError(t, err)
				require.Contains(t, m.normal(), fmt.Sprintf("--dport %d -j DROP", 9000+n))
			}
			settle(1)
			_, err := m.Back("a first time")
			require.NoError(t, err)
			require.Equal(t, first, m.normal(), "there was nothing of ours")

			settle(1)
			m.console(t)
			_, err = m.ns.Run(nil, "iptables-"+kind, "-I", "INPUT", "-p", "tcp", "--dport", "7", "-j", "ACCEPT")
			require.NoError(t, err)
			second := m.normal()
			settle(2)
			_, err = m.Back("a second time")
			require.NoError(t, err)
			require.Equal(t, second, m.normal(), "ours stood second")

			settle(2)
			_, err = m.ns.Run(nil, "iptables-"+kind, "-A", "theirs", "-p", "tcp", "--dport", "8", "-j", "ACCEPT")
			require.NoError(t, err)
			_, err = m.Back("a third time")
			require.NoError(t, err)
			require.Contains(t, m.normal(), "--dport 8 -j ACCEPT", "what another program changed meanwhile stays")
			require.NotContains(t, m.normal(), "9002")

			copies, err := m.Copies()
			require.NoError(t, err)
			oldest := copies[len(copies)-1]
			made, err := m.make(host.Wanted{Change: api.HostChange{Kind: "put back", What: "copy 1"}, Copy: oldest, Within: time.Minute})
			require.NoError(t, err, "%+v", made)
			require.Equal(t, first, m.normal(), "all of it is as it was before us")
			_, err = m.Back("a last time")
			require.NoError(t, err)
			require.Contains(t, m.normal(), "--dport 8 -j ACCEPT")
			require.Contains(t, m.normal(), "9001")
		})
	}
}

// console keeps the change as somebody does who sits at the machine.
func (m *machine) console(t *testing.T) {
	m.OwnConsole = true
	_, err := m.Back("to begin anew")
	require.NoError(t, err)
	w := host.Wanted{Change: api.HostChange{Kind: "settle", What: "a revision"}, Within: time.Minute}
	w.Files = []api.File{{Kind: "iptables",
		Text: "*filter\n:yf-inbound - [0:0]\n-A yf-inbound -p tcp -m tcp --dport 9001 -j DROP\nCOMMIT\n"}}
	_, err = m.make(w)
	require.NoError(t, err)
	c, err := m.Keep(nil, true)
	require.NoError(t, err)
	require.Equal(t, "from the machine's own console", c.Why)
}

// TestRoundsLeaveNoTrace settles random rules and lets them go back, many times.
func TestRoundsLeaveNoTrace(t *testing.T) {
	rounds := 25
	if n, err := strconv.Atoi(os.Getenv("YFENCE_ROUNDS")); err == nil {
		rounds = n
	}
	m := newMachine(t)
	require.NoError(t, m.ns.Load(openTo(443)))
	was := m.normal()
	rng := rand.New(rand.NewPCG(1, uint64(rounds)))
	for i := range rounds {
		_, err := m.make(wanted(openTo(1+rng.IntN(65535)), time.Minute))
		require.NoError(t, err, i)
		if rng.IntN(2) == 0 {
			require.NoError(t, m.ns.Load(fmt.Sprintf("add rule inet yellowfence inbound tcp dport %d accept", 1+rng.IntN(65535))))
		}
		_, err = m.Back("round " + strconv.Itoa(i))
		require.NoError(t, err)
		require.Equal(t, was, m.normal(), "round %d", i)
	}
	copies, err := m.Copies()
	require.NoError(t, err)
	require.Len(t, copies, 1, "what was there is kept once")
}

// watchdogs are the processes that watch the machine's changes now.
func (m *machine) watchdogs() []int {
	first, standby := m.watching()
	return append(first, standby...)
}

// TestPowerLoss while a change waits for its keep: what was kept is in force afterwards.
func TestPowerLoss(t *testing.T) {
	m := newMachine(t)
	m.OwnConsole, m.Root = true, t.TempDir()
	boots := 0
	boot := func() {
		boots++
		file := filepath.Join(m.Root, "proc/sys/kernel/random/boot_id")
		require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
		require.NoError(t, os.WriteFile(file, []byte(fmt.Sprintf("boot-%d\n", boots)), 0o600))
	}
	boot()
	off := func() { // and on again, with a kernel that has no rules
		for _, pid := range m.watchdogs() {
			require.NoError(t, syscall.Kill(pid, syscall.SIGKILL))
		}
		require.NoError(t, m.ns.Load("flush ruleset\n"))
		boot()
	}
	on := func() (k *host.Kept) {
		require.NoError(t, m.ns.Do(func() (err error) { k, _, err = m.LoadKept(context.Background()); return err }))
		return k
	}
	_, err := m.make(wanted(openTo(1000), time.Minute))
	require.NoError(t, err)
	off()
	require.Nil(t, on(), "nothing was ever kept")
	require.Empty(t, m.normal())
	c, err := m.Change()
	require.NoError(t, err)
	require.Equal(t, []any{api.WentBack, "the host was started anew before anybody kept it: what is loaded at the start is in force"},
		[]any{c.Phase, c.Why})

	_, err = m.make(wanted(openTo(2000), time.Minute))
	require.NoError(t, err)
	_, err = m.Keep(nil, true)
	require.NoError(t, err)
	kept := m.normal()
	_, err = m.make(wanted(openTo(3000), time.Minute))
	require.NoError(t, err)
	require.Contains(t, m.normal(), "3000")
	off()
	require.Equal(t, "revision 7", on().Change.What)
	require.Equal(t, kept, m.normal())
}
