package record_test

import (
	"flag"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/pagetest"
	"yellowfence.example/yfence/core/record"
)

var _ = flag.Bool("update", false, "write the page anew")

// kept is a record as a database keeps it.
type kept struct {
	key    record.Key
	rows   []record.Row
	hashes []record.Hash
}

func (k *kept) stored(places []int64) (out []record.Hash, err error) {
	for _, p := range places {
		out = append(out, k.hashes[p])
	}
	return out, nil
}

// grow adds an entry as it is given: what does the adding cares for its number.
func (k *kept) grow(t testing.TB, body []byte) {
	size := int64(len(k.rows))
	g, err := record.Grow(size, body, k.stored)
	require.NoError(t, err)
	require.EqualValues(t, len(k.hashes), g.First)
	k.hashes = append(k.hashes, g.Store...)
	head, err := k.key.Sign(size+1, g.Root)
	require.NoError(t, err)
	k.rows = append(k.rows, record.Row{Number: size + 1, Body: string(body), Head: head})
}

func entry(t testing.TB, number int64, why string) []byte {
	body, err := record.Entry{Number: number, At: time.Date(2026, 11, 28, 8, 0, int(number), 0, time.UTC),
		By: record.Doer{Name: "pat", Kind: record.Person, From: "192.0.2.7"}, Deed: record.Published,
		On: fmt.Sprintf("revision %d", number), Why: why}.Body()
	require.NoError(t, err)
	return body
}

func recorded(t testing.TB, entries int64) *kept {
	k := &kept{key: record.NewKey([]byte(strings.Repeat("s", 32)))}
	for n := int64(1); n <= entries; n++ {
		k.grow(t, entry(t, n, "because"))
	}
	return k
}

func (k *kept) checkpoint(size int) record.Checkpoint {
	return record.Checkpoint{Version: 1, Key: k.key.Public(), Head: k.rows[size-1].Head}
}

func (k *kept) head(t testing.TB, size int) record.Head {
	h, err := record.Open(k.rows[size-1].Head, k.key.Public())
	require.NoError(t, err)
	return h
}

// verify goes through all rows and says what is wrong; "" where nothing is.
func (k *kept) verify(newest int64, earlier ...record.Checkpoint) string {
	v, err := record.Verify(k.key.Public(), earlier...)
	if err != nil {
		return err.Error()
	}
	for _, r := range k.rows {
		if wrong := v.Add(r); wrong != nil {
			return wrong.Error()
		}
	}
	if wrong := v.End(newest); wrong != nil {
		return wrong.Error()
	}
	return ""
}

// TestTampering changes a record of twelve entries in every way that the owner of a database has.
func TestTampering(t *testing.T) {
	other := record.NewKey([]byte(strings.Repeat("o", 32)))
	cases := map[string]struct {
		change func(k *kept)
		says   string
	}{
		"nothing": {func(*kept) {}, ""},
		"another reason": {func(k *kept) { k.rows[4].Body = strings.Replace(k.rows[4].Body, "because", "by the way", 1) },
			"entry 5 was changed: it is not what was signed when it was recorded"},
		"another name, and every hash after it made to fit": {func(k *kept) {
			rows := k.rows
			k.rows, k.hashes = nil, nil
			for i, r := range rows {
				if i == 6 {
					r.Body = strings.Replace(r.Body, "pat", "kim", 1)
				}
				k.grow(t, []byte(r.Body))
				k.rows[i].Head = rows[i].Head // which needs the key
			}
		}, "entry 7 was changed: it is not what was signed when it was recorded"},
		"one taken out": {func(k *kept) { k.rows = append(k.rows[:3:3], k.rows[4:]...) },
			"entry 4 is missing: entry 5 stands in its place"},
		"one taken out and the others moved up": {func(k *kept) {
			k.rows = append(k.rows[:3:3], k.rows[4:]...)
			for i := range k.rows {
				k.rows[i].Number = int64(i + 1)
			}
		}, "entry 4 was put into another place: it says of itself that it is entry 5"},
		"two exchanged": {func(k *kept) { k.rows[1].Body, k.rows[8].Body = k.rows[8].Body, k.rows[1].Body },
			"entry 2 was put into another place: it says of itself that it is entry 9"},
		"one twice": {func(k *kept) { k.rows = append(k.rows[:4:4], k.rows[3:]...) },
			"entry 5 is missing: entry 4 stands in its place"},
		"the last three taken away": {func(k *kept) { k.rows = k.rows[:9] }, "entries 10 to 12 are missing at the end"},
		"the last taken away":       {func(k *kept) { k.rows = k.rows[:11] }, "entry 12 is missing at the end"},
		"one added": {func(k *kept) {
			k.grow(t, entry(t, 13, "never"))
			stranger := *k
			stranger.key = other
			stranger.rows = append([]record.Row{}, k.rows[:12]...)
			stranger.hashes = append([]record.Hash{}, k.hashes[:len(k.hashes)-1]...)
			stranger.grow(t, entry(t, 13, "never"))
			k.rows[12] = stranger.rows[12]
		}, "entry 13 was added or changed: the head beside it is not the record's own: it is of another record (" + other.Origin() + ")"},
		"a head without a signature": {func(k *kept) { k.rows[2].Head, _, _ = strings.Cut(k.rows[2].Head, "\n\n") },
			"entry 3 was added or changed: the head beside it is not the record's own: it is not a signed head of a record"},
		"the head of another entry": {func(k *kept) { k.rows[2].Head = k.rows[1].Head },
			"entry 3 was changed: the head beside it is that of entry 2"},
		"no entry any more": {func(k *kept) { k.rows[5].Body = "{" }, "entry 6 was changed: it cannot be read any more"},
		"by who has the key": {func(k *kept) {
			k.rows, k.hashes = nil, nil
			for n := int64(1); n <= 12; n++ {
				k.grow(t, entry(t, n, map[bool]string{true: "never", false: "because"}[n == 8]))
			}
		}, "entry 10 or one before it was changed, and the record was signed anew: the checkpoint of 10 entries is not its beginning"},
		"all of it taken away": {func(k *kept) { k.rows = nil }, "entries 1 to 12 are missing at the end"},
	}
	for name, c := range cases {
		t.Run(name, func(t *testing.T) {
			k := recorded(t, 12)
			newest, earlier := int64(12), k.checkpoint(10)
			c.change(k)
			said := k.verify(newest, earlier)
			require.True(t, strings.HasPrefix(said, c.says) && (said == "") == (c.says == ""), said)
		})
	}
}

// TestCheckpoints holds a record against checkpoints that are not its own.
func TestCheckpoints(t *testing.T) {
	k, others := recorded(t, 6), recorded(t, 6)
	others.key = record.NewKey([]byte(strings.Repeat("o", 32)))
	others.rows, others.hashes = nil, nil
	others.grow(t, entry(t, 1, "theirs"))
	require.Contains(t, k.verify(6, others.checkpoint(1)), "the checkpoint is of another record: its key is record-")
	forged := others.checkpoint(1)
	forged.Key = k.key.Public()
	require.Contains(t, k.verify(6, forged), "the checkpoint does not hold: it is of another record")
	for _, bad := range []string{"", "x", strings.Repeat("x", 5000), "a\n1\nb\n\n— a AAAA\n"} {
		_, err := record.Open(bad, k.key.Public())
		require.Error(t, err, bad)
	}
	_, err := record.Open(k.rows[0].Head, "no key")
	require.ErrorContains(t, err, `not the public key of a record: "no key"`)
	ahead := recorded(t, 9).checkpoint(9)
	require.Equal(t, "entries 7 to 9 are missing at the end", k.verify(6, ahead), "it was put back from a backup")
}

// TestProofs proves each entry, and each earlier size, for every size; and nothing else.
func TestProofs(t *testing.T) {
	const most = 20
	k := recorded(t, most)
	for size := int64(1); size <= most; size++ {
		head := k.head(t, int(size))
		for n := int64(1); n <= size; n++ {
			proof, err := record.Prove(size, n, k.stored)
			require.NoError(t, err)
			require.NoError(t, head.Holds(n, []byte(k.rows[n-1].Body), proof))
			require.Error(t, head.Holds(n, []byte(k.rows[n-1].Body+" "), proof))
		}
		for early := int64(0); early <= size; early++ {
			proof, err := record.ProveEarlier(size, early, k.stored)
			require.NoError(t, err)
			before := record.Head{}
			if early > 0 {
				before = k.head(t, int(early))
			}
			require.NoError(t, head.Follows(before, proof))
			if before.Root[0]++; early > 0 {
				require.Error(t, head.Follows(before, proof))
			}
		}
	}
	require.Empty(t, k.verify(most))
	e, err := record.Read([]byte(k.rows[2].Body))
	require.NoError(t, err)
	require.Equal(t, []any{int64(3), "pat", "revision 3"}, []any{e.Number, e.By.Name, e.On})
	require.Equal(t, "published", record.Said(e.Deed))
	require.Equal(t, "dug", record.Said("dug"))
}

func BenchmarkVerify(b *testing.B) {
	k := recorded(b, 1000)
	newest := int64(1000)
	for b.Loop() {
		require.Empty(b, k.verify(newest))
	}
	b.ReportMetric(float64(b.Elapsed().Microseconds())/float64(b.N*1000), "µs/entry")
}

// Example keeps two entries, and finds that the first was changed.
func Example() {
	key := record.NewKey([]byte("a seed that has 32 bytes, made u"))
	var rows []record.Row
	var hashes []record.Hash
	for n, deed := range []string{record.Published, record.BeganWave} {
		body, _ := record.Entry{Number: int64(n + 1), By: record.Doer{Name: "pat", Kind: record.Person}, Deed: deed}.Body()
		grown, _ := record.Grow(int64(n), body, func(places []int64) (out []record.Hash, err error) {
			for _, p := range places {
				out = append(out, hashes[p])
			}
			return out, nil
		})
		hashes = append(hashes, grown.Store...)
		head, _ := key.Sign(int64(n+1), grown.Root)
		rows = append(rows, record.Row{Number: int64(n + 1), Body: string(body), Head: head})
	}
	rows[0].Body = strings.Replace(rows[0].Body, "pat", "kim", 1)
	v, _ := record.Verify(key.Public())
	fmt.Println(v.Add(rows[0]))
	// Output: entry 1 was changed: it is not what was signed when it was recorded
}

// TestTheDocumentation: the page that explains the record lists every deed, as the table has it.
func TestTheDocumentation(t *testing.T) {
	var rows [][]string
	for _, k := range record.Kinds {
		rows = append(rows, []string{"`" + k.Deed + "`", k.Of})
	}
	pagetest.Table(t, "../../docs/record.md", "| deed | what leaves it |", rows)
}
