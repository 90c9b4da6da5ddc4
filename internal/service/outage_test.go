package service

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// TestOutages: what nobody could hear counts against no host.
func TestOutages(t *testing.T) {
	at := func(seconds int) time.Time {
		return time.Unix(1_800_000_000, 0).Add(time.Duration(seconds) * time.Second)
	}
	var o outage // the service has just started; hosts were last heard at 0
	o.note(true, at(600))
	o.began(at(0))
	require.True(t, o.seen().Excuses(at(-20), at(610)), "it was there when the service went")
	require.False(t, o.seen().Excuses(at(-200), at(610)), "it was not")
	require.False(t, o.seen().Excuses(time.Time{}, at(610)), "it was never there")
	require.False(t, o.seen().Excuses(at(-20), at(800)), "it had its time to come again")

	for s := 601; s < 1000; s++ {
		o.note(true, at(s))
	}
	o.note(false, at(1000))
	require.True(t, o.seen().Since(at(990)))
	require.True(t, o.seen().Excuses(at(980), at(1050)), "the database is away still")
	for s := 1001; s < 1055; s++ {
		o.note(false, at(s))
	}
	o.note(true, at(1055))
	require.True(t, o.seen().Since(at(1040)), "the task was asked for meanwhile")
	require.False(t, o.seen().Since(at(1060)))
	require.True(t, o.seen().Excuses(at(980), at(1100)))
	require.False(t, o.seen().HeardSince(at(980)))
	require.True(t, o.seen().HeardSince(at(1070)))

	o.note(true, at(1056))
	o.note(true, at(1116)) // the service was frozen for a minute
	require.True(t, o.seen().Excuses(at(1050), at(1120)))
}
