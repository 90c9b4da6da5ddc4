package testbed

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"testing"

	"golang.org/x/sys/unix"
)

// Available says why namespaces with packet filters cannot be made here; nil if they can.
func Available() error { return available() }

// Needed skips a test that needs the kernel where namespaces cannot be made here, loudly: untried says
// what is not tried. In CI the kernel must be there, and that is a failure.
func Needed(t testing.TB, untried string) {
	t.Helper()
	err := Available()
	switch {
	case err == nil:
	case os.Getenv("CI") != "":
		t.Fatal("the kernel must be there in CI: ", err)
	default:
		t.Skip(untried+": ", err)
	}
}

// available tries to make a namespace once, and remembers what came of it.
var available = sync.OnceValue(func() error {
	for _, tool := range []string{"ip", "nft"} {
		if _, err := exec.LookPath(tool); err != nil {
			return fmt.Errorf("the program %s is not installed", tool)
		}
	}
	name := fmt.Sprintf("yf-try-%d", os.Getpid())
	if err := run("ip", "netns", "add", name); err != nil {
		return fmt.Errorf("network namespaces are not permitted: %w", err)
	}
	defer func() { _ = run("ip", "netns", "del", name) }()
	if err := run("ip", "netns", "exec", name, "nft", "list", "ruleset"); err != nil {
		return fmt.Errorf("the kernel's nf_tables filter cannot be used: %w", err)
	}
	return nil
})

// run runs a program, whose output is of interest only where it fails.
func run(name string, args ...string) error {
	_, err := output(nil, name, args...)
	return err
}

// output runs a program with a text for its input; the error has what it printed.
func output(stdin []byte, name string, args ...string) ([]byte, error) {
	cmd := exec.Command(name, args...)
	cmd.Stdin, cmd.Env = bytes.NewReader(stdin), append(os.Environ(), "TZ=UTC")
	var out, errOut bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errOut
	if err := cmd.Run(); err != nil {
		return out.Bytes(), fmt.Errorf("%s %s: %w: %s", name, strings.Join(args, " "), err, strings.TrimSpace(errOut.String()))
	}
	return out.Bytes(), nil
}

// A Namespace is one network stack: a host of the testbed, or the wire between hosts.
type Namespace struct{ Name string }

// NewNamespace makes a namespace that `ip netns` knows by its name, with its loopback up.
func NewNamespace(name string) (*Namespace, error) {
	if err := run("ip", "netns", "add", name); err != nil {
		return nil, err
	}
	ns := &Namespace{name}
	return ns, ns.IP("link set lo up")
}

// Close removes the namespace with everything in it. Processes still in it lose their network.
func (ns *Namespace) Close() error { return run("ip", "netns", "del", ns.Name) }

// Remove closes all namespaces whose names begin with prefix: what an earlier run left behind.
func Remove(prefix string) error {
	found, err := filepath.Glob("/run/netns/" + prefix + "*")
	for _, path := range found {
		err = errors.Join(err, run("ip", "netns", "del", filepath.Base(path)))
	}
	return err
}

// Run runs a program in the namespace and gives what it prints. (`ip netns exec`
// would hide the control groups from it.)
func (ns *Namespace) Run(stdin []byte, name string, args ...string) (out []byte, err error) {
	err = ns.Do(func() (err error) {
		out, err = output(stdin, name, args...)
		return err
	})
	return out, err
}

// IP runs ip(8) commands in the namespace, in one go.
func (ns *Namespace) IP(commands ...string) error {
	_, err := output([]byte(strings.Join(commands, "\n")), "ip", "-n", ns.Name, "-batch", "-")
	return err
}

// Load loads an nft script.
func (ns *Namespace) Load(script string) error {
	_, err := ns.Run([]byte(script), "nft", "-f", "-")
	return err
}

// ListJSON is what `nft -j list ruleset` prints.
func (ns *Namespace) ListJSON() ([]byte, error) { return ns.Run(nil, "nft", "-j", "list", "ruleset") }

// Do calls f on a thread that is in the namespace. Sockets that f opens stay in it.
func (ns *Namespace) Do(f func() error) error {
	done := make(chan error, 1)
	go func() {
		// The thread is never unlocked, so the runtime ends it with the goroutine
		// and nobody else finds himself in this namespace.
		runtime.LockOSThread()
		if err := ns.enter(); err != nil {
			done <- err
			return
		}
		done <- f()
	}()
	return <-done
}

// enter moves the calling thread into the namespace.
func (ns *Namespace) enter() error {
	fd, err := unix.Open("/run/netns/"+ns.Name, unix.O_RDONLY|unix.O_CLOEXEC, 0)
	if err != nil {
		return err
	}
	defer func() { _ = unix.Close(fd) }()
	return unix.Setns(fd, unix.CLONE_NEWNET)
}

// Start is Start of a program in the namespace.
func (ns *Namespace) Start(cmd *exec.Cmd) (<-chan error, error) { return start(cmd, ns.enter) }

// Sysctl sets kernel parameters under /proc/sys/net, each as "path=value".
func (ns *Namespace) Sysctl(settings ...string) error {
	return ns.Do(func() error {
		for _, s := range settings {
			path, value, _ := strings.Cut(s, "=")
			if err := os.WriteFile("/proc/sys/net/"+path, []byte(value), 0o644); err != nil {
				return err
			}
		}
		return nil
	})
}

// Bridge makes a bridge: a segment that hosts can be attached to.
func (ns *Namespace) Bridge(name string) error {
	return ns.IP("link add "+name+" type bridge", "link set "+name+" up")
}

// Attach gives the namespace an interface on a bridge of the wire's, with addresses such as 10.40.2.10/16.
func (ns *Namespace) Attach(wire *Namespace, bridge, iface string, addresses ...string) error {
	port := fmt.Sprintf("%.6s-%s", bridge, shortHash(ns.Name+iface))
	if err := wire.IP(
		fmt.Sprintf("link add %s type veth peer name %s netns %s", port, iface, ns.Name),
		fmt.Sprintf("link set %s master %s", port, bridge), fmt.Sprintf("link set %s up", port)); err != nil {
		return err
	}
	commands := []string{fmt.Sprintf("link set %s up", iface)}
	for _, a := range addresses {
		nodad := ""
		if strings.Contains(a, ":") {
			nodad = " nodad"
		}
		commands = append(commands, fmt.Sprintf("addr add %s dev %s%s", a, iface, nodad))
	}
	return ns.IP(commands...)
}

// shortHash tells interface names apart that have to be short (FNV-1a).
func shortHash(s string) string {
	h := uint32(2166136261)
	for _, c := range []byte(s) {
		h = (h ^ uint32(c)) * 16777619
	}
	return fmt.Sprintf("%07x", h&0xfffffff)
}
