package agent

import (
	"context"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/internal/host"
)

// TestACommandThatIsKilled: whoever asked for a change hears what became of it, not of a signal alone.
func TestACommandThatIsKilled(t *testing.T) {
	dir := t.TempDir()
	program := filepath.Join(dir, "program")
	require.NoError(t, os.WriteFile(program, []byte("#!/bin/sh\nkill -9 $$\n"), 0o700))
	run := RunProgram(program, nil)
	_, err := run(context.Background(), "settle")
	require.EqualError(t, err, "the command on the host was killed before it was done (signal: killed)")

	a := &Agent{Machine: host.Machine{Dir: dir}, Run: run}
	ended := time.Now().UTC()
	require.NoError(t, a.WriteFile(host.ChangeFile, api.HostChange{ID: "a", What: "copy 1", Phase: api.WentBack,
		Why: "nobody kept it within 2s", Ended: &ended}))
	r := a.perform(context.Background(), api.Task{Do: api.DoPutBack, Copy: 1, Within: "2s"})
	require.Equal(t, "the command on the host was killed before it was done (signal: killed): nobody kept it within 2s; "+
		"the change has ended (went back)", r.Failed)
	require.Equal(t, api.WentBack, r.Change.Phase)
}
