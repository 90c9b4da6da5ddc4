package chaos

import (
	"context"
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/client"
	"yellowfence.example/yfence/core/check"
	"yellowfence.example/yfence/internal/store"
	"yellowfence.example/yfence/internal/testbed"
)

const clients = 8

// harbour is what is disturbed: two services on one database, and hosts that attend to both.
type harbour struct {
	*testing.T
	dir, program string
	db           *testbed.MariaDB
	wire         *testbed.Namespace
	hosts        map[string]*testbed.Namespace
	inside       *os.File // the socket at which hosts find the services; both answer there
	services     [2]*server
	agents       map[string]*exec.Cmd
	token        string

	config string // of the services
	told   told
	killed struct{ services, databases int }

	model model
}

// told is what somebody was told of events, by their ids.
type told struct {
	mu    sync.Mutex
	times map[string]int
}

// listen is where events are delivered to. It says no to one in ten.
func (h *harbour) listen() {
	h.told.times = map[string]int{}
	n := 0
	sink := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		var e struct{ ID string }
		err := json.NewDecoder(r.Body).Decode(&e)
		h.told.mu.Lock()
		defer h.told.mu.Unlock()
		if n++; err != nil || n%10 == 0 {
			w.WriteHeader(http.StatusServiceUnavailable)
			return
		}
		h.told.times[e.ID]++
	}))
	h.Cleanup(sink.Close)
	h.config = filepath.Join(h.dir, "service.yaml")
	require.NoError(h, os.WriteFile(h.config, []byte("events:\n  - {name: sink, url: \""+sink.URL+"\", internal: true}\n"), 0o600))
}

type server struct {
	url    string
	socket *os.File
	cmd    *exec.Cmd
}

// model is what was acknowledged.
type model struct {
	mu        sync.Mutex
	published map[string]int64 // revisions by their reasons
	imported  map[string]int64
	tokens    map[string]bool // secrets, and whether they are in force still
	unsure    map[string]bool // secrets that may have been revoked
	reported  map[string]string
	calls     int
	failed    int
}

const realHosts = 3

func fleetText(extra int) string {
	all := []string{
		`{"name": "jump-01", "roles": ["jump"], "dialect": "nft", "own_console": true, "interfaces": [{"name": "eth1", "addresses": ` +
			`["10.40.9.1/16"]}]}`,
		`{"name": "charts-01", "roles": ["charts"], "dialect": "nft", "interfaces": [{"name": "eth1", "addresses": ["10.40.2.1/16"]}]}`,
		`{"name": "charts-02", "roles": ["charts"], "dialect": "iptables", "interfaces": [{"name": "eth1", "addresses": ` +
			`["10.40.2.2/16"]}]}`,
	}
	for n := range clients {
		all = append(all, fmt.Sprintf(`{"name": "load-%d", "roles": ["charts"], "dialect": "nft", "interfaces": [{"name": "eth1", `+
			`"addresses": ["10.40.3.%d/16"]}]}`, n, n+1))
	}
	all = append(all, fmt.Sprintf(`{"name": "extra", "roles": ["charts"], "dialect": "nft", "interfaces": [{"name": "eth1", "addresses": `+
		`["10.40.4.%d/16"]}]}`, extra%250+1))
	return `{"service": {"addresses": ["10.40.0.5"], "port": 8480}, "hosts": [` + strings.Join(all, ",\n") + `]}`
}

// policyText is a policy that admits a port of its own: what a host has in force tells which it is.
func policyText(port int) string {
	return fmt.Sprintf("policy chaos language 1\nrole jump\nrole charts\nallow way-in: 10.40.8.0/24 -> jump : ssh guard\nallow hop: jump "+
		"-> charts : ssh guard\nallow mark: 10.40.8.0/24 -> fleet : tcp %d\n", port)
}

func newHarbour(t *testing.T) *harbour {
	dir, err := os.MkdirTemp("", "yfx")
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	h := &harbour{T: t, dir: dir, program: filepath.Join(dir, "yfence"), hosts: map[string]*testbed.Namespace{},
		agents: map[string]*exec.Cmd{},
		model: model{published: map[string]int64{}, imported: map[string]int64{}, tokens: map[string]bool{}, unsure: map[string]bool{},
			reported: map[string]string{}}}
	out, err := exec.Command("go", "build", "-o", h.program, "../../cmd/yfence").CombinedOutput()
	require.NoError(t, err, "%s", out)
	h.listen()
	h.db, err = testbed.StartMariaDB(filepath.Join(dir, "db"))
	require.NoError(t, err)
	t.Cleanup(func() { _ = h.db.Signal(syscall.SIGCONT); _ = h.db.Stop() })
	require.NoError(t, h.db.Create("yfence"))
	prefix := fmt.Sprintf("yfx%d-", os.Getpid())
	space := func(name string) *testbed.Namespace {
		ns, err := testbed.NewNamespace(prefix + name)
		require.NoError(t, err)
		t.Cleanup(func() { _ = ns.Close() })
		return ns
	}
	h.wire = space("wire")
	require.NoError(t, h.wire.Bridge("quay"))
	require.NoError(t, h.wire.IP("addr add 10.40.0.5/16 dev quay"))
	for name, address := range map[string]string{"jump-01": "10.40.9.1/16", "charts-01": "10.40.2.1/16", "charts-02": "10.40.2.2/16"} {
		h.hosts[name] = space(name)
		require.NoError(t, h.hosts[name].Attach(h.wire, "quay", "eth1", address))
	}
	require.NoError(t, h.wire.Do(func() (err error) { h.inside, err = socket("10.40.0.5:8480"); return err }))
	for n := range h.services {
		file, err := socket("127.0.0.1:0")
		require.NoError(t, err)
		l, err := net.FileListener(file)
		require.NoError(t, err)
		h.services[n] = &server{url: "http://" + l.Addr().String(), socket: file}
		require.NoError(t, l.Close())
		h.serve(n)
	}
	st, err := store.Open(context.Background(), h.db.DSN("yfence"))
	require.NoError(t, err)
	token, err := st.NewToken(context.Background(), "pat", api.Rights, "")
	require.NoError(t, err)
	require.NoError(t, st.Close())
	h.token = token.Secret
	h.ready()
	pat := h.client(0)
	_, err = pat.Import(context.Background(), api.ImportRequest{File: "fleet.json", Text: fleetText(0), Why: "first"})
	require.NoError(t, err)
	_, err = pat.Publish(context.Background(),
		api.PublishRequest{Files: []check.Source{{Name: "p.fence", Text: policyText(20000)}}, Why: "first"})
	require.NoError(t, err)
	for name := range h.hosts {
		e, err := pat.NewEnrolment(context.Background(), name)
		require.NoError(t, err)
		file := filepath.Join(dir, name+"-once")
		require.NoError(t, os.WriteFile(file, []byte(e.Token), 0o600))
		h.attend(name, "--enrol", file, "--server", "http://10.40.0.5:8480", "--without-tls")
		h.until("the host "+name+" is enrolled",
			func() bool { _, err := os.Stat(filepath.Join(h.state(name), "identity.json")); return err == nil })
	}
	return h
}

func (h *harbour) state(name string) string { return filepath.Join(h.dir, name) }

func (h *harbour) client(n int) *client.Client { return client.New(h.services[n].url, h.token) }

func (h *harbour) serve(n int) {
	s := h.services[n]
	s.cmd = exec.Command(h.program, "serve", "--log-errors", "--report-every", "2s", "--config", h.config)
	s.cmd.Env = append(os.Environ(), "YFENCE_DATABASE="+h.db.DSN("yfence"), "LISTEN_FDS=2")
	s.cmd.ExtraFiles = []*os.File{s.socket, h.inside}
	log, err := os.OpenFile(filepath.Join(h.dir, fmt.Sprintf("service-%d.log", n)), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	require.NoError(h, err)
	s.cmd.Stderr = log
	require.NoError(h, s.cmd.Start())
	h.Cleanup(func() { _ = s.cmd.Process.Kill(); _ = s.cmd.Wait() })
}

func (h *harbour) attend(name string, args ...string) {
	cmd := exec.Command(h.program, append([]string{"attend", "--state", h.state(name), "--look", "500ms"}, args...)...)
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	log, err := os.OpenFile(filepath.Join(h.dir, name+".log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	require.NoError(h, err)
	cmd.Stderr = log
	require.NoError(h, h.hosts[name].Do(cmd.Start))
	h.agents[name] = cmd
	h.Cleanup(func() { _ = syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) })
}

func (h *harbour) until(what string, holds func() bool) {
	h.Helper()
	for deadline := time.Now().Add(90 * time.Second); !holds(); time.Sleep(100 * time.Millisecond) {
		if time.Now().After(deadline) {
			logs, _ := exec.Command("sh", "-c", "tail -n 15 "+h.dir+"/*.log").CombinedOutput()
			require.Fail(h, "not in 90 s: "+what, "%s", logs)
		}
	}
}

// ready waits until both services do what they are for.
func (h *harbour) ready() {
	for _, s := range h.services {
		h.until("a service is ready", func() bool {
			res, err := http.Get(s.url + "/readyz")
			if err != nil {
				return false
			}
			_ = res.Body.Close()
			return res.StatusCode == http.StatusOK
		})
	}
}

func (s *server) signal(with syscall.Signal) error { return s.cmd.Process.Signal(with) }

// processes are those of ours that are at work in a state folder, by their commands.
func processes(dir string, commands ...string) (pids []int) {
	all, _ := filepath.Glob("/proc/[0-9]*/cmdline")
	for _, name := range all {
		line, _ := os.ReadFile(name)
		args := strings.Split(string(line), "\x00")
		for _, c := range commands {
			if len(args) > 2 && args[1] == c && strings.Contains(string(line), "\x00"+dir+"\x00") {
				pid, _ := strconv.Atoi(strings.Split(name, "/")[2])
				pids = append(pids, pid)
			}
		}
	}
	return pids
}
