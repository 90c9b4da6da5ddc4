package cli_test

import (
	"context"
	"flag"
	"log/slog"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/rogpeppe/go-internal/testscript"
	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/check"
	"yellowfence.example/yfence/internal/api"
	"yellowfence.example/yfence/internal/cli"
	"yellowfence.example/yfence/internal/service"
	"yellowfence.example/yfence/internal/store"
	"yellowfence.example/yfence/internal/testbed"
)

var update = flag.Bool("update", false, "write the expected outputs in the scripts anew")

type suite struct{ *testing.M }

func (s suite) Run() int { return testbed.Main(s.M) }

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
func TestService(t *testing.T) {
	p := params(t, "service")
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
		server := httptest.NewServer(service.New(service.Options{Store: st, Log: slog.New(slog.DiscardHandler), ReportEvery: time.Hour}).Handler())
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
