package testbed

import (
	"bytes"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"syscall"
	"time"

	_ "github.com/go-sql-driver/mysql" // the driver
)

// A MariaDB is a database server of our own on loopback.
type MariaDB struct {
	port   int
	cmd    *exec.Cmd
	socket string
	dir    string
	more   []string // options of its own
	exited <-chan error
}

// StartMariaDB starts a server whose data lie in dir, which is made if it is
// not there. It listens on a free port of 127.0.0.1 and nowhere else. More are options of the server.
func StartMariaDB(dir string, more ...string) (*MariaDB, error) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return nil, err
	}
	if _, err := exec.LookPath("mariadbd"); err != nil {
		return nil, fmt.Errorf("MariaDB is not installed (Debian's mariadb-server): %w", err)
	}
	if _, err := os.Stat(filepath.Join(dir, "mysql")); errors.Is(err, os.ErrNotExist) {
		if err := os.MkdirAll(dir, 0o700); err != nil {
			return nil, err
		}
		// Two servers that start at once delete each other's files in a tmpdir they share.
		if err := run("env", append([]string{"TMPDIR=" + dir, "mariadb-install-db", "--no-defaults", "--datadir=" + dir,
			"--auth-root-authentication-method=normal", "--skip-test-db"}, asRoot()...)...); err != nil {
			return nil, err
		}
	}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	db := &MariaDB{dir: dir, more: more, port: listener.Addr().(*net.TCPAddr).Port}
	if err := listener.Close(); err != nil {
		return nil, err
	}
	return db, db.Start()
}

// Start starts the server, or starts one again that was killed: with the same data, on the
// same port.
func (db *MariaDB) Start() error {
	dir := db.dir
	server, err := exec.LookPath("mariadbd")
	if err != nil {
		return err
	}
	// A socket's path has at most 107 characters, so it cannot lie in dir.
	db.socket = filepath.Join(os.TempDir(), fmt.Sprintf("yf-db-%d.sock", db.port))
	log, err := os.OpenFile(filepath.Join(dir, "server.log"), os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
	if err != nil {
		return err
	}
	defer func() { _ = log.Close() }()
	db.cmd = exec.Command(server, append([]string{"--no-defaults", "--datadir=" + dir, "--tmpdir=" + dir, "--bind-address=127.0.0.1",
		fmt.Sprintf("--port=%d", db.port), "--socket=" + db.socket,
		"--skip-name-resolve", "--innodb-buffer-pool-size=64M", "--innodb-log-file-size=32M", "--pid-file=" +
			filepath.Join(dir, "server.pid")}, append(asRoot(), db.more...)...)...)
	db.cmd.Stdout, db.cmd.Stderr = log, log
	if db.exited, err = Start(db.cmd); err != nil {
		return err
	}
	pool, err := sql.Open("mysql", db.DSN(""))
	if err != nil {
		return err
	}
	defer func() { _ = pool.Close() }()
	// It answers within a second or so; where it ends instead, its log says why.
	for deadline := time.Now().Add(60 * time.Second); ; time.Sleep(50 * time.Millisecond) {
		select {
		case err := <-db.exited:
			return fmt.Errorf("MariaDB ended at its start (%v); see %s", err, log.Name())
		default:
		}
		if err = pool.PingContext(context.Background()); err == nil {
			return nil
		}
		if time.Now().After(deadline) {
			return errors.Join(fmt.Errorf("MariaDB does not answer; see %s: %w", log.Name(), err), db.Stop())
		}
	}
}

// asRoot is what the server wants to be told where we are root.
func asRoot() []string {
	if os.Getuid() == 0 {
		return []string{"--user=root"}
	}
	return nil
}

// Kill ends the server at once, as a crash does, and waits for its end.
func (db *MariaDB) Kill() error {
	err := db.cmd.Process.Kill()
	<-db.exited
	_ = os.Remove(db.socket)
	return err
}

// Start starts a program that ends with us, however we end, and does not get the
// terminal's Ctrl-C: whoever started it stops it. The channel tells its end.
func Start(cmd *exec.Cmd) (<-chan error, error) { return start(cmd, nil) }

// start starts a program that ends when this one does, however this one ends.
func start(cmd *exec.Cmd, enter func() error) (<-chan error, error) {
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGTERM}
	started, exited := make(chan error), make(chan error, 1)
	go func() {
		// The kernel sends the signal when the thread ends that started the
		// program, so that thread must last as long as the program.
		runtime.LockOSThread()
		if enter != nil { // and nobody else is to find himself there
			if err := enter(); err != nil {
				started <- err
				return
			}
		} else {
			defer runtime.UnlockOSThread()
		}
		err := cmd.Start()
		started <- err
		if err == nil {
			exited <- cmd.Wait()
		}
	}()
	return exited, <-started
}

// DSN is how database/sql reaches a database of the server.
func (db *MariaDB) DSN(database string) string {
	return fmt.Sprintf("root@tcp(127.0.0.1:%d)/%s", db.port, database)
}

// As is how a user reaches a database, through TCP or through the server's Unix socket.
func (db *MariaDB) As(user, password, database string, socket bool) string {
	at := fmt.Sprintf("tcp(127.0.0.1:%d)", db.port)
	if socket {
		at = "unix(" + db.socket + ")"
	}
	return fmt.Sprintf("%s:%s@%s/%s", user, password, at, database)
}

// Socket is the server's Unix socket.
func (db *MariaDB) Socket() string { return db.socket }

// Exec has the server do something, as root.
func (db *MariaDB) Exec(statements ...string) error {
	pool, err := sql.Open("mysql", db.DSN(""))
	for _, s := range statements {
		if err == nil {
			_, err = pool.Exec(s)
		}
	}
	return errors.Join(err, pool.Close())
}

// Create makes an empty database; one of that name is dropped before.
func (db *MariaDB) Create(database string) error {
	return db.Exec("DROP DATABASE IF EXISTS "+database, "CREATE DATABASE "+database+" CHARACTER SET utf8mb4 COLLATE utf8mb4_bin")
}

// Signal sends the server a signal: to freeze it, to let it go on, to kill it. One that is to
// be frozen is when this returns: until then it may answer.
func (db *MariaDB) Signal(s syscall.Signal) error {
	err := db.cmd.Process.Signal(s)
	for begin := time.Now(); err == nil && s == syscall.SIGSTOP && time.Since(begin) < 2*time.Second; time.Sleep(5 * time.Millisecond) {
		stat, _ := os.ReadFile(fmt.Sprintf("/proc/%d/stat", db.cmd.Process.Pid))
		if bytes.Contains(stat, []byte(") T ")) {
			break
		}
	}
	return err
}

// Stop ends the server and waits for it.
func (db *MariaDB) Stop() error {
	_ = db.cmd.Process.Signal(syscall.SIGCONT) // one that is frozen hears nothing
	if err := db.cmd.Process.Signal(syscall.SIGTERM); err != nil && !errors.Is(err, os.ErrProcessDone) {
		return err
	}
	<-db.exited
	_ = os.Remove(db.socket)
	return nil
}
