package cli

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// TestTimes: what people read is in UTC and says so, wherever they and the service are.
func TestTimes(t *testing.T) {
	west := time.Date(2026, 11, 28, 22, 30, 5, 0, time.FixedZone("HST", -10*3600)) // 08:30:05 UTC, of the day after
	for _, c := range []struct{ is, want string }{
		{secondText(west), "2026-11-29 08:30:05 UTC"},
		{minuteText(west), "2026-11-29 08:30 UTC"},
		{clockText(west), "08:30:05 UTC"},
		{dateText(west), "2026-11-29"},
		{momentText(west, west.Add(3*time.Hour)), "08:30:05 UTC"},
		{momentText(west, west.Add(25*time.Hour)), "2026-11-29"},
	} {
		require.Equal(t, c.want, c.is)
	}
}
