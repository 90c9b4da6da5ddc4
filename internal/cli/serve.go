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
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"yellowfence.example/yfence/internal/api"
	"yellowfence.example/yfence/internal/service"
	"yellowfence.example/yfence/internal/store"
)

type serveFlags struct {
	listen             []string
	databaseFile       string
	cert, key          string
	firstToken         string
	clouds             string
	cloudsEvery        time.Duration
	reportEvery        time.Duration
	maxPause           time.Duration
	logJSON, logErrors bool
}

func (a *app) serveCommand() *cobra.Command {
	var f serveFlags
	c := &cobra.Command{
		Use:   "serve",
		Short: "The service with its console",
		Long: `Serve runs the service: the API under /api/v1, and the console for a browser. It
listens on loopback unless told otherwise, and on sockets it is handed (LISTEN_FDS).

Its memory is a MariaDB database, named in a file or in YFENCE_DATABASE as
USER:PASSWORD@tcp(ADDRESS:PORT)/NAME. Any number of services may share one.`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			// Only here: every other command just ends when it is told to.
			ctx, stop := signal.NotifyContext(cmd.Context(), os.Interrupt, syscall.SIGTERM)
			defer stop()
			return a.serve(ctx, f)
		},
	}
	c.Flags().StringArrayVar(&f.listen, "listen", []string{"127.0.0.1:8480"}, "address and port; may be given several times")
	c.Flags().StringVar(&f.databaseFile, "database-file", "", "a file that names the database (else YFENCE_DATABASE)")
	c.Flags().StringVar(&f.cert, "tls-cert", "", "a file with the certificate; with it the service speaks TLS")
	c.Flags().StringVar(&f.key, "tls-key", "", "a file with the certificate's key")
	c.Flags().StringVar(&f.firstToken, "first-token", "", "a file to write a token with all rights to, if there is no token yet")
	c.Flags().DurationVar(&f.reportEvery, "report-every", 5*time.Minute, "how often hosts report; three times that without one and a host is silent")
	c.Flags().DurationVar(&f.maxPause, "max-pause", 24*time.Hour, "how long a host's filter may be paused at most")
	c.Flags().StringVar(&f.clouds, "clouds", "", "a file that names the clouds whose groups the service looks after")
	c.Flags().DurationVar(&f.cloudsEvery, "clouds-every", 30*time.Second, "how often the groups of clouds are read back")
	c.Flags().BoolVar(&f.logJSON, "log-json", false, "write the log as JSON")
	c.Flags().BoolVar(&f.logErrors, "log-errors", false, "write errors only to the log")
	return c
}

func (a *app) serve(ctx context.Context, f serveFlags) error {
	source := a.getenv("YFENCE_DATABASE")
	if f.databaseFile != "" {
		data, err := os.ReadFile(f.databaseFile)
		if err != nil {
			return err
		}
		source = strings.TrimSpace(string(data))
	}
	if source == "" {
		return errors.New("no database is named: give --database-file FILE or set YFENCE_DATABASE")
	}
	if (f.cert == "") != (f.key == "") {
		return errors.New("--tls-cert and --tls-key go together")
	}
	level := slog.LevelInfo
	if f.logErrors {
		level = slog.LevelError
	}
	var handler slog.Handler = slog.NewTextHandler(a.errOut, &slog.HandlerOptions{Level: level})
	if f.logJSON {
		handler = slog.NewJSONHandler(a.errOut, &slog.HandlerOptions{Level: level})
	}
	log := slog.New(handler)

	clouds, err := readClouds(f.clouds)
	if err != nil {
		return err
	}
	st, err := store.Open(ctx, source)
	if err != nil {
		return err
	}
	defer func() { _ = st.Close() }()
	if f.firstToken != "" {
		if err := makeFirstToken(ctx, st, f.firstToken); err != nil {
			return err
		}
	}
	sockets, err := sockets(f.listen, a.getenv)
	if err != nil {
		return err
	}
	svc := service.New(service.Options{Clouds: clouds, CloudEvery: f.cloudsEvery, Store: st, Log: log, ReportEvery: f.reportEvery, MaxPause: f.maxPause, Secure: f.cert != ""})
	server := &http.Server{Handler: svc.Handler(), ReadHeaderTimeout: 10 * time.Second, ReadTimeout: 2 * time.Minute, IdleTimeout: 2 * time.Minute,
		ErrorLog: slog.NewLogLogger(handler, slog.LevelWarn), TLSConfig: &tls.Config{MinVersion: tls.VersionTLS12}}
	go svc.Work(ctx)
	go svc.WorkClouds(ctx)
	failed := make(chan error, len(sockets))
	for _, l := range sockets {
		a.say("yfence: serving on %s", l.Addr())
		go func() {
			if f.cert != "" {
				failed <- server.ServeTLS(l, f.cert, f.key)
			} else {
				failed <- server.Serve(l)
			}
		}()
	}
	select {
	case err := <-failed:
		return err
	case <-ctx.Done():
	}
	// What was begun is finished; nothing new is taken.
	grace, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	return server.Shutdown(grace)
}

// makeFirstToken writes a token with all rights to a new file, unless there are tokens already.
func makeFirstToken(ctx context.Context, st *store.Store, name string) error {
	tokens, err := st.Tokens(ctx)
	if err != nil || len(tokens) > 0 {
		return err
	}
	file, err := os.OpenFile(name, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	t, err := st.NewToken(ctx, "operator", api.Rights, "")
	if err == nil {
		_, err = fmt.Fprintln(file, t.Secret)
	}
	return errors.Join(err, file.Close())
}

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
