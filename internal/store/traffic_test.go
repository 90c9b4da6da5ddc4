package store_test

import (
	"context"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/traffic"
	"yellowfence.example/yfence/internal/store"
	"yellowfence.example/yfence/internal/testbed"
)

// TestTooMuchTraffic: however much hosts tell, no more of it is read at once than there is room for,
// and what stays out is counted.
func TestTooMuchTraffic(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	dsn := testbed.Database(t)
	st := open(t, dsn)
	require.NoError(t, st.TakeTraffic(ctx, "h0", func(r *traffic.Record) bool {
		for n := range traffic.RecordFlows {
			at := netip.PrefixFrom(netip.AddrFrom4([4]byte{10, 40, byte(n >> 8), byte(n)}), 32)
			r.Seen.Add(traffic.Flow{Direction: "in", Src: at, Dst: at, Protocol: 17, Port: n}, 1, 1_800_000_000)
		}
		return true
	}))
	_, err := raw(t, dsn).Exec("INSERT INTO traffic SELECT CONCAT('h', seq), told_at, counted, refused, seen FROM traffic JOIN " +
		"seq_1_to_199")
	require.NoError(t, err)
	read := func(part store.TrafficPart) (flows, over int) {
		records, err := st.Traffic(ctx, part)
		require.NoError(t, err)
		require.Len(t, records, 200)
		for _, r := range records {
			flows, over = flows+r.Seen.Len()+r.Refused.Len(), over+int(r.Seen.Over)
		}
		return flows, over
	}
	flows, over := read(store.Seen)
	require.Equal(t, 200*traffic.RecordFlows, flows+over)
	require.Equal(t, 300_000, flows, "what there is room for")
	flows, over = read(store.Counted)
	require.Zero(t, flows+over)
}
