package cli

import (
	"net/netip"
	"runtime/debug"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/record"
	"yellowfence.example/yfence/core/traffic"
)

// TestSizesAndLengths: amounts as people read them.
func TestSizesAndLengths(t *testing.T) {
	for n, want := range map[int64]string{0: "0 B", 1023: "1023 B", 1024: "1.0 KiB", 1536: "1.5 KiB", 1 << 20: "1.0 MiB",
		5 << 30: "5.0 GiB",
		3 << 40: "3.0 TiB"} {
		require.Equal(t, want, bytesText(n))
	}
	now := time.Date(2026, 11, 29, 12, 0, 0, 0, time.UTC)
	for length, want := range map[time.Duration][2]string{
		-time.Hour:           {"a minute or less", "a minute or less ago"}, // a host whose clock is ahead
		0:                    {"a minute or less", "a minute or less ago"},
		119 * time.Second:    {"a minute or less", "a minute or less ago"},
		2 * time.Minute:      {"2 minutes", "2 minutes ago"},
		119 * time.Minute:    {"119 minutes", "119 minutes ago"},
		3 * time.Hour:        {"3 hours", "3 hours ago"},
		26 * time.Hour:       {"26 hours", "on 2026-11-28"},
		30 * 24 * time.Hour:  {"30 days", "on 2026-10-30"},
		400 * 24 * time.Hour: {"400 days", "on 2025-10-25"},
	} {
		require.Equal(t, want, [2]string{lengthText(length), dayText(now.Add(-length).Unix(), now)})
	}
	require.Equal(t, []string{"0 hosts", "1 host", "2 hosts", "1 entry", "2 entries"},
		[]string{plural(0, "host"), plural(1, "host"), plural(2, "host"), entries(1), entries(2)})
}

// TestLengthsThatAreTyped: what a length of time may be, and what is said of what is none.
func TestLengthsThatAreTyped(t *testing.T) {
	for text, want := range map[string]time.Duration{"90d": 90 * 24 * time.Hour, "0d": 0, "5m": 5 * time.Minute,
		"1h30m": 90 * time.Minute, "250ms": 250 * time.Millisecond} {
		var got length
		require.NoError(t, got.Set(text), text)
		require.Equal(t, want, time.Duration(got), text)
	}
	for _, text := range []string{"", "5", "d", "-1d", "1.5d", "70000d", "5 m", "tide", "-5m", "9999999h"} {
		var got length
		err := got.Set(text)
		require.Error(t, err, text)
		require.NotContains(t, err.Error(), "strconv", text)
		require.NotContains(t, err.Error(), "time:", text)
	}
}

// TestExcerpt: the line of a problem with a mark below it, also where the line is long or the place is beyond its end.
func TestExcerpt(t *testing.T) {
	long := strings.Repeat("a", 300)
	for _, c := range []struct {
		line                string
		column, width       int
		shown, before, mark string
	}{
		{"allow x: a -> b", 7, 1, "allow x: a -> b", "allow ", "^"},
		{"\tallow x", 2, 5, "\tallow x", "\t", "^^^^^"},
		{"allow", 6, 3, "allow", "allow", "^"},
		{"allow", 99, 3, "allow", "allow", "^"},
		{"allow", 0, 3, "allow", "", "^^^"}, // a place that knows its line alone
		{"allow\r", 1, 99, "allow", "", "^^^^^"},
		{"", 1, 1, "", "", "^"},
		{"Šaltmarsh x", 11, 1, "Šaltmarsh x", "Šaltmarsh ", "^"},
		{long, 1, 2, long[:160] + " …", "", "^^"},
		{long, 250, 2, "… " + long[:80] + long[249:], "… " + long[:80], "^^"},
	} {
		shown, pad, mark := excerpt(c.line, c.column, c.width)
		require.Equal(t, []string{c.shown, c.mark}, []string{shown, mark}, c.line)
		require.Equal(t, len([]rune(c.before)), len([]rune(pad)), c.line)
		require.Equal(t, strings.Count(c.before, "\t"), strings.Count(pad, "\t"), "what follows stays in its column")
		require.Empty(t, strings.Trim(pad, " \t"))
	}
}

// TestFolded: words stay whole, and no line is wider than there is room unless a word is.
func TestFolded(t *testing.T) {
	require.Equal(t, "", folded("", 4, 20))
	require.Equal(t, "the tide\n    comes in\n    and goes", folded("the tide comes in and goes", 4, 14))
	require.Equal(t, "a\n  "+strings.Repeat("b", 30)+"\n  c", folded("a "+strings.Repeat("b", 30)+" c", 2, 10))
}

// TestWhatElseARecordSays: what belongs to an entry, bounded, without what is for programs.
func TestWhatElseARecordSays(t *testing.T) {
	of := func(with map[string]string) string { return besides(record.Entry{With: with}) }
	require.Equal(t, "", of(nil))
	require.Equal(t, "", of(map[string]string{"meaning": "0a1b"}))
	require.Equal(t, " (hosts 2; revision 7)", of(map[string]string{"revision": "7", "hosts": "2", "meaning": "0a1b"}))
	long := of(map[string]string{"why": strings.Repeat("š", 1000)})
	require.Less(t, len([]rune(long)), 1000)
	require.Contains(t, long, "…)")
}

// TestSettingsThatChange: which settings are taken over while the service runs, and which when it starts again.
func TestSettingsThatChange(t *testing.T) {
	was := []Setting{{Name: "listen", Value: "a"}, {Name: atOnce[0], Value: "1"}, {Name: "gone", Value: "x"}, {Name: "same", Value: "y"}}
	now := []Setting{{Name: "listen", Value: "b"}, {Name: atOnce[0], Value: "2"}, {Name: "same", Value: "y"}, {Name: "came", Value: "z"}}
	changed, later := differing(was, now)
	require.Equal(t, []string{atOnce[0]}, changed)
	require.Equal(t, []string{"came", "gone", "listen"}, later)
	changed, later = differing(now, now)
	require.Empty(t, append(changed, later...))
}

// TestPlacesAndSenders: lists that are cut short say by how much.
func TestPlacesAndSenders(t *testing.T) {
	require.Equal(t, "a, b, c, d", someOf([]string{"a", "b", "c", "d"}))
	require.Equal(t, "a, b, c, d and 2 more places", someOf([]string{"a", "b", "c", "d", "e", "f"}))
	g := traffic.Group{Direction: "in", Hosts: []string{"charts-01", "charts-02"}, SendersOf: 5,
		Senders: []traffic.Sender{{Address: netip.MustParsePrefix("198.51.100.7/32")}, {Address: netip.MustParsePrefix("2001:db8::/64")}}}
	require.Equal(t, "198.51.100.7, 2001:db8::/64, 3 more to charts-01, charts-02", sendersText(g))
	g.Direction, g.SendersOf = "out", 2
	require.Equal(t, "198.51.100.7, 2001:db8::/64 (charts-01, charts-02)", sendersText(g))
}

// TestVersionOfABuild: what a build says of itself, and one that says nothing.
func TestVersionOfABuild(t *testing.T) {
	v := versionOf(&debug.BuildInfo{Settings: []debug.BuildSetting{{Key: "vcs.revision", Value: "0a1b2c"}, {Key: "vcs.modified",
		Value: "true"},
		{Key: "vcs.time", Value: "2026-11-29T01:00:00Z"}}}, true)
	require.Equal(t, []any{"0a1b2c", true, "2026-11-29T01:00:00Z", api.Version}, []any{v.Commit, v.Modified, v.Time, v.Version})
	require.Empty(t, versionOf(nil, false).Commit)
}
