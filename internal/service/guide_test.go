package service_test

import (
	"bytes"
	"encoding/json"
	"io"
	"net/http"
	"os"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestTheGuide sends each request of the guide to the API, in its order, and keeps what is answered there.
func TestTheGuide(t *testing.T) {
	t.Parallel()
	h := newSaltmarsh(t)
	const page = "../../docs/api.md"
	text, err := os.ReadFile(page)
	require.NoError(t, err)
	sent := 0
	block := regexp.MustCompile("(?s)```http\n(.*?)```\n\n```json\n(.*?)```\n")
	got := block.ReplaceAllStringFunc(string(text), func(both string) string {
		request := block.FindStringSubmatch(both)[1]
		sent++
		return "```http\n" + request + "```\n\n```json\n" + h.shown(request) + "```\n"
	})
	require.Greater(t, sent, 5)
	if *update {
		require.NoError(t, os.WriteFile(page, []byte(got), 0o644))
	}
	require.Equal(t, got, string(text), "run the test with -update")
}

// shown sends a request as it stands in a page, and gives the answer as it stands there.
func (h *harbour) shown(request string) string {
	head, body, _ := strings.Cut(request, "\n\n")
	lines := strings.Split(strings.TrimSpace(head), "\n")
	method, path, _ := strings.Cut(lines[0], " ")
	req, err := http.NewRequest(method, h.url+path, strings.NewReader(body))
	require.NoError(h.t, err)
	req.Header.Set("Authorization", "Bearer "+h.token)
	for _, line := range lines[1:] {
		name, value, _ := strings.Cut(line, ": ")
		req.Header.Set(name, value)
	}
	res, err := http.DefaultClient.Do(req)
	require.NoError(h.t, err)
	defer func() { _ = res.Body.Close() }()
	answer, err := io.ReadAll(res.Body)
	require.NoError(h.t, err)
	var v any
	require.NoError(h.t, json.Unmarshal(answer, &v), "%s", answer)
	var out bytes.Buffer
	enc := json.NewEncoder(&out)
	enc.SetEscapeHTML(false)
	enc.SetIndent("", "  ")
	require.NoError(h.t, enc.Encode(firstOnly(v)))
	at := regexp.MustCompile(`"\d{4}-\d\d-\d\dT[0-9:.]+Z"`)
	return at.ReplaceAllString(out.String(), `"2026-03-02T09:14:05Z"`)
}

// firstOnly cuts lists to their first entry.
func firstOnly(v any) any {
	switch v := v.(type) {
	case map[string]any:
		for k := range v {
			v[k] = firstOnly(v[k])
		}
	case []any:
		if len(v) > 1 {
			v = v[:1]
		}
		for i := range v {
			v[i] = firstOnly(v[i])
		}
		return v
	}
	return v
}
