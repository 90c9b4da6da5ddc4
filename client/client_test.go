package client_test

import (
	"context"
	"net/http"
	"net/http/httptest"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/client"
)

// TestWhatAnswersIsNotAlwaysAService shows what is said when something else is at the URL, or nothing.
func TestWhatAnswersIsNotAlwaysAService(t *testing.T) {
	for _, c := range []struct {
		what    string
		handler http.HandlerFunc
		want    string
	}{
		{"another web server", func(w http.ResponseWriter, _ *http.Request) { http.Error(w, "<h1>no</h1>", http.StatusNotFound) },
			"is no Yellow Fence service (404 Not Found)"},
		{"a web page", func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write([]byte("<html>")) },
			"is not understood: invalid character '<'"},
		{"a problem document", func(w http.ResponseWriter, _ *http.Request) {
			w.WriteHeader(http.StatusConflict)
			_, _ = w.Write([]byte(`{"title": "Conflict", "detail": "somebody was faster", "errors": [{"message": "too late", "location": ` +
				`"body.after"}]}`))
		}, "somebody was faster; body.after: too late"},
	} {
		server := httptest.NewServer(c.handler)
		_, err := client.New(server.URL+"/", "t").Fleet(context.Background())
		require.ErrorContains(t, err, c.want, c.what)
		server.Close()
	}
	_, err := client.New("http://127.0.0.1:1", "t").Fleet(context.Background())
	require.ErrorContains(t, err, "the service at http://127.0.0.1:1 does not answer")
	_, err = client.New("http://[", "t").Fleet(context.Background())
	require.ErrorContains(t, err, `the server's URL "http://[" is not understood`)
}

func TestTheTokenAndThePathAreSent(t *testing.T) {
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		require.Equal(t, "Bearer secret", r.Header.Get("Authorization"))
		require.Equal(t, "/api/v1/hosts/a%2Fb/rules", r.URL.EscapedPath(), "a name is never a path")
		_, _ = w.Write([]byte(`{"host": "a/b", "text": "rules"}`))
	}))
	defer server.Close()
	rules, err := client.New(server.URL, "secret").Rules(context.Background(), "a/b")
	require.NoError(t, err)
	require.Equal(t, "rules", rules.Text)
}
