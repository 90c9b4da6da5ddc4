package cli

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os"
	"os/signal"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"yellowfence.example/yfence/internal/service"
	"yellowfence.example/yfence/internal/store"
)

// serveFlags are the options of serve.
type serveFlags struct {
	config             string
	listen             []string
	metrics            string
	databaseFile       string
	cert, key          string
	firstToken         string
	clouds             string
	cloudsEvery        time.Duration
	reportEvery        time.Duration
	maxPause           time.Duration
	whole              bool
	follow             string
	keep, keepDaily    string
	databaseCA, traces string
	sealKey            string
	logJSON, logErrors bool
}

// serveCommand makes `yfence serve`.
func (a *app) serveCommand() *cobra.Command {
	var f serveFlags
	c := &cobra.Command{
		Use:   "serve",
		Short: "Run the service with its console",
		Long: `Serve runs the service: the API under /api/v1, and the console for a browser. It
listens on loopback unless told otherwise, and on sockets it is handed (LISTEN_FDS).

Its memory is a MariaDB database, named in a file or in YFENCE_DATABASE as
USER:PASSWORD@tcp(ADDRESS:PORT)/NAME, or USER@unix(SOCKET)/NAME. Any number of
services may share one. SIGHUP has certificate and configuration read again.`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			// Only here: every other command just ends when it is told to.
			ctx, stop := signal.NotifyContext(cmd.Context(), os.Interrupt, syscall.SIGTERM)
			defer stop()
			again := a.readsAgain(cmd.LocalNonPersistentFlags())
			config, was, err := a.configured(cmd.LocalNonPersistentFlags(), f.config)
			if err != nil {
				return err
			}
			return a.serve(ctx, f, config, &reloading{again, was})
		},
	}
	f.of(c)
	return c
}

// of adds them to a command.
func (f *serveFlags) of(c *cobra.Command) {
	c.Flags().StringVar(&f.config, "config", "", "a file with settings: the options below, without dashes, and which changes need approval")
	c.Flags().StringArrayVar(&f.listen, "listen", []string{"127.0.0.1:8480"}, "address and port; may be given several times")
	c.Flags().StringVar(&f.metrics, "metrics-listen", "", "address and port at which figures are told without a token, for Prometheus")
	c.Flags().StringVar(&f.databaseFile, "database-file", "", "a file that names the database (else YFENCE_DATABASE)")
	c.Flags().StringVar(&f.cert, "tls-cert", "", "a file with the certificate; with it the service speaks TLS")
	c.Flags().StringVar(&f.key, "tls-key", "", "a file with the certificate's key")
	c.Flags().StringVar(&f.firstToken, "first-token", "", "a file to write a token with all rights to, if there is no token yet")
	lengthVar(c, &f.reportEvery, "report-every", 5*time.Minute, "how often hosts report; three times that without one and a host is silent")
	lengthVar(c, &f.maxPause, "max-pause", 24*time.Hour, "how long a host's filter may be paused at most")
	c.Flags().BoolVar(&f.whole, "whole-strangers", false,
		"keep the addresses of strangers whose connections hosts saw, not their prefixes alone")
	c.Flags().StringVar(&f.follow, "follow", "on",
		"on: what hosts and clouds tell is settled by waves of its own, with the same undo as any; off: hosts stay behind until a "+
			"person's wave")
	c.Flags().StringVar(&f.keep, "keep", "90d", "for how long earlier reports of hosts are kept, as 90d or 36h; the newest of each stay")
	c.Flags().StringVar(&f.keepDaily, "keep-daily", "730d", "for how long after that the last report of each day is kept, counted from "+
		"now too")
	c.Flags().StringVar(&f.databaseCA, "database-ca", "",
		"certificates of the authorities that stand for the database, a file; with it the connection is encrypted")
	c.Flags().StringVar(&f.traces, "traces", "",
		"where traces of requests go, as OpenTelemetry has them (OTLP over HTTP): https://traces.example:4318; nowhere if it is not said")
	c.Flags().StringVar(&f.sealKey, "seal-key", "",
		"a file with the key that the signing keys in the database are encrypted with; it is made if it is not there, and all services "+
			"on the database need the same")
	c.Flags().StringVar(&f.clouds, "clouds", "", "a file that names the clouds whose groups the service looks after")
	lengthVar(c, &f.cloudsEvery, "clouds-every", 30*time.Second, "how often the groups of clouds are read back")
	c.Flags().BoolVar(&f.logJSON, "log-json", false, "write the log as JSON")
	c.Flags().BoolVar(&f.logErrors, "log-errors", false, "write errors only to the log")
}

// prepared is all that a service needs before it has its database.
type prepared struct {
	source      string // of the database
	log         slog.Handler
	options     service.Options
	certificate *certificate
	told        traces
	sockets     []net.Listener
	figures     net.Listener
}

// prepared reads and opens what the flags name; what is wrong with them is said before anything listens.
func (a *app) prepared(ctx context.Context, f serveFlags, config serviceConfig) (p prepared, err error) {
	if p.source, err = a.databaseOf(f.databaseFile); err != nil {
		return p, err
	}
	if (f.cert == "") != (f.key == "") {
		return p, errors.New("--tls-cert and --tls-key go together")
	}
	p.log = a.logHandler(f)
	if p.options, err = f.options(config); err != nil {
		return p, err
	}
	if p.certificate, err = loadCertificate(f.cert, f.key); err != nil {
		return p, err
	}
	if p.told, err = tracesTo(ctx, f.traces); err != nil {
		return p, err
	}
	p.options.Traces = p.told.provider()
	if p.sockets, err = sockets(f.listen, a.getenv); err == nil {
		p.figures, err = figuresAt(f.metrics)
	}
	return p, err
}

// serve runs the service until ctx ends, and then what it still has to do: requests are
// answered, and work of its own is put down where another service can take it up.
func (a *app) serve(ctx context.Context, f serveFlags, config serviceConfig, again *reloading) error {
	p, err := a.prepared(ctx, f, config)
	if err != nil {
		return err
	}
	defer p.told.end()
	log := slog.New(p.log)
	// It answers at once that it waits for the database: whoever watches it sees that it is there.
	var answers atomic.Pointer[http.Handler] // from before the database is there
	waiting := service.Waiting()
	answers.Store(&waiting)
	server := newServer(&answers, p.log, p.certificate)
	failed := make(chan error, len(p.sockets)+2)
	for _, l := range p.sockets {
		go func() { failed <- serveOn(server, l, f.cert != "") }()
	}
	hangUp := make(chan os.Signal, 1)
	signal.Notify(hangUp, syscall.SIGHUP)
	defer signal.Stop(hangUp)
	var work sync.WaitGroup
	stop := func() {}
	var svc *service.Service
	opened := make(chan *store.Store, 1)
	go func() {
		if st, err := a.openSigning(ctx, p.source, f, log); err != nil {
			failed <- err
		} else {
			opened <- st
		}
	}()
	for {
		select {
		case err := <-failed:
			return err
		case <-hangUp:
			if err := p.certificate.read(); err != nil {
				log.Error("the certificate could not be read again; the one from before is used", "error", err)
			}
			again.apply(log, svc, &p.options)
		case st := <-opened:
			defer func() { _ = st.Close() }()
			p.options.Store, p.options.Log = st, log
			svc = service.New(p.options)
			stop = svc.Stop
			real := svc.Handler()
			answers.Store(&real)
			for _, l := range p.sockets {
				a.say("yfence: serving on %s", l.Addr())
			}
			a.tellFigures(p.figures, svc, failed)
			for _, part := range []func(context.Context){svc.Work, svc.Follow, svc.WorkLists, svc.WorkClouds, svc.WorkEvents, svc.Prune} {
				work.Go(func() { part(ctx) })
			}
		case <-ctx.Done():
			stop()
			shutDown(server, &work)
			return nil
		}
	}
}

// figuresAt listens for who asks for figures; nil where nobody is to.
func figuresAt(address string) (net.Listener, error) {
	if address == "" {
		return nil, nil
	}
	return net.Listen("tcp", address)
}

// tellFigures answers there until the process ends.
func (a *app) tellFigures(at net.Listener, svc *service.Service, failed chan<- error) {
	if at == nil {
		return
	}
	server := &http.Server{Handler: svc.Metrics(), ReadHeaderTimeout: 10 * time.Second, MaxHeaderBytes: 16 << 10}
	go func() { failed <- server.Serve(at) }()
	a.say("yfence: figures on %s", at.Addr())
}

// kept is for how long reports are kept, and then the last of each day, where the flags are sound.
func (f *serveFlags) kept() (reports, daily time.Duration, err error) {
	reports, err = parseLength(f.keep)
	if err != nil || reports < time.Hour {
		return 0, 0, fmt.Errorf("--keep is a length of at least an hour, as 90d or 36h, not %q", f.keep)
	}
	daily, err = parseLength(f.keepDaily)
	if err != nil || daily < reports {
		return 0, 0, fmt.Errorf("--keep-daily is a length of at least that of --keep, %s, not %q", f.keep, f.keepDaily)
	}
	if f.follow != "on" && f.follow != "off" {
		return 0, 0, fmt.Errorf("--follow is on or off, not %q", f.follow)
	}
	return reports, daily, nil
}

// options are those of the service that the flags and the configuration say.
func (f *serveFlags) options(config serviceConfig) (o service.Options, err error) {
	o = service.Options{CloudEvery: f.cloudsEvery, ReportEvery: f.reportEvery, Secure: f.cert != ""}
	if o.Settings, err = f.set(config); err != nil {
		return o, err
	}
	o.Clouds, err = readClouds(f.clouds)
	return o, err
}

// set are those that may change while the service runs.
func (f *serveFlags) set(config serviceConfig) (s service.Settings, err error) {
	s = service.Settings{MaxPause: f.maxPause, WholeStrangers: f.whole, Stay: f.follow == "off", Approvals: config.Approvals,
		Destinations: config.Destinations, SignIn: config.SignIn}
	s.Keep.Reports, s.Keep.Daily, err = f.kept()
	return s, err
}

// logHandler is how the service writes its log.
func (a *app) logHandler(f serveFlags) slog.Handler {
	level := slog.LevelInfo
	if f.logErrors {
		level = slog.LevelError
	}
	if f.logJSON {
		return slog.NewJSONHandler(a.errOut, &slog.HandlerOptions{Level: level})
	}
	return slog.NewTextHandler(a.errOut, &slog.HandlerOptions{Level: level})
}

// newServer is the server with all its bounds; it answers by what answers holds at the time.
func newServer(answers *atomic.Pointer[http.Handler], log slog.Handler, certificate *certificate) *http.Server {
	return &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { (*answers.Load()).ServeHTTP(w, r) }),
		ReadHeaderTimeout: 10 * time.Second, ReadTimeout: 2 * time.Minute, IdleTimeout: 2 * time.Minute, MaxHeaderBytes: 64 << 10,
		ErrorLog:  slog.NewLogLogger(log, slog.LevelWarn),
		TLSConfig: &tls.Config{MinVersion: tls.VersionTLS12, GetCertificate: certificate.get}}
}

// serveOn answers on one address.
func serveOn(server *http.Server, l net.Listener, encrypted bool) error {
	if encrypted {
		return server.ServeTLS(l, "", "")
	}
	return server.Serve(l)
}

// shutDown finishes what was begun, if it takes no longer than stopTime; nothing new is taken.
func shutDown(server *http.Server, work *sync.WaitGroup) {
	grace, cancel := context.WithTimeout(context.Background(), stopTime)
	defer cancel()
	if err := server.Shutdown(grace); err != nil {
		_ = server.Close()
	}
	work.Wait()
}

// parseLength reads a length of time, in days too.
func parseLength(s string) (time.Duration, error) {
	if days, ok := strings.CutSuffix(s, "d"); ok {
		n, err := strconv.ParseUint(days, 10, 16)
		return time.Duration(n) * 24 * time.Hour, err
	}
	return time.ParseDuration(s)
}

// length is a flag that takes a length of time, in days too.
type length time.Duration

// String is the length as Go writes it.
func (l *length) String() string { return time.Duration(*l).String() }

// Type is what help calls it.
func (l *length) Type() string { return "length" }

// Set reads one: 90s, 30m, 12h or 3d.
func (l *length) Set(s string) error {
	d, err := parseLength(s)
	if err != nil || d < 0 {
		return fmt.Errorf("a length of time is written as 90s, 30m, 12h or 3d, not %q", s)
	}
	*l = length(d)
	return nil
}

// lengthVar is a flag of a command that takes a length of time.
func lengthVar(c *cobra.Command, into *time.Duration, name string, usual time.Duration, usage string) {
	*into = usual
	c.Flags().Var((*length)(into), name, usage)
}

// stopTime is how long what was begun may take when the service is told to stop.
const stopTime = 1500 * time.Millisecond

// sockets opens the addresses, or takes the sockets that were handed over
// from descriptor 3 on.
func sockets(addresses []string, getenv func(string) string) (out []net.Listener, err error) {
	ours := getenv("LISTEN_PID") == "" || getenv("LISTEN_PID") == strconv.Itoa(os.Getpid())
	if n, err := strconv.Atoi(getenv("LISTEN_FDS")); err == nil && n > 0 && ours {
		for fd := 3; fd < 3+n; fd++ {
			file := os.NewFile(uintptr(fd), fmt.Sprintf("socket %d", fd))
			l, err := net.FileListener(file)
			if err := errors.Join(err, file.Close()); err != nil {
				return nil, fmt.Errorf("socket %d that was handed over: %w", fd, err)
			}
			out = append(out, l)
		}
		return out, nil
	}
	for _, address := range addresses {
		l, err := net.Listen("tcp", address)
		if err != nil {
			return nil, err
		}
		out = append(out, l)
	}
	return out, nil
}
