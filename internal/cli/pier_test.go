package cli_test

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/client"
	"yellowfence.example/yfence/core/check"
	"yellowfence.example/yfence/internal/host"
	"yellowfence.example/yfence/internal/host/agent"
	"yellowfence.example/yfence/internal/host/inventory"
	"yellowfence.example/yfence/internal/service"
	"yellowfence.example/yfence/internal/store"
	"yellowfence.example/yfence/internal/testbed"
)

// pier is three hosts in kernels of their own, which attend to a service.
type pier struct {
	*testing.T
	*client.Client
	program, dir, prefix, url, token string
	dsn                              string
	wire                             *testbed.Namespace
	hosts                            map[string]*testbed.Namespace
	attending                        map[string]*exec.Cmd
	stopService                      func()
}

const pierFleet = `{"service": {"addresses": ["10.40.0.5"], "port": 8480}, "hosts": [
 {"name": "jump-01", "roles": ["jump"], "dialect": "nft", "own_console": true, "interfaces": [{"name": "eth1", "addresses": ["10.40.9.1/16"]}]},
 {"name": "charts-01", "roles": ["charts"], "dialect": "nft", "interfaces": [{"name": "eth1", "addresses": ["10.40.2.1/16"]}]},
 {"name": "charts-02", "roles": ["charts"], "dialect": "iptables", "interfaces": [{"name": "eth1", "addresses": ["10.40.2.2/16"]}]}]}`

const pierPolicy = `policy pier language 1
role jump
role charts
allow way-in: 10.40.8.0/24 -> jump : ssh guard
allow hop: jump -> charts : ssh guard
allow site: everywhere -> charts : tcp 8095 knowingly wide-open "charts are public"
expect site-is-there: always jump -> charts : tcp 8095
expect no-way-back: never charts -> jump : ssh
`

var piers atomic.Int64 // made by this process

func newPier(t *testing.T) *pier {
	testbed.Needed(t, "HOSTS ARE NOT TRIED ON A KERNEL")
	dir, err := os.MkdirTemp("", "yfp")
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	p := &pier{T: t, dir: dir, program: filepath.Join(dir, "yfence"), prefix: fmt.Sprintf("yfp%d-%d-", os.Getpid(), piers.Add(1)),
		dsn: testbed.Database(t), hosts: map[string]*testbed.Namespace{}, attending: map[string]*exec.Cmd{}}
	build(t, p.program)
	p.wire, err = testbed.NewNamespace(p.prefix + "wire")
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, p.wire.Close()) })
	require.NoError(t, p.wire.Bridge("quay"))
	require.NoError(t, p.wire.IP("addr add 10.40.0.5/16 dev quay"))
	for name, address := range map[string]string{"jump-01": "10.40.9.1/16", "charts-01": "10.40.2.1/16", "charts-02": "10.40.2.2/16"} {
		ns, err := testbed.NewNamespace(p.prefix + name)
		require.NoError(t, err)
		t.Cleanup(func() { require.NoError(t, ns.Close()) })
		require.NoError(t, ns.Attach(p.wire, "quay", "eth1", address))
		p.hosts[name] = ns
	}
	st, err := store.Open(context.Background(), p.dsn)
	require.NoError(t, err)
	token, err := st.NewToken(context.Background(), "pat", api.Rights, "")
	require.NoError(t, err)
	require.NoError(t, st.Close())
	p.token, p.url = token.Secret, "http://10.40.0.5:8480"
	require.NoError(t, os.WriteFile(filepath.Join(dir, "token"), []byte(p.token), 0o600))
	p.startService()
	t.Cleanup(func() { p.stopService() })
	return p
}

// startService serves inside the wire's network, and for us on loopback.
func (p *pier) startService() {
	st, err := store.Open(context.Background(), p.dsn)
	require.NoError(p, err)
	svc := service.New(service.Options{Store: st, Log: slog.New(slog.DiscardHandler), ReportEvery: time.Minute,
		Prober: p.prober()})
	ctx, cancel := context.WithCancel(context.Background())
	worked := make(chan struct{})
	go func() {
		var work sync.WaitGroup
		work.Go(func() { svc.Follow(ctx) })
		svc.Work(ctx)
		work.Wait()
		close(worked)
	}()
	server := &http.Server{Handler: svc.Handler(), ReadHeaderTimeout: time.Second}
	inside := p.listener()
	ours, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(p, err)
	go func() { _ = server.Serve(inside) }()
	go func() { _ = server.Serve(ours) }()
	p.Client = client.New("http://"+ours.Addr().String(), p.token)
	p.stopService = func() {
		cancel()
		<-worked
		_ = server.Close()
		_ = st.Close()
		p.stopService = func() {}
	}
}

// prober opens connections from the service's place on the wire.
func (p *pier) prober() service.Prober {
	return service.Prober{At: func(at netip.Addr) bool { return at == netip.MustParseAddr("10.40.0.5") },
		Open: func(ctx context.Context, probe api.Probe) (r api.TaskResult) {
			_ = p.wire.Do(func() error { r = agent.Open(ctx, probe); return nil })
			return r
		}}
}

func (p *pier) listener() (l net.Listener) {
	require.NoError(p, p.wire.Do(func() (err error) {
		l, err = net.Listen("tcp", "10.40.0.5:8480")
		return err
	}))
	return l
}

func (p *pier) state(host string) string { return filepath.Join(p.dir, host) }

// run runs the program on a host.
func (p *pier) run(host string, args ...string) (out string, err error) {
	b, err := p.hosts[host].Run(nil, p.program, append(args, "--state", p.state(host))...)
	return string(b), err
}

// operate runs the program as an operator does, with what it prints.
func (p *pier) operate(args ...string) (out string, code int) {
	cmd := exec.Command(p.program, args...)
	cmd.Env = append(os.Environ(), "YFENCE_SERVER="+p.Client.URL(), "YFENCE_TOKEN="+p.token)
	b, _ := cmd.CombinedOutput()
	return string(b), cmd.ProcessState.ExitCode()
}

// attend enrols a host, and has it attend.
func (p *pier) attend(host string) {
	p.Helper()
	e, err := p.NewEnrolment(context.Background(), host)
	require.NoError(p, err)
	file := filepath.Join(p.dir, host+"-once")
	require.NoError(p, os.WriteFile(file, []byte(e.Token+"\n"), 0o600))
	p.start(host, "--enrol", file, "--server", p.url, "--without-tls")
	p.until("it attends", func() bool {
		fl, err := p.Fleet(context.Background())
		require.NoError(p, err)
		for _, h := range fl.Hosts {
			if h.Name == host {
				return h.Attends != nil && h.HeardAt != nil
			}
		}
		return false
	})
}

// start has a host attend, with the capabilities that its unit leaves it.
func (p *pier) start(host string, args ...string) {
	args = append([]string{"--no-new-privs", "--bounding-set=" + capabilities(p.T), p.program, "attend", "--state", p.state(host),
		"--look", "500ms"}, args...)
	cmd := exec.Command("setpriv", args...)
	cmd.Stderr = &lines{t: p.T, prefix: host}
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	require.NoError(p, p.hosts[host].Do(cmd.Start))
	p.attending[host] = cmd
	p.Cleanup(func() { p.kill(host, syscall.SIGTERM) })
}

// capabilities are those that the unit which attends is left, as setpriv takes them.
func capabilities(t *testing.T) string {
	set := regexp.MustCompile(`(?m)^CapabilityBoundingSet=(.*)$`).FindStringSubmatch(inventory.Units("yfence",
		host.StateDir)[inventory.AttendUnit])
	require.NotNil(t, set)
	return "-all," + strings.ToLower(strings.ReplaceAll(strings.ReplaceAll(set[1], " CAP_", ",+"), "CAP_", "+"))
}

// kill ends what attends on a host, with all of its group.
func (p *pier) kill(host string, with syscall.Signal) {
	if cmd := p.attending[host]; cmd != nil {
		_ = syscall.Kill(-cmd.Process.Pid, with)
		_ = cmd.Wait()
		delete(p.attending, host)
	}
}

// lines writes what a process says to the test's log.
type lines struct {
	mu     sync.Mutex
	t      *testing.T
	prefix string
	all    bytes.Buffer
}

func (l *lines) Write(b []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.all.Write(b)
	if os.Getenv("YFENCE_LOUD") != "" {
		fmt.Fprintf(os.Stderr, "%s: %s", l.prefix, b)
	}
	return len(b), nil
}

func (p *pier) until(what string, holds func() bool) {
	p.Helper()
	for deadline := time.Now().Add(30 * time.Second); !holds(); time.Sleep(50 * time.Millisecond) {
		require.True(p, time.Now().Before(deadline), "not in 30 s: %s", what)
	}
}

func (p *pier) publish(policy string, accept ...string) {
	p.Helper()
	_, err := p.Publish(context.Background(),
		api.PublishRequest{Files: []check.Source{{Name: "pier.fence", Text: policy}}, Why: "a test", Accept: accept})
	require.NoError(p, err)
}

func (p *pier) status(host string) api.HostStatus {
	p.Helper()
	fl, err := p.Fleet(context.Background())
	require.NoError(p, err)
	for _, h := range fl.Hosts {
		if h.Name == host {
			return h
		}
	}
	p.Fatalf("there is no %s", host)
	return api.HostStatus{}
}

func (p *pier) listing(host string) string {
	out, err := p.hosts[host].Run(nil, "nft", "list", "ruleset")
	require.NoError(p, err)
	saved, _ := p.hosts[host].Run(nil, "iptables-save")
	if len(saved) > 0 { // the tools of iptables have their own way to say it
		return string(saved)
	}
	return string(out)
}

// begin imports the fleet, publishes the policy, and has all hosts attend.
func (p *pier) begin() {
	_, err := p.Import(context.Background(), api.ImportRequest{File: "fleet.json", Text: pierFleet})
	require.NoError(p, err)
	p.publish(pierPolicy)
	for name := range p.hosts {
		p.attend(name)
	}
}

// keepAtConsole keeps, at a host's console, what it next has in force: a host that no
// other host can reach.
func (p *pier) keepAtConsole(host string) (said <-chan string) {
	kept := make(chan string, 1)
	go func() {
		for {
			out, err := p.run(host, "keep", "--at-console")
			if err == nil {
				kept <- out
				return
			}
			time.Sleep(100 * time.Millisecond)
		}
	}()
	return kept
}

// gate stands between the service and its database, and can be shut.
type gate struct {
	mu    sync.Mutex
	shut  bool
	conns map[net.Conn]bool
}

// through gives a database's address that goes through the gate.
func (g *gate) through(t *testing.T, dsn string) string {
	_, rest, _ := strings.Cut(dsn, "@tcp(")
	address, _, _ := strings.Cut(rest, ")")
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	g.conns = map[net.Conn]bool{}
	go func() {
		for {
			in, err := l.Accept()
			if err != nil {
				return
			}
			out, err := net.Dial("tcp", address)
			if err != nil || !g.let(in, out) {
				_ = in.Close()
				continue
			}
			go func() { _, _ = io.Copy(out, in); _ = out.Close() }()
			go func() { _, _ = io.Copy(in, out); _ = in.Close() }()
		}
	}()
	return strings.Replace(dsn, address, l.Addr().String(), 1)
}

func (g *gate) let(in, out net.Conn) bool {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.shut {
		_ = out.Close()
		return false
	}
	g.conns[in], g.conns[out] = true, true
	return true
}

func (g *gate) set(shut bool) {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.shut = shut
	for c := range g.conns {
		_ = c.Close()
	}
	g.conns = map[net.Conn]bool{}
}
