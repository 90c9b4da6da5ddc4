package cli

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func TestMoments(t *testing.T) {
	now := time.Date(2026, 11, 28, 12, 0, 0, 0, time.Local)
	for said, want := range map[string]time.Time{
		"20m":                  now.Add(-20 * time.Minute),
		"3d":                   now.Add(-72 * time.Hour),
		"11:30":                now.Add(-30 * time.Minute),
		"16:00":                now.Add(-20 * time.Hour), // yesterday
		"2026-11-24T16:00":     time.Date(2026, 11, 24, 16, 0, 0, 0, time.Local),
		"2026-11-24 16:00:30":  time.Date(2026, 11, 24, 16, 0, 30, 0, time.Local),
		"2026-11-24":           time.Date(2026, 11, 24, 0, 0, 0, 0, time.Local),
		"2026-11-24T16:00:00Z": time.Date(2026, 11, 24, 16, 0, 0, 0, time.UTC),
	} {
		m := &moment{now: func() time.Time { return now }}
		require.NoError(t, m.Set(said), said)
		require.True(t, want.Equal(m.at), "%s: %s", said, m.at)
	}
	for said, want := range map[string]string{
		"teatime":    `a time is written as 2026-11-24T16:00, 16:00 or 20m (so long ago), not "teatime"`,
		"2026-13-01": `a time is written as 2026-11-24T16:00, 16:00 or 20m (so long ago), not "2026-13-01"`,
		"-5m":        `a time is written as 2026-11-24T16:00, 16:00 or 20m (so long ago), not "-5m"`,
		"2027-01-01": "it is still to come",
	} {
		m := &moment{now: func() time.Time { return now }}
		require.EqualError(t, m.Set(said), want)
	}
}
