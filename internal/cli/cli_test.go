package cli_test

import (
	"bytes"
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/rogpeppe/go-internal/testscript"
	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/approve"
	"yellowfence.example/yfence/core/check"
	"yellowfence.example/yfence/core/policy/policytest"
	"yellowfence.example/yfence/internal/cli"
	"yellowfence.example/yfence/internal/service"
	"yellowfence.example/yfence/internal/store"
	"yellowfence.example/yfence/internal/testbed"
)

var update = flag.Bool("update", false, "write the expected outputs in the scripts anew")

type suite struct{ *testing.M }

func (s suite) Run() int {
	defer func() { _ = os.RemoveAll(builtIn) }()
	return testbed.Main(s.M)
}

// The program, built once for all tests of the process that run it as one.
var (
	builtIn   string
	builtOnce = sync.OnceValue(func() error {
		var err error
		if builtIn, err = os.MkdirTemp("", "yfb"); err != nil {
			return err
		}
		out, err := exec.Command("go", "build", "-o", filepath.Join(builtIn, "yfence"), "../../cmd/yfence").CombinedOutput()
		if err != nil {
			return fmt.Errorf("%w: %s", err, out)
		}
		return nil
	})
)

// build puts the program of this tree at a path.
func build(t *testing.T, program string) {
	require.NoError(t, builtOnce())
	require.NoError(t, os.Link(filepath.Join(builtIn, "yfence"), program))
}

func TestMain(m *testing.M) {
	testscript.Main(suite{m}, map[string]func(){"yfence": func() {
		os.Exit(cli.Main(os.Args[1:], os.Stdin, os.Stdout, os.Stderr, os.Getenv))
	}})
}

// params runs the scripts of a folder; $SALTMARSH and $RECORDED are the demo's policy and dumps.
func params(t *testing.T, dir string) testscript.Params {
	root, err := filepath.Abs("../..")
	require.NoError(t, err)
	return testscript.Params{
		Dir: filepath.Join("testdata", dir), UpdateScripts: *update,
		Setup: func(env *testscript.Env) error {
			env.Setenv("SALTMARSH", filepath.Join(root, "demo", "saltmarsh"))
			env.Setenv("RECORDED", filepath.Join(root, "demo", "recorded"))
			return nil
		},
	}
}

// TestFiles is what can be done without a service, a database or root.
func TestFiles(t *testing.T) { testscript.Run(t, params(t, "files")) }

// TestTooComplexOnFiles: what a service would not take costs no more on files, and is refused
// in the same words.
func TestTooComplexOnFiles(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "p.fence"),
		[]byte("policy p language 1\nrole red\nrole blue\nrole green\n"+policytest.TooComplex(1500, "red")), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "fleet.json"), []byte(policytest.Fleet), 0o644))
	for _, args := range [][]string{{"check"}, {"rules", "h1"}, {"rules", "--all", "--into", filepath.Join(dir, "out")},
		{"ask", "198.51.100.1 -> h1 : tcp 22"}, {"compare", "--from", dir, "--to", dir}} {
		args = append(args, "--fleet", filepath.Join(dir, "fleet.json"))
		if args[0] != "compare" {
			args = append(args, "--policy", dir)
		}
		var out, errOut bytes.Buffer
		require.NotZero(t, cli.Main(args, strings.NewReader(""), &out, &errOut, func(string) string { return "" }), args)
		require.Contains(t, errOut.String(), "too complex to decide exactly (more than 4 million cases)", args)
		require.Empty(t, out.String(), args)
	}
}

// TestFilesStayInTheirFolder: what a revision's files are called is what somebody said. None is
// written outside of the folder, and then none is at all.
func TestFilesStayInTheirFolder(t *testing.T) {
	for _, name := range []string{"../out.fence", "/tmp/out.fence", "a/../../out.fence", ""} {
		service := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Type", "application/json")
			files := []check.Source{{Name: "in.fence", Text: "in"}, {Name: name, Text: "out"}}
			_ = json.NewEncoder(w).Encode(api.Revision{Number: 3, Files: files})
		}))
		dir := t.TempDir()
		var out, errOut bytes.Buffer
		require.Equal(t, 2, cli.Main([]string{"revisions", "show", "3", "--into", filepath.Join(dir, "policy"), "--server", service.URL},
			strings.NewReader(""), &out, &errOut, func(name string) string { return map[string]string{"YFENCE_TOKEN": "t"}[name] }), name)
		left, err := os.ReadDir(dir)
		require.NoError(t, err)
		require.Empty(t, left, name)
		require.NotEmpty(t, errOut.String())
		service.Close()
	}
}

// TestWrongPolicies shows what is said of policies that are wrong, one each.
func TestWrongPolicies(t *testing.T) { testscript.Run(t, params(t, "wrong")) }

// TestEveryCheckHasAWrongPolicy: the folder reads as documentation of the messages.
func TestEveryCheckHasAWrongPolicy(t *testing.T) {
	scripts, err := filepath.Glob("testdata/wrong/*.txtar")
	require.NoError(t, err)
	var all strings.Builder
	for _, path := range scripts {
		text, err := os.ReadFile(path)
		require.NoError(t, err)
		all.Write(text)
	}
	for _, c := range check.Checks {
		require.Regexp(t, `  `+c.Code+`\$?'?\n`, all.String(), "a policy that shows %s", c.Code)
	}
}

// TestService is a session with a running service, each script with its own.
func TestService(t *testing.T) { withService(t, "service", nil) }

// TestApprovals is the same where changes need approvals.
func TestApprovals(t *testing.T) {
	withService(t, "approvals", approve.Rules{{When: approve.Strangers, People: 1}})
}

// withService runs scripts, each with a service of its own.
func withService(t *testing.T, folder string, rules approve.Rules) {
	p := params(t, folder)
	setup := p.Setup
	p.Setup = func(env *testscript.Env) error {
		st, err := store.Open(context.Background(), testbed.Database(t))
		if err != nil {
			return err
		}
		token, err := st.NewToken(context.Background(), "pat", api.Rights, "")
		if err != nil {
			return err
		}
		server := httptest.NewServer(service.New(service.Options{Store: st, Log: slog.New(slog.DiscardHandler),
			ReportEvery: time.Hour, Settings: service.Settings{Approvals: rules}}).Handler())
		env.Defer(func() {
			server.Close()
			_ = st.Close()
		})
		env.Setenv("YFENCE_SERVER", server.URL)
		env.Setenv("YFENCE_TOKEN", token.Secret)
		return setup(env)
	}
	testscript.Run(t, p)
}
