package service_test

import (
	"context"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/check"
)

// TestAssist: whoever writes a policy in the console is told what the language server tells, of texts that are not sound too.
func TestAssist(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	h := newSaltmarsh(t)
	files := policyFiles(t)
	at := func(file, text string) api.AssistRequest {
		for _, f := range files {
			if f.Name != file {
				continue
			}
			before, _, ok := strings.Cut(f.Text, text)
			require.True(t, ok, text)
			line := strings.Count(before, "\n")
			return api.AssistRequest{Files: files, File: file, Line: line + 1, Column: len(before) - strings.LastIndex(before, "\n")}
		}
		t.Fatal("there is no ", file)
		return api.AssistRequest{}
	}
	rule := at("rules.fence", "logbook : postgresql")
	a, err := h.Assist(ctx, rule)
	require.NoError(t, err)
	require.Contains(t, a.Hover, "logbook")
	require.Equal(t, "roles.fence", a.Defined.File)
	require.Greater(t, len(a.Uses), 2)
	require.Equal(t, 7, a.Defined.Width)

	net := at("places.fence", "hill-lan")
	net.Name = "hill-net"
	a, err = h.Assist(ctx, net)
	require.NoError(t, err)
	require.Empty(t, a.Refused)
	require.Equal(t, len(a.Uses), len(a.Renamed))
	rule.Name = "books"
	a, err = h.Assist(ctx, rule)
	require.NoError(t, err)
	require.Contains(t, a.Refused, "the fleet file names this role too")

	for i := range files {
		if files[i].Name == "rules.fence" {
			files[i].Text += "allow new: pilotage -> logb"
			end := strings.Count(files[i].Text, "\n") + 1
			a, err = h.Assist(ctx, api.AssistRequest{Files: files, File: "rules.fence", Line: end, Column: 28, Tidy: true})
			require.NoError(t, err)
		}
	}
	require.Nil(t, a.Tidied, "what cannot be read is not laid out")
	var texts []string
	for _, c := range a.Complete {
		texts = append(texts, c.Text)
	}
	require.Contains(t, texts, "logbook")
	a, err = h.Assist(ctx, api.AssistRequest{Files: []check.Source{{Name: "a.fence", Text: "policy   a   language 1\n"}},
		File: "a.fence", Line: 1, Column: 1,
		Tidy: true})
	require.NoError(t, err)
	require.Equal(t, "policy a language 1\n", *a.Tidied)
}
