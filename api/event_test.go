package api_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/pagetest"
	"yellowfence.example/yfence/core/record"
)

// TestEventsPage: every deed makes an event, and the page lists every type, as the table has it.
func TestEventsPage(t *testing.T) {
	types := map[string]bool{}
	for _, k := range api.EventKinds {
		types[k.Type] = true
	}
	for _, k := range record.Kinds {
		require.True(t, types[api.EventOf(k.Deed)], "the deed %s makes no event that is listed", k.Deed)
	}
	var rows [][]string
	for _, k := range api.EventKinds {
		rows = append(rows, []string{"`" + k.Type + "`", k.Says})
	}
	pagetest.Table(t, "../docs/events.md", "| type | tells |", rows)
}
