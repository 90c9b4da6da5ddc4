package api_test

import (
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/record"
)

// TestTheConsolesStates: the console's table of states is written from ours.
func TestTheConsolesStates(t *testing.T) {
	var b strings.Builder
	b.WriteString("// Written by `make generate` from the tables of states, rights and events in api.\nexport const stateNotes = [\n")
	seen := map[api.State]bool{}
	for _, n := range api.States {
		b.WriteString("  { state: '" + string(n.State) + "', tone: '" + string(n.Tone) + "', means: '" + n.Means + "' },\n")
		require.False(t, seen[n.State], "%s stands twice", n.State)
		seen[n.State] = true
		require.Equal(t, n, n.State.Note())
	}
	b.WriteString("] as const\n\n/** What a person may be allowed to do. */\nexport const rights = ['" +
		strings.Join(api.Words(api.Rights), "', '") + "'] as const\n\n/** The types of events that the stream carries. */\nexport const " +
		"eventTypes = [\n")
	for _, k := range api.EventKinds {
		b.WriteString("  '" + k.Type + "',\n")
	}
	b.WriteString("] as const\n\n/** What is said of somebody who did a deed of the record. */\nexport const deeds: " +
		"Readonly<Record<string, string>> = {\n")
	for _, k := range record.Kinds {
		b.WriteString("  '" + k.Deed + "': '" + k.Said + "',\n")
	}
	b.WriteString("}\n")
	const path = "../console/src/api/states.gen.ts"
	if *update {
		require.NoError(t, os.WriteFile(path, []byte(b.String()), 0o644))
	}
	have, err := os.ReadFile(path)
	require.NoError(t, err)
	require.Equal(t, b.String(), string(have), "the states changed: run `make generate` and commit what it writes")
	require.True(t, api.Bare.Worse(api.Drifted))
	require.False(t, api.InStep.Worse(api.Silent))
	require.False(t, api.Silent.Worse(api.Silent))
}

// TestSubjects: what is put together is taken apart again.
func TestSubjects(t *testing.T) {
	for text, want := range map[string]api.Subject{"tiles-01": {Host: "tiles-01"}, "tiles-01@dunlin": {Host: "tiles-01", Cloud: "dunlin"}} {
		require.Equal(t, want, api.SubjectOf(text))
		require.Equal(t, text, want.String())
	}
}
