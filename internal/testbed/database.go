package testbed

import (
	"fmt"
	"os"
	"os/exec"
	"sync"
	"sync/atomic"
	"testing"
)

// One MariaDB serves all tests of a process, each with a database of its own.
var (
	testServer      *MariaDB
	testServerError error
	startTestServer sync.Once
	testDatabases   atomic.Int64
)

// Database gives a test an empty database on a MariaDB of its own, which all
// tests of a package share. Without MariaDB the test is skipped; in CI it fails.
func Database(t testing.TB) (dsn string) {
	t.Helper()
	if _, err := exec.LookPath("mariadbd"); err != nil {
		if os.Getenv("CI") != "" {
			t.Fatal("MariaDB must be there in CI: ", err)
		}
		t.Skip("NOT TESTED, MariaDB is not installed: ", err)
	}
	startTestServer.Do(func() {
		dir, err := os.MkdirTemp("", "yf-test-db-")
		if err != nil {
			testServerError = err
			return
		}
		// Nobody kills this one, so it need not write to the disk what is committed.
		testServer, testServerError = StartMariaDB(dir, "--innodb-flush-log-at-trx-commit=0", "--innodb-doublewrite=0")
	})
	if testServerError != nil {
		t.Fatal(testServerError)
	}
	name := fmt.Sprintf("yfence_test_%d", testDatabases.Add(1))
	if err := testServer.Create(name); err != nil {
		t.Fatal(err)
	}
	return testServer.DSN(name)
}

// Main runs a package's tests and takes down what Database has started.
func Main(m *testing.M) int {
	code := m.Run()
	if testServer != nil {
		if err := testServer.Stop(); err != nil {
			fmt.Fprintln(os.Stderr, err)
			code = 1
		}
		if err := os.RemoveAll(testServer.dir); err != nil {
			fmt.Fprintln(os.Stderr, err)
			code = 1
		}
	}
	return code
}
