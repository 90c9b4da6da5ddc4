package main

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"time"

	"yellowfence.example/yfence/core/dialect/group"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/internal/dunlin"
	"yellowfence.example/yfence/internal/testbed"
)

// sky is the cloud's network on our wire, and its gateways there.
const sky = "sky"

var gateways = []netip.Addr{netip.MustParseAddr("203.0.113.126"), netip.MustParseAddr("2001:db8:c::126")}

// gated puts an instance behind a gate, as a cloud does.
func (d *demo) gated(h *fleet.Host, ns *testbed.Namespace) error {
	gate, err := testbed.NewEnforcer(d.prefix+"gate-"+h.Name, d.wire, sky, ns, h.Interfaces[0].Name, h.Own(), gateways)
	if gate != nil {
		d.gates = append(d.gates, gate)
	}
	return err
}

// inCloud says that a host is an instance that only its groups protect.
func inCloud(h *fleet.Host) bool { return h.Dialect == fleet.NoFilter }

// cloud starts the Dunlin cloud with the fleet's instances, each behind its gate, and
// writes the file that names it to the service. It is quicker than clouds are.
func (d *demo) cloud() (clouds string, err error) {
	token := filepath.Join(d.dir, "dunlin-token")
	if err := os.WriteFile(token, []byte("the account's token\n"), 0o600); err != nil {
		return "", err
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", err
	}
	at := l.Addr().String()
	if err := l.Close(); err != nil { // it listens there itself
		return "", err
	}
	d.sky = "http://" + at
	args := []string{"cloud", "--listen", at, "--token-file", token, "--fleet", filepath.Join(d.policy, "fleet.json"), "--soon", "300ms",
		"--late", "900ms"}
	for _, h := range d.fleet.Hosts {
		if d.wire != nil && inCloud(h) {
			args = append(args, "--gate", h.Instance.ID+"="+d.prefix+"gate-"+h.Name)
		}
	}
	cmd := exec.Command(d.sim, args...)
	log, err := os.Create(filepath.Join(d.dir, "cloud.log"))
	if err != nil {
		return "", err
	}
	defer func() { _ = log.Close() }()
	cmd.Stdout, cmd.Stderr = log, log
	ended, err := testbed.Start(cmd)
	if err != nil {
		return "", err
	}
	d.attend = append(d.attend, process{cmd, ended})
	for deadline := time.Now().Add(10 * time.Second); ; time.Sleep(30 * time.Millisecond) {
		res, err := http.Get(d.sky + "/controls/dump")
		if err == nil {
			_ = res.Body.Close()
			break
		}
		if time.Now().After(deadline) {
			return "", fmt.Errorf("the cloud does not answer; see %s: %w", log.Name(), err)
		}
	}
	clouds = filepath.Join(d.dir, "clouds.json")
	return clouds, os.WriteFile(clouds, fmt.Appendf(nil,
		`{"clouds": [{"name": "dunlin", "kind": "dunlin", "url": %q, "account": "saltmarsh", "token_file": "dunlin-token"}]}`+"\n",
		d.sky), 0o600)
}

// controls does something at the cloud that nobody is told of.
func (d *demo) controls(path string, body any) error {
	text, err := json.Marshal(body)
	if err != nil {
		return err
	}
	res, err := http.Post(d.sky+"/controls"+path, "application/json", bytes.NewReader(text))
	if err != nil {
		return err
	}
	if res.StatusCode/100 != 2 {
		err = fmt.Errorf("the cloud answers %s", res.Status)
	}
	return errors.Join(err, res.Body.Close())
}

// cloudMishaps are what people do at the cloud.
var cloudMishaps = []struct {
	at, what string
	happen   func(*demo) error
}{
	{"charts-cloud-01", "somebody opens its group to all log-ins, at the cloud's own console", func(d *demo) error {
		res, err := http.Get(d.sky + "/controls/dump")
		if err != nil {
			return err
		}
		defer func() { _ = res.Body.Close() }()
		var doc group.Document
		if err := json.NewDecoder(res.Body).Decode(&doc); err != nil {
			return err
		}
		for _, g := range doc.Groups {
			g.Inbound = append(g.Inbound, group.Rule{Service: group.Service{Protocol: "tcp", Ports: "22"},
				Peers: []group.Peer{{Prefix: netip.MustParsePrefix("0.0.0.0/0")}}})
			if err := d.controls("/groups", g); err != nil {
				return err
			}
		}
		return nil
	}},
	{"dunlin-a41d", "a new instance comes up there without a label, in no group", func(d *demo) error {
		return d.controls("/instances", dunlin.Instance{ID: "dunlin-a41d", Addresses: []netip.Addr{netip.MustParseAddr("203.0.113.98")},
			Groups: []string{}})
	}},
}

// cloudMishapsHappen, and are read back.
func (d *demo) cloudMishapsHappen(ctx context.Context) error {
	for _, m := range cloudMishaps {
		fmt.Printf("  %-15s %s\n", m.at, m.what)
		if err := m.happen(d); err != nil {
			return fmt.Errorf("%s: %w", m.at, err)
		}
	}
	for deadline := time.Now().Add(20 * time.Second); ; time.Sleep(100 * time.Millisecond) {
		drift, err := d.svc.Drift(ctx, "")
		if err != nil {
			return err
		}
		if len(drift.Clouds) == 1 && len(drift.Clouds[0].Notes) >= len(cloudMishaps) {
			return nil
		}
		if time.Now().After(deadline) {
			return fmt.Errorf("what happened at the cloud is not noticed: %+v", drift.Clouds)
		}
	}
}
