// Command demo plays Saltmarsh Harbour: its hosts as network namespaces
// with real kernel rules, the service with its console, and four mishaps for
// it to find. Where namespaces are not permitted it plays recorded dumps.
package main

import (
	"bytes"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"flag"
	"fmt"
	"math/big"
	"net"
	"net/http"
	"net/netip"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/internal/api"
	"yellowfence.example/yfence/internal/client"
	"yellowfence.example/yfence/internal/live"
	"yellowfence.example/yfence/internal/testbed"
)

func main() {
	var d demo
	flag.StringVar(&d.program, "program", "bin/yfence", "the program yfence")
	flag.StringVar(&d.sim, "sim", "bin/yfence-sim", "the program yfence-sim")
	flag.StringVar(&d.dir, "dir", "var/demo", "where the demo keeps its database and tokens")
	flag.StringVar(&d.policy, "policy", "demo/saltmarsh", "the policy, with fleet.json in it")
	flag.StringVar(&d.recorded, "recorded", "demo/recorded", "dumps to play where namespaces are not permitted")
	flag.StringVar(&d.record, "record", "", "a folder to write such dumps to")
	flag.BoolVar(&d.play, "play", false, "play the recorded dumps even where namespaces are permitted")
	flag.IntVar(&d.port, "port", 8480, "the console's port on 127.0.0.1; another free one is taken if it is in use")
	flag.StringVar(&d.prefix, "prefix", "yfd-", "what the namespaces' names begin with")
	flag.BoolVar(&d.once, "once", false, "end when everything was shown")
	flag.Parse()
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	err := d.run(ctx)
	if err := errors.Join(err, d.down()); err != nil {
		fmt.Fprintln(os.Stderr, "demo:", err)
		os.Exit(1)
	}
}

type demo struct {
	// set by flags
	program, sim, dir, policy, recorded, record, prefix string
	play, once                                          bool
	port                                                int

	fleet *fleet.Fleet
	svc   *client.Client
	url   string
	sky   string // where the cloud is

	lock *os.File // held until we end

	// what has to be taken down
	db     *testbed.MariaDB
	wire   *testbed.Namespace
	hosts  map[string]*testbed.Namespace
	gates  []*testbed.Namespace // before instances of the cloud
	serve  []process            // the service, on loopback and for the hosts
	attend []process            // on each host, and the cloud
}

// process is one that was started, and where its end is told.
type process struct {
	cmd   *exec.Cmd
	ended <-chan error
}

func (d *demo) run(ctx context.Context) error {
	start := time.Now()
	if err := d.read(); err != nil {
		return err
	}
	why := testbed.Available()
	if d.play {
		why = errors.New("recorded dumps were asked for")
	}
	if why != nil {
		fmt.Printf("No real kernel rules in this demo: %v.\nRecorded dumps are played instead.\n\n", why)
	} else if err := d.up(); err != nil {
		return err
	}
	if err := d.service(ctx); err != nil {
		return err
	}
	if err := d.publish(ctx); err != nil {
		return err
	}
	var err error
	if why != nil {
		err = d.playDumps(ctx)
	} else {
		err = d.live(ctx)
	}
	if err != nil {
		return err
	}
	return d.show(ctx, start)
}

// read reads the fleet file, which says what hosts to build.
func (d *demo) read() error {
	name := filepath.Join(d.policy, "fleet.json")
	data, err := os.ReadFile(name)
	if err != nil {
		return err
	}
	fl, problems := fleet.ReadJSON(name, data)
	if len(problems) > 0 {
		return fmt.Errorf("%s:%d: %s", name, problems[0].Line, problems[0].Message)
	}
	d.fleet = fl
	if err := os.MkdirAll(d.dir, 0o700); err != nil {
		return err
	}
	// One demo at a time: a second would take the first one's namespaces for leftovers.
	if d.lock, err = os.Create(filepath.Join(d.dir, "lock")); err != nil {
		return err
	}
	if err := syscall.Flock(int(d.lock.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		return fmt.Errorf("another demo is running in %s; end it first with Ctrl-C", d.dir)
	}
	return nil
}

// lans are the segments of the harbour: a bridge each, and what the router and
// the service have there.
var lans = []struct {
	bridge    string
	prefix    netip.Prefix
	prefix6   netip.Prefix
	addresses []string
}{
	{"quay", netip.MustParsePrefix("10.40.0.0/16"), netip.MustParsePrefix("fd40::/48"), []string{"10.40.0.5/16", "fd40::5/64"}},
	{"hill", netip.MustParsePrefix("10.60.0.0/16"), netip.MustParsePrefix("fd60::/48"), []string{"10.60.0.5/16", "fd60::5/64"}},
	{sky, netip.MustParsePrefix("203.0.113.96/27"), netip.MustParsePrefix("2001:db8:c::/64"), []string{"203.0.113.126/27", "2001:db8:c::126/64"}},
	{"front", netip.MustParsePrefix("203.0.113.64/28"), netip.MustParsePrefix("2001:db8:1::/64"), []string{"203.0.113.78/28", "2001:db8:1::78/64"}},
}

// up builds the harbour: a bridge per segment, a namespace per host.
func (d *demo) up() error {
	fmt.Printf("Building %d hosts as network namespaces ...\n", len(d.fleet.Hosts))
	if err := testbed.Remove(d.prefix); err != nil { // of a demo that was killed
		return err
	}
	var err error
	if d.wire, err = testbed.NewNamespace(d.prefix + "wire"); err != nil {
		return err
	}
	if err := d.wire.Sysctl("ipv4/ip_forward=1", "ipv6/conf/all/forwarding=1"); err != nil {
		return err
	}
	for _, lan := range lans {
		if err := d.wire.Bridge(lan.bridge); err != nil {
			return err
		}
		for _, a := range lan.addresses {
			nodad := ""
			if strings.Contains(a, ":") {
				nodad = " nodad"
			}
			if err := d.wire.IP("addr add " + a + " dev " + lan.bridge + nodad); err != nil {
				return err
			}
		}
	}
	d.hosts = map[string]*testbed.Namespace{}
	defer func() {
		if ns := d.hosts[legacy]; ns != nil {
			if _, err := ns.Run([]byte(oldRules), "iptables-legacy-restore"); err != nil {
				fmt.Printf("%s has rules of the newer tools: %v\n", legacy, err) // a kernel without the legacy tables
			}
		}
	}()
	for _, h := range d.fleet.Hosts {
		ns, err := testbed.NewNamespace(d.prefix + h.Name)
		if err != nil {
			return err
		}
		d.hosts[h.Name] = ns
		if inCloud(h) {
			if err := d.gated(h, ns); err != nil {
				return err
			}
			continue
		}
		for _, i := range h.Interfaces {
			var addresses []string
			for _, p := range i.Addresses {
				addresses = append(addresses, p.String())
			}
			for _, lan := range lans {
				if lan.prefix.Contains(i.Addresses[0].Addr()) {
					if err := ns.Attach(d.wire, lan.bridge, i.Name, addresses...); err != nil {
						return err
					}
					// The way to the service, for hosts of the other site.
					gateway, _, _ := strings.Cut(lan.addresses[0], "/")
					_ = ns.IP("route add default via " + gateway) // the first interface has it
					gateway, _, _ = strings.Cut(lan.addresses[1], "/")
					_ = ns.IP("route add default via " + gateway)
				}
			}
		}
	}
	return nil
}

// service starts MariaDB and the service: once on loopback for the console, and once
// inside the harbour for the hosts.
func (d *demo) service(ctx context.Context) error {
	fmt.Println("Starting MariaDB and the service ...")
	var err error
	if d.db, err = testbed.StartMariaDB(filepath.Join(d.dir, "mariadb")); err != nil {
		return err
	}
	if err := d.db.Create("yfence_demo"); err != nil {
		return err
	}
	console, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", d.port))
	if err != nil {
		if console, err = net.Listen("tcp", "127.0.0.1:0"); err != nil {
			return err
		}
	}
	d.url = "http://" + console.Addr().String()
	first := filepath.Join(d.dir, "token")
	log, err := os.Create(filepath.Join(d.dir, "service.log"))
	if err != nil {
		return err
	}
	clouds, err := d.cloud()
	if err != nil {
		return err
	}
	if err := d.startService(console, log, "--first-token", first, "--clouds", clouds, "--clouds-every", "2s"); err != nil {
		return err
	}
	for deadline := time.Now().Add(20 * time.Second); ; time.Sleep(30 * time.Millisecond) {
		res, err := http.Get(d.url + "/readyz")
		if err == nil {
			_ = res.Body.Close()
			if res.StatusCode == http.StatusOK {
				break
			}
			err = fmt.Errorf("it says %s", res.Status)
		}
		if time.Now().After(deadline) || ctx.Err() != nil {
			return fmt.Errorf("the service does not answer; see %s: %w", log.Name(), err)
		}
	}
	token, err := os.ReadFile(first)
	if err != nil {
		return err
	}
	d.svc = client.New(d.url, strings.TrimSpace(string(token)))
	if d.wire == nil {
		return nil
	}
	// A second service on the same database, for the hosts: over TLS.
	if err := certify(d.dir, d.fleet.Service.Addresses); err != nil {
		return err
	}
	var wire net.Listener
	if err := d.wire.Do(func() (err error) {
		wire, err = net.Listen("tcp", fmt.Sprintf("%s:%d", d.fleet.Service.Addresses[0], d.fleet.Service.Port))
		return err
	}); err != nil {
		return err
	}
	return d.startService(wire, log, "--tls-cert", filepath.Join(d.dir, "service.pem"), "--tls-key", filepath.Join(d.dir, "service.key"))
}

// startService starts a service on a socket.
func (d *demo) startService(l net.Listener, log *os.File, args ...string) error {
	cmd := exec.Command(d.program, append([]string{"serve", "--log-errors"}, args...)...)
	cmd.Env = append(os.Environ(), "YFENCE_DATABASE="+d.db.DSN("yfence_demo"), "LISTEN_FDS=1")
	file, err := l.(*net.TCPListener).File()
	if err != nil {
		return err
	}
	cmd.ExtraFiles = []*os.File{file}
	cmd.Stdout, cmd.Stderr = log, log
	ended, err := testbed.Start(cmd)
	if err != nil {
		return err
	}
	d.serve = append(d.serve, process{cmd, ended})
	return errors.Join(file.Close(), l.Close())
}

// certify makes an authority of the harbour's own, and a certificate for its service.
func certify(dir string, addresses []netip.Addr) error {
	write := func(name, kind string, der []byte) error {
		return os.WriteFile(filepath.Join(dir, name), pem.EncodeToMemory(&pem.Block{Type: kind, Bytes: der}), 0o600)
	}
	caKey, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return err
	}
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return err
	}
	from, until := time.Now().Add(-time.Hour), time.Now().AddDate(1, 0, 0)
	ca := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "Saltmarsh Harbour"}, NotBefore: from, NotAfter: until, IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign}
	server := &x509.Certificate{SerialNumber: big.NewInt(2), Subject: pkix.Name{CommonName: "fence"}, NotBefore: from, NotAfter: until, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}
	for _, a := range addresses {
		server.IPAddresses = append(server.IPAddresses, a.AsSlice())
	}
	caDER, err := x509.CreateCertificate(rand.Reader, ca, ca, &caKey.PublicKey, caKey)
	if err != nil {
		return err
	}
	der, err := x509.CreateCertificate(rand.Reader, server, ca, &key.PublicKey, caKey)
	if err != nil {
		return err
	}
	keyDER, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return err
	}
	return errors.Join(write("ca.pem", "CERTIFICATE", caDER), write("service.pem", "CERTIFICATE", der), write("service.key", "PRIVATE KEY", keyDER))
}

func (d *demo) publish(ctx context.Context) error {
	name := filepath.Join(d.policy, "fleet.json")
	data, err := os.ReadFile(name)
	if err != nil {
		return err
	}
	if _, err := d.svc.Import(ctx, api.ImportRequest{File: "fleet.json", Text: string(data), Why: "the harbour as it stands"}); err != nil {
		return err
	}
	return d.operate(ctx, 0, "publish", "--policy", d.policy, "-m", "first policy of the harbour", "--yes")
}

// operate runs the program as an operator would, who sees what it prints, and expects
// an exit code.
func (d *demo) operate(ctx context.Context, code int, args ...string) error {
	cmd := exec.CommandContext(ctx, d.program, args...)
	cmd.Env = append(os.Environ(), "YFENCE_SERVER="+d.url, "YFENCE_TOKEN=")
	cmd.Args = append(cmd.Args, "--token-file", filepath.Join(d.dir, "token"))
	cmd.Stdout, cmd.Stderr = os.Stdout, os.Stderr
	var exit *exec.ExitError
	if err := cmd.Run(); err != nil && !errors.As(err, &exit) {
		return err
	}
	if got := cmd.ProcessState.ExitCode(); got != code {
		return fmt.Errorf("yfence %s ended with %d, not with %d", args[0], got, code)
	}
	return nil
}

// each does something on all hosts, two at a time.
func (d *demo) each(f func(name string) error) error {
	var mu sync.Mutex
	var wg sync.WaitGroup
	var all error
	slots := make(chan struct{}, 2)
	for _, h := range d.fleet.Hosts {
		if inCloud(h) {
			continue
		}
		wg.Add(1)
		go func() {
			defer wg.Done()
			slots <- struct{}{}
			err := f(h.Name)
			<-slots
			if err != nil {
				mu.Lock()
				all = errors.Join(all, fmt.Errorf("%s: %w", h.Name, err))
				mu.Unlock()
			}
		}()
	}
	wg.Wait()
	return all
}

// yfence runs the program on a host, as its operator would.
func (d *demo) yfence(name string, args ...string) ([]byte, error) {
	program, err := filepath.Abs(d.program)
	if err != nil {
		return nil, err
	}
	return d.hosts[name].Run(nil, program, append(args, "--state", d.stateOf(name))...)
}

// stateOf is the folder of what a host keeps.
func (d *demo) stateOf(name string) string { return filepath.Join(d.dir, "host-"+name) }

// enrol gives every host a token of its own, and has it attend.
func (d *demo) enrol(ctx context.Context) error {
	fmt.Println("Enrolling the hosts; yfence attend runs on each ...")
	program, err := filepath.Abs(d.program)
	if err != nil {
		return err
	}
	ca, err := filepath.Abs(filepath.Join(d.dir, "ca.pem"))
	if err != nil {
		return err
	}
	server := fmt.Sprintf("https://%s:%d", d.fleet.Service.Addresses[0], d.fleet.Service.Port)
	for _, h := range d.fleet.Hosts {
		if inCloud(h) {
			continue
		}
		if err := os.RemoveAll(d.stateOf(h.Name)); err != nil { // of a demo before
			return err
		}
		once, err := d.svc.NewEnrolment(ctx, h.Name)
		if err != nil {
			return err
		}
		file := filepath.Join(d.dir, "once-"+h.Name)
		if err := os.WriteFile(file, []byte(once.Token+"\n"), 0o600); err != nil {
			return err
		}
		log, err := os.Create(filepath.Join(d.dir, "attend-"+h.Name+".log"))
		if err != nil {
			return err
		}
		cmd := exec.Command(program, "attend", "--enrol", file, "--server", server, "--ca-file", ca, "--state", d.stateOf(h.Name), "--every", "1m", "--look", "2s")
		cmd.Stderr = log
		ended, err := d.hosts[h.Name].Start(cmd)
		if err != nil {
			return err
		}
		_ = log.Close()
		d.attend = append(d.attend, process{cmd, ended})
	}
	return d.until(ctx, "all hosts attend", func(h api.HostStatus) bool { return h.Attends != nil && h.HeardAt != nil })
}

// until waits until something holds of all hosts.
func (d *demo) until(ctx context.Context, what string, holds func(api.HostStatus) bool) error {
	for deadline := time.Now().Add(40 * time.Second); ; time.Sleep(100 * time.Millisecond) {
		fl, err := d.svc.Fleet(ctx)
		if err != nil {
			return err
		}
		late := slices.IndexFunc(fl.Hosts, func(h api.HostStatus) bool { return h.Dialect != fleet.NoFilter && !holds(h) })
		if late < 0 {
			return nil
		}
		if time.Now().After(deadline) {
			return fmt.Errorf("%s: %s does not (%s); see %s", what, fl.Hosts[late].Name, fl.Hosts[late].State, filepath.Join(d.dir, "attend-"+fl.Hosts[late].Name+".log"))
		}
	}
}

// wave puts what is published in force on all hosts. No other host may log in to the
// jump host, so that somebody keeps it at its console.
func (d *demo) wave(ctx context.Context, args ...string) error {
	ctx, cancel := context.WithCancel(ctx)
	kept := make(chan struct{})
	go func() {
		defer close(kept)
		for ctx.Err() == nil {
			if _, err := d.yfence("jump-01", "keep", "--at-console"); err == nil {
				return
			}
			time.Sleep(200 * time.Millisecond)
		}
	}()
	err := d.operate(ctx, 0, append([]string{"waves", "start"}, args...)...)
	cancel()
	<-kept
	return err
}

// live settles all hosts in waves, has a policy go back that locks everybody out, lets
// the mishaps happen, and has the hosts report.
func (d *demo) live(ctx context.Context) error {
	if err := d.enrol(ctx); err != nil {
		return err
	}
	fmt.Println("\n$ yfence waves start          # real rules in real kernels, a few hosts at first")
	if err := d.wave(ctx); err != nil {
		return err
	}
	if err := d.probe(); err != nil {
		return err
	}
	if err := d.lockOut(ctx); err != nil {
		return err
	}
	fmt.Println("Mishaps happen:")
	for _, m := range mishaps {
		fmt.Printf("  %-15s %s\n", m.host, m.what)
		if err := m.happen(d.hosts[m.host]); err != nil {
			return fmt.Errorf("%s: %w", m.host, err)
		}
	}
	if err := d.cloudMishapsHappen(ctx); err != nil {
		return err
	}
	if d.record != "" {
		if err := os.MkdirAll(d.record, 0o755); err != nil {
			return err
		}
	}
	return d.each(func(name string) error {
		report, err := d.yfence(name, "report", "--print")
		if err != nil {
			return err
		}
		if d.record != "" {
			if err := os.WriteFile(filepath.Join(d.record, name+".json"), report, 0o644); err != nil {
				return err
			}
		}
		if name != cutOff {
			_, err := d.yfence(name, "report")
			return err
		}
		// No answer of the service's gets in there any more: the report is
		// printed at the host's console and sent from elsewhere.
		send := exec.CommandContext(ctx, d.program, "report", "--from", "-", "--server", d.url, "--token-file", filepath.Join(d.dir, "token"))
		send.Stdin = bytes.NewReader(report)
		return send.Run()
	})
}

// probes are connections tried between hosts, one of each kind of filter.
var probes = []struct {
	from, to string // a host, and the interface of the other
	port     int
}{
	{"jump-01", "eth1", 22}, {"watch-01", "eth1", 9417}, {"broker-01", "eth1", 8883}, {"pilotage-01", "eth0", 443},
	{"pilotage-01", "eth1", 22}, {"beacon-01", "eth1", 9417}, {"beacon-01", "eth1", 8883}, {"lockgate-01", "eth1", 5432},
}

// kinds are the hosts of one role that have each another filter,
// and what the tools of iptables make its rules of.
var kinds = []struct{ host, filter string }{{"charts-01", "nft"}, {legacy, "legacy"}, {"charts-03", "nft-backed"}, {"charts-cloud-01", "cloud groups"}}

// probe opens real connections to a host of each kind: the same pass, whatever
// form the policy took there.
func (d *demo) probe() error {
	fmt.Printf("\nThe same connections, tried on hosts of one role and each another filter:\n  %-24s", "")
	width := func(i int) int { return max(len(kinds[i].host), len(kinds[i].filter)) }
	for i, k := range kinds {
		fmt.Printf("  %-*s", width(i), k.host)
	}
	fmt.Printf("\n  %-24s", "")
	for i, k := range kinds {
		fmt.Printf("  %-*s", width(i), k.filter)
	}
	fmt.Println()
	for _, p := range probes {
		fmt.Printf("  %-24s", fmt.Sprintf("%s -> tcp %d", p.from, p.port))
		first := ""
		for i, k := range kinds {
			passes, err := d.connects(p.from, k.host, p.to, p.port)
			if err != nil {
				return err
			}
			said := map[bool]string{true: "passes", false: "refused"}[passes]
			fmt.Printf("  %-*s", width(i), said)
			if first == "" {
				first = said
			}
			if said != first {
				return fmt.Errorf("%s %s what %s does not", k.host, said, kinds[0].host)
			}
		}
		fmt.Println()
	}
	fmt.Println()
	return nil
}

// connects opens a port on one host and tries it from another.
func (d *demo) connects(from, to, iface string, port int) (passes bool, err error) {
	var address string
	for _, i := range d.fleet.Host(to).Interfaces {
		if i.Name == iface || inCloud(d.fleet.Host(to)) {
			address = fmt.Sprintf("%s:%d", i.Addresses[0].Addr(), port)
		}
	}
	var listener net.Listener
	listen := func() (err error) {
		listener, err = net.Listen("tcp", address)
		return err
	}
	// What a wave tries it listens for as well, for as long as somebody may come: the port is free soon.
	for deadline := time.Now().Add(20 * time.Second); ; time.Sleep(100 * time.Millisecond) {
		if err := d.hosts[to].Do(listen); err == nil {
			break
		} else if !errors.Is(err, syscall.EADDRINUSE) || time.Now().After(deadline) {
			return false, err
		}
	}
	defer func() { _ = listener.Close() }()
	err = d.hosts[from].Do(func() error {
		c, err := net.DialTimeout("tcp", address, 150*time.Millisecond)
		if passes = err == nil; passes {
			_ = c.Close()
		}
		return nil
	})
	return passes, err
}

// playDumps sends recorded reports in the hosts' stead.
func (d *demo) playDumps(ctx context.Context) error {
	for _, m := range mishaps {
		fmt.Printf("  %-15s %s\n", m.host, m.what)
	}
	if err := d.operate(ctx, 0, "waves", "start", "charts-cloud-01"); err != nil { // the cloud is there all the same
		return err
	}
	if err := d.cloudMishapsHappen(ctx); err != nil {
		return err
	}
	return d.each(func(name string) error {
		recorded, err := os.ReadFile(filepath.Join(d.recorded, name+".json"))
		if err != nil {
			return err
		}
		if _, err := d.svc.Settle(ctx, name); err != nil {
			return err
		}
		_, err = d.svc.Report(ctx, api.Report{Version: api.Version, Host: name, TakenAt: time.Now().UTC(), InForce: live.Sniff(name, recorded)})
		return err
	})
}

// show prints what the service found, and waits.
func (d *demo) show(ctx context.Context, start time.Time) error {
	fmt.Printf("\n$ yfence drift\n")
	drift := exec.CommandContext(ctx, d.program, "drift", "--server", d.url, "--token-file", filepath.Join(d.dir, "token"))
	drift.Stdout, drift.Stderr = os.Stdout, os.Stderr
	var exit *exec.ExitError
	if err := drift.Run(); err != nil && (!errors.As(err, &exit) || exit.ExitCode() != 1) {
		return err
	}
	token, err := os.ReadFile(filepath.Join(d.dir, "token"))
	if err != nil {
		return err
	}
	fmt.Printf("\nUp after %.1f s. The console is at\n\n    %s\n\nSign in with the token\n\n    %s\n", time.Since(start).Seconds(), d.url, strings.TrimSpace(string(token)))
	if d.hosts != nil {
		fmt.Printf("\nTry a mishap of your own; the host reports it by itself, and the console shows it:\n\n    ip netns exec %scharts-01 nft add rule inet yellowfence inbound tcp dport 8081 accept\n\nAnd put it right again:\n\n    export YFENCE_SERVER=%s YFENCE_TOKEN=$(cat %s)\n    %s waves start charts-01\n",
			d.prefix, d.url, filepath.Join(d.dir, "token"), d.program)
	}
	if d.once {
		return nil
	}
	fmt.Println("\nCtrl-C ends the demo and takes everything down.")
	<-ctx.Done()
	fmt.Println()
	return nil
}

// down takes everything down that run has put up, as far as it got.
func (d *demo) down() error {
	var all error
	for _, p := range d.attend {
		_ = p.cmd.Process.Signal(syscall.SIGTERM)
	}
	for _, p := range d.attend {
		<-p.ended
	}
	for _, p := range d.serve {
		all = errors.Join(all, p.cmd.Process.Signal(syscall.SIGTERM))
		if err := <-p.ended; err != nil {
			all = errors.Join(all, fmt.Errorf("the service ended with %w", err))
		}
	}
	if d.db != nil {
		all = errors.Join(all, d.db.Stop())
	}
	for _, ns := range d.hosts {
		all = errors.Join(all, ns.Close())
	}
	for _, ns := range d.gates {
		all = errors.Join(all, ns.Close())
	}
	if d.wire != nil {
		all = errors.Join(all, d.wire.Close())
	}
	return all
}
