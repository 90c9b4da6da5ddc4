package kernel_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/kernel"
)

// TestUnits: whoever may name control groups as he likes borrows no unit's name.
func TestUnits(t *testing.T) {
	for path, want := range map[string]string{
		"system.slice/backup.service":                          "backup.service",
		"/system.slice/system-getty.slice/getty@tty1.service":  "getty@tty1.service",
		"unified/system.slice/backup.service":                  "backup.service",
		"backup.service":                                       "backup.service",
		"user.slice/user-1000.slice/app.slice/backup.service":  "user.slice/user-1000.slice/app.slice/backup.service",
		"user.slice/backup.service":                            "user.slice/backup.service",
		"machine.slice/guest.scope/system.slice/b.service":     "machine.slice/guest.scope/system.slice/b.service",
		"system.slice/runner.service/inner.slice/b.service":    "system.slice/runner.service/inner.slice/b.service",
		"system.slice/user@1000.service/app.slice/b.service":   "system.slice/user@1000.service/app.slice/b.service",
		"unified/user.slice/user-1.slice/session.slice/b.unit": "unified/user.slice/user-1.slice/session.slice/b.unit",
	} {
		require.Equal(t, want, kernel.UnitOf(path), path)
	}
}
