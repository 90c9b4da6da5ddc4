package dialect_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/dialect"
	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
)

func TestReadDocument(t *testing.T) {
	type document struct {
		Kind    string `json:"kind"`
		Version int    `json:"version"`
	}
	for text, want := range map[string]string{
		`{"kind": "tide table", "version": 1}`:                "",
		`{"kind": "tide table", "version": 1}` + "\n":         "",
		`{"kind": "tide table", "version": 1} {}`:             "something follows behind the table, at byte 37",
		`{"kind": "tide table", "version": 1, "moon": "new"}`: `this is no whole table of tides: json: unknown field "moon"`,
		`{"kind": "tide table"`:                               "this is no whole table of tides: unexpected EOF",
		`{"kind": 4}`:                                         "cannot unmarshal number into Go struct field document.kind of type string",
		``:                                                    "this is no whole table of tides: EOF",
		`{"kind": "tide table", "version": 2}`:                "it is of version 2; this program reads version 1",
		`{"kind": "moon table", "version": 1}`:                `its kind is "moon table", not "tide table"`,
	} {
		var d document
		err := dialect.ReadDocument([]byte(text), "table", " of tides", &d)
		if err == nil {
			err = dialect.CheckDocument(d.Kind, "tide table", d.Version)
		}
		if want == "" {
			require.NoError(t, err, text)
			require.True(t, dialect.IsDocument([]byte(text), "tide table"))
		} else {
			require.ErrorContains(t, err, want, text)
		}
	}
	require.False(t, dialect.IsDocument([]byte("table inet harbour {}"), "tide table"))
	require.Equal(t, "{\n  \"kind\": \"<tide>\",\n  \"version\": 1\n}\n", dialect.DocumentText(document{"<tide>", 1}),
		"as a person writes it, with its own characters")
}

func TestDirectionOfAChain(t *testing.T) {
	for name, want := range map[string]struct {
		d          packet.Direction
		helper, ok bool
	}{
		"inbound":            {packet.Inbound, false, true},
		"inbound-front-door": {packet.Inbound, true, true},
		"outbound-names":     {packet.Outbound, true, true},
		"forward":            {packet.Forward, false, true},
		"forwarding":         {}, // another word that begins alike
		"front-inbound":      {},
		"":                   {},
	} {
		d, helper, ok := dialect.Direction(name)
		require.Equal(t, want.ok, ok, name)
		if ok {
			require.Equal(t, want.d, d, name)
			require.Equal(t, want.helper, helper, name)
		}
	}
}

// TestMissing: of a family that no dump tells of, anything may be refused; where a dump tells of
// both, nothing is missing.
func TestMissing(t *testing.T) {
	both := dialect.Listing{Kind: "both", Families: []int{packet.IPv4, packet.IPv6}}
	four := dialect.Listing{Kind: "four", Families: []int{packet.IPv4}}
	six := dialect.Listing{Kind: "six", Families: []int{packet.IPv6}}
	known := []dialect.Listing{both, four, six, {Kind: dialect.ListingRoutes}}
	for _, c := range []struct {
		given   []dialect.Listing
		missing []int
	}{
		{[]dialect.Listing{both}, nil},
		{[]dialect.Listing{four, six}, nil},
		{[]dialect.Listing{four}, []int{packet.IPv6}},
		{[]dialect.Listing{six}, []int{packet.IPv4}},
		{[]dialect.Listing{{Kind: dialect.ListingRoutes}}, []int{packet.IPv4, packet.IPv6}},
		{nil, nil}, // somebody says that there are no rules at all
	} {
		sp := packet.NewSpace()
		rs := dialect.Missing(sp, c.given, known)
		require.Len(t, rs.Chains, 3*len(c.missing), "each hook: %v", c)
		// What is not known is asked of the space: assume that it is so, and all is refused.
		refused := packet.Empty
		for _, chain := range rs.Chains {
			require.Contains(t, []string{"input", "forward", "output"}, chain.Hook)
			for _, r := range chain.Rules {
				require.Equal(t, kernel.Drop, r.Branches[0].Action)
				refused = sp.Or(refused, r.Match)
			}
		}
		require.Equal(t, len(c.missing) == 0, refused == packet.Empty, "%v", c)
		require.NotEqual(t, packet.All, refused, "that they refuse is not certain")
	}
}

// TestRoutesOfBothFamilies: each may have been printed by itself; together they are the host's.
func TestRoutesOfBothFamilies(t *testing.T) {
	sp := packet.NewSpace()
	r := &dialect.Reading{Space: sp, Names: &kernel.Names{}}
	for _, text := range []string{"default via 192.0.2.1 dev eth0\nlocal 192.0.2.4 dev eth0 table local scope host src 192.0.2.4\n",
		"default via 2001:db8::1 dev eth1 metric 1024\nlocal 2001:db8::4 dev eth1 table local metric 0\n"} {
		rs, err := dialect.Routes{}.Read(r, dialect.Dump{Kind: dialect.ListingRoutes, Text: text})
		require.NoError(t, err)
		require.Empty(t, rs.Chains)
	}
	whole, err := kernel.ReadRoutes("default via 192.0.2.1 dev eth0\nlocal 192.0.2.4 dev eth0 table local scope host src 192.0.2.4\n" +
		"default via 2001:db8::1 dev eth1 metric 1024\nlocal 2001:db8::4 dev eth1 table local metric 0\n")
	require.NoError(t, err)
	require.Equal(t, whole, r.Names.Routes)

	_, err = dialect.Routes{}.Read(r, dialect.Dump{Text: "10.0.0.0/40 dev eth0\n"})
	require.Error(t, err)
	require.Equal(t, whole, r.Names.Routes, "what was known stays")
}
