// Command demo plays Saltmarsh Harbour: its hosts as network namespaces
// with real kernel rules, the service with its console, and four mishaps for
// it to find. Where namespaces are not permitted it plays recorded dumps.
package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"net/http/httptest"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"syscall"
	"time"

	"yellowfence.example/yfence/client"
	"yellowfence.example/yfence/core/fleet"
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

	fleet  *fleet.Fleet
	svc    *client.Client
	url    string
	config string // of the service
	pager  pager
	people *httptest.Server // the identity provider
	sky    string           // where the cloud is

	lock *os.File // held until we end

	// what has to be taken down
	db     *testbed.MariaDB
	wire   *testbed.Namespace
	hosts  map[string]*testbed.Namespace
	gates  []*testbed.Namespace // before instances of the cloud
	serve  []process            // the service, on loopback and for the hosts
	attend []process            // on each host, and the cloud

	listening []func() error // what the harbour serves, to be closed
	quiet     func()         // ends what the harbour's machines say
	sound     time.Time      // before the mishaps happened
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
