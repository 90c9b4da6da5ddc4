package api_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/pagetest"
)

// TestProblemsPage: each code stands once, and the guide to the API has the table.
func TestProblemsPage(t *testing.T) {
	seen := map[api.ProblemCode]bool{}
	var rows [][]string
	for _, k := range api.ProblemKinds {
		require.False(t, seen[k.Code], "%s stands twice", k.Code)
		seen[k.Code] = true
		again := ""
		if k.Again {
			again = "yes"
		}
		rows = append(rows, []string{fmt.Sprint(k.Status), "`" + string(k.Code) + "`", k.Says, again})
		p := api.NewProblem(k.Code, "why")
		require.Equal(t, k.Status, p.GetStatus())
		require.Equal(t, k.Again, p.Again())
	}
	pagetest.Table(t, "../docs/api.md", "| status | code | means | send it again? |", rows)
}

// TestProblems: every status has a code, and what a problem says is said with its places.
func TestProblems(t *testing.T) {
	for status, code := range map[int]api.ProblemCode{400: api.NotValid, 401: api.NotSignedIn, 403: api.NotAllowed, 404: api.NotFound,
		409: api.NotNow,
		413: api.TooLarge, 422: api.NotValid, 429: api.TooMany, 500: api.WentWrong, 502: api.WentWrong, 503: api.Busy} {
		p := api.ProblemOf(status, "why")
		require.Equal(t, code, p.Code, "%d", status)
		require.Equal(t, status, p.Status)
		require.Equal(t, http.StatusText(status), p.Title)
	}
	p := api.ProblemOf(422, "")
	p.Errors = []api.FieldProblem{{Message: "expected number >= 1", Location: "query.limit", Value: 0}}
	require.Equal(t, "Unprocessable Entity; query.limit: expected number >= 1", p.Error())
	text, err := json.Marshal(p)
	require.NoError(t, err)
	require.JSONEq(t, `{"status": 422, "title": "Unprocessable Entity", "code": "not-valid",
		"errors": [{"message": "expected number >= 1", "location": "query.limit", "value": 0}]}`, string(text))
}
