package cli_test

import (
	"bytes"
	"context"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/internal/cli"
	"yellowfence.example/yfence/internal/provider"
	"yellowfence.example/yfence/internal/service"
	"yellowfence.example/yfence/internal/store"
	"yellowfence.example/yfence/internal/testbed"
)

// reader is somebody who reads what a command says, and opens the address in it.
type reader struct {
	said bytes.Buffer
	open func(address string)
}

var address = regexp.MustCompile(`or open (\S+)`)

// Write takes what is said.
func (r *reader) Write(p []byte) (int, error) {
	if m := address.FindStringSubmatch(string(p)); m != nil {
		go r.open(m[1])
	}
	return r.said.Write(p)
}

// TestLogin: somebody signs in by a code, commands need no token from then on, until he signs out.
func TestLogin(t *testing.T) {
	ctx := context.Background()
	st, err := store.Open(ctx, testbed.Database(t))
	require.NoError(t, err)
	defer func() { require.NoError(t, st.Close()) }()
	var idp *provider.Provider
	people := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { idp.Handler().ServeHTTP(w, r) }))
	defer people.Close()
	idp = provider.New(people.URL, provider.Person{Name: "kim", Groups: []string{"crew"}})
	with := &service.SignIn{Issuer: people.URL, ClientID: "fence", URL: people.URL, Rights: map[string][]api.Right{"crew": {api.Read}}}
	serve := func(s *service.SignIn) *httptest.Server {
		server := httptest.NewServer(service.New(service.Options{Store: st, Log: slog.New(slog.DiscardHandler),
			Settings: service.Settings{SignIn: s}}).Handler())
		t.Cleanup(server.Close)
		return server
	}
	svc, plain := serve(with), serve(nil)
	home := t.TempDir()
	run := func(server string, args ...string) (code int, out, errOut string) {
		said := &reader{open: func(at string) { _ = provider.Choose(ctx, at, "kim") }}
		var printed bytes.Buffer
		code = cli.Main(args, strings.NewReader(""), &printed, said, func(name string) string {
			return map[string]string{"HOME": home, "YFENCE_SERVER": server}[name]
		})
		return code, printed.String(), said.said.String()
	}
	code, _, errOut := run(svc.URL, "fleet")
	require.Equal(t, 2, code)
	require.Contains(t, errOut, "or sign in with yfence login")
	code, out, errOut := run(svc.URL, "login")
	require.Zero(t, code, errOut)
	require.Regexp(t, `^signed in as kim until [-\d]+ \d\d:\d\d UTC, with the rights read\n$`, out)
	require.Regexp(t, `open http://\S+/device and enter the code [A-Z0-9]{8}`, errOut)
	info, err := os.Stat(filepath.Join(home, ".config", "yfence", "session.json"))
	require.NoError(t, err)
	require.EqualValues(t, 0o600, info.Mode().Perm())
	code, out, _ = run(svc.URL, "fleet")
	require.Zero(t, code)
	require.Contains(t, out, "no host")
	code, _, errOut = run(svc.URL, "tokens")
	require.Equal(t, 2, code)
	require.Contains(t, errOut, "kim may not do this: it takes the right tokens")
	code, _, errOut = run(plain.URL, "fleet")
	require.Equal(t, 2, code, "a session is with one service")
	require.Contains(t, errOut, "no token is given")
	code, out, _ = run(svc.URL, "logout")
	require.Zero(t, code)
	require.Equal(t, "signed out\n", out)
	code, _, _ = run(svc.URL, "fleet")
	require.Equal(t, 2, code)
	code, _, errOut = run(svc.URL, "logout")
	require.Equal(t, 2, code)
	require.Contains(t, errOut, "nobody is signed in")
	code, _, errOut = run(plain.URL, "login")
	require.Equal(t, 2, code)
	require.Contains(t, errOut, "has no identity provider; use a token")
	people.Close()
	code, _, errOut = run(svc.URL, "login")
	require.Equal(t, 2, code)
	require.Contains(t, errOut, "does not answer as it should")
}
