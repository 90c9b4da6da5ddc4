package service_test

import (
	"context"
	"encoding/json"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/check"
	"yellowfence.example/yfence/internal/store"
)

func TestSomebodyPublishedSince(t *testing.T) {
	t.Parallel()
	h := newSaltmarsh(t)
	none, one := int64(0), int64(1)
	_, err := h.Publish(context.Background(), api.PublishRequest{Files: policyFiles(t), Why: "w", After: &none})
	require.Equal(t, http.StatusConflict, problem(t, err).Status)
	done, err := h.Publish(context.Background(), api.PublishRequest{Files: policyFiles(t), Why: "w", After: &one})
	require.NoError(t, err)
	require.EqualValues(t, 2, done.Revision)
	r, err := h.Revision(context.Background(), 1)
	require.NoError(t, err)
	require.Equal(t, policyFiles(t), r.Files)
	require.Equal(t, []any{"pat", false}, []any{r.Author, r.Published})
}

// TestBothAtOnce: a policy and a fleet that need each other are published as one pair, and where
// either is wrong, neither is.
func TestBothAtOnce(t *testing.T) {
	t.Parallel()
	h := newSaltmarsh(t)
	ctx := context.Background()
	before, err := h.store.Newest(ctx)
	require.NoError(t, err)
	files := policyFiles(t)
	files[0].Text += "\nrole tide \"tells the tide\"\nallow tides: office -> tide : tcp 8099\n"
	fl := check.Source{Name: "fleet.json", Text: strings.Replace(fleetFile(t), `"roles": ["watch"]`, `"roles": ["watch", "tide"]`, 1)}
	for what, req := range map[string]api.PublishRequest{
		`no role is named "tide"`:              {Files: policyFiles(t), Fleet: &fl},
		"neither the policy nor the fleet is ": {Files: files, Fleet: &check.Source{Name: "fleet.json", Text: "{"}},
		"the policy is not published: ":        {Files: policyFiles(t)[:1], Fleet: &fl},
	} {
		req.Why = "w"
		_, err := h.Publish(ctx, req)
		said, err := json.Marshal(problem(t, err))
		require.NoError(t, err)
		require.Contains(t, strings.ReplaceAll(string(said), `\"`, `"`), what)
	}
	changes, err := h.Compare(ctx, api.CompareRequest{To: api.Side{Files: files, Fleet: &fl}})
	require.NoError(t, err)
	require.Equal(t, "tcp 8099 from office newly gets in.", changes.Changes.Changes[0].Sentence)
	_, err = h.Compare(ctx, api.CompareRequest{To: api.Side{Fleet: &fl}})
	require.Equal(t, "a fleet file goes with the files of a policy", problem(t, err).Detail)
	now, err := h.store.Newest(ctx)
	require.NoError(t, err)
	require.Equal(t, before, now, "nothing of it is kept")

	done, err := h.Publish(ctx, api.PublishRequest{Files: files, Fleet: &fl, Why: "w"})
	require.NoError(t, err)
	require.Equal(t, []int64{before.Revision + 1, before.Generation + 1}, []int64{done.Revision, done.Generation})
	require.Len(t, done.Changes, 1)
	now, err = h.store.Newest(ctx)
	require.NoError(t, err)
	require.Equal(t, store.Pair{Number: before.Number + 1, Revision: done.Revision, Generation: done.Generation}, now, "one pair, not two")
}
