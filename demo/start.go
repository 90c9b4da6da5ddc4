package main

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"math/big"
	"net"
	"net/http"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"yellowfence.example/yfence/client"
	"yellowfence.example/yfence/internal/testbed"
)

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
	{sky, netip.MustParsePrefix("203.0.113.96/27"), netip.MustParsePrefix("2001:db8:c::/64"),
		[]string{"203.0.113.126/27", "2001:db8:c::126/64"}},
	{"front", netip.MustParsePrefix("203.0.113.64/28"), netip.MustParsePrefix("2001:db8:1::/64"),
		[]string{"203.0.113.78/28", "2001:db8:1::78/64"}},
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
	d.config = filepath.Join(d.dir, "service.yaml")
	if err := os.WriteFile(d.config, []byte(approvals+d.pager.listen()+d.signIns()), 0o600); err != nil {
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
	cmd := exec.Command(d.program, append([]string{"serve", "--log-errors", "--config", d.config}, args...)...)
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
	ca := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "Saltmarsh Harbour"}, NotBefore: from,
		NotAfter: until, IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign}
	server := &x509.Certificate{SerialNumber: big.NewInt(2), Subject: pkix.Name{CommonName: "fence"}, NotBefore: from, NotAfter: until,
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}
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
	return errors.Join(write("ca.pem", "CERTIFICATE", caDER), write("service.pem", "CERTIFICATE", der),
		write("service.key", "PRIVATE KEY", keyDER))
}

// down takes everything down that run has put up, as far as it got.
func (d *demo) down() error {
	var all error
	if d.quiet != nil {
		d.quiet()
	}
	if d.pager.server != nil {
		defer d.pager.server.Close()
		defer d.people.Close()
	}
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
