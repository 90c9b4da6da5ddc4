package cli

import (
	"errors"
	"fmt"
	"time"

	"github.com/spf13/cobra"
)

// moment is a flag's instant in the past.
type moment struct {
	at  time.Time
	now func() time.Time
}

// String is the instant as it can be typed again; "" where none is said.
func (m *moment) String() string {
	if m.at.IsZero() {
		return ""
	}
	return m.at.Format(time.RFC3339)
}

// Type is what help calls it.
func (m *moment) Type() string { return "time" }

// momentForms are how a date with a time is written, here without a zone: the machine's own is meant.
var momentForms = []string{"2006-01-02T15:04:05", "2006-01-02T15:04", "2006-01-02 15:04:05", "2006-01-02 15:04", "2006-01-02"}

// Set reads one: a date and a time, a time of today or else of yesterday, or how long ago.
func (m *moment) Set(s string) error {
	now := m.now()
	if ago, err := parseLength(s); err == nil && ago > 0 {
		m.at = now.Add(-ago)
		return nil
	}
	if at, err := time.Parse(time.RFC3339, s); err == nil {
		m.at = at
	}
	for _, form := range momentForms {
		if at, err := time.ParseInLocation(form, s, time.Local); err == nil {
			m.at = at
		}
	}
	// A time of day alone is the last one that there was.
	for _, form := range []string{time.TimeOnly, "15:04"} {
		if at, err := time.Parse(form, s); err == nil {
			m.at = time.Date(now.Year(), now.Month(), now.Day(), at.Hour(), at.Minute(), at.Second(), 0, time.Local)
			if m.at.After(now) {
				m.at = m.at.AddDate(0, 0, -1)
			}
		}
	}
	switch {
	case m.at.IsZero():
		return fmt.Errorf("a time is written as 2026-11-24T16:00, 16:00 or 20m (so long ago), not %q", s)
	case m.at.After(now):
		return errors.New("it is still to come")
	}
	return nil
}

// errAtService is what is said of a time where only the service knows.
var errAtService = errors.New("--at is a question to the service, which keeps what hosts had in force: leave --policy, --dump and " +
	"--here out")

// momentVar is a flag of a command that takes an instant in the past.
func momentVar(c *cobra.Command, name, usage string) *moment {
	m := &moment{now: time.Now}
	c.Flags().Var(m, name, usage)
	return m
}
