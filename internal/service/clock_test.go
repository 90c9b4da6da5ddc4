package service

import (
	"os"
	"path/filepath"
	"regexp"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestOneClock: what time it is is asked of Clock, and how long something takes of clock.go.
func TestOneClock(t *testing.T) {
	files, err := filepath.Glob("*.go")
	require.NoError(t, err)
	asks := regexp.MustCompile(`time\.(Now|Since|Until)\(`)
	read := 0
	for _, file := range files {
		if file == "clock.go" || regexp.MustCompile(`_test\.go$`).MatchString(file) {
			continue
		}
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		require.Empty(t, asks.FindAllString(string(text), -1), "%s: Clock tells the date, and clock.go how long", file)
		read++
	}
	require.Greater(t, read, 20)
}
