package service

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/internal/store"
)

// TestNotice plays how a host stands, a word a minute, and keeps what others are told.
func TestNotice(t *testing.T) {
	short := map[string]api.State{"ok": api.InStep, "new": api.New, "behind": api.Behind, "waits": api.Waiting, "drift": api.Drifted,
		"silent": api.Silent, "back": api.WentBackState}
	for _, c := range []struct{ stands, told string }{
		{"new ok ok ok", ""},
		{"drift drift drift", "0 drifted"},
		{"ok ok drift drift drift drift drift drift drift drift", "2 drifted"},
		{"ok ok ok ok ok ok drift drift drift drift drift ok ok ok ok ok ok", "6 drifted, 11 in step"},
		{"ok behind waits ok behind waits ok ok ok ok ok ok", ""},
		// one that flaps: at once, then the longer the more there were, and after calm at once again
		{"ok drift ok drift ok drift ok drift ok drift ok ok ok ok ok ok", "1 drifted, 2 in step, 3 drifted, 5 drifted 2 times, 10 in " +
			"step 5 times"},
		// back before the time is over: told that it went and came
		{"ok ok ok ok ok ok silent ok ok ok ok ok ok ok", "6 silent, 7 in step"},
		{"drift ok ok ok ok ok back", "0 drifted, 1 in step, 6 went back"},
	} {
		at := time.Date(2026, 11, 28, 8, 0, 0, 0, time.UTC)
		var h store.HostState
		var said []string
		words := strings.Fields(c.stands)
		for minute := range max(len(words), 12) {
			word := words[min(minute, len(words)-1)]
			is, keep, tell := notice(h, minute == 0, short[word], at.Add(time.Duration(minute)*time.Minute))
			if keep {
				h = is
			}
			if tell {
				say := fmt.Sprintf("%d %s", minute, is.State)
				if is.Changes > 1 {
					say += fmt.Sprintf(" %d times", is.Changes)
				}
				said = append(said, say)
				h = told(is, at.Add(time.Duration(minute)*time.Minute))
			}
		}
		require.Equal(t, c.told, strings.Join(said, ", "), c.stands)
	}
}
