package live_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/dialect"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/internal/live"
)

// TestInOrder: rules stand as a packet meets them, whatever their order in the listing.
func TestInOrder(t *testing.T) {
	listing := `table inet mine {
	chain idle {
		accept
	}
	chain late {
		type filter hook input priority 10; policy accept;
		jump shared
		drop
	}
	chain early {
		type filter hook input priority -5; policy drop;
		tcp dport vmap { 22 : jump shared, 80 : goto empty }
		ct state new accept
	}
	chain shared {
		tcp dport 22 accept
		jump again
	}
	chain again {
		jump shared
	}
	chain empty {
	}
	chain out {
		type filter hook output priority 0; policy accept;
		jump shared
	}
}
`
	sp := packet.NewSpace()
	rs, err := live.Read(sp, api.InForce{Dumps: []api.Dump{{Kind: "nft-text", Text: listing, File: "x.nft"}}, Complete: true})
	require.NoError(t, err)
	var b strings.Builder
	for _, h := range live.InOrder(live.Chains(rs, []api.Count{{At: rs.Chains[2].Rules[1].At, Packets: 7, Bytes: 420}})) {
		fmt.Fprintf(&b, "%q\n", h.Name)
		for _, l := range h.Lines {
			indent := strings.Repeat("  ", l.Depth+1)
			if l.Chain != nil {
				fmt.Fprintf(&b, "%s%s %d %d %s\n", indent, l.Chain.Place, l.Chain.Rules, l.Chain.Again, l.Chain.Policy)
				continue
			}
			fmt.Fprintf(&b, "%s%d %s", indent, l.Number, l.Rule.Text)
			if l.Rule.Packets != nil {
				fmt.Fprintf(&b, " counted %d %d", *l.Rule.Packets, *l.Rule.Bytes)
			}
			b.WriteString("\n")
		}
	}
	require.Equal(t, `"input"
  inet mine/early 2 0 drop
  1 tcp dport vmap { 22 : jump shared, 80 : goto empty }
    inet mine/shared 2 0 
    2 tcp dport 22 accept
    3 jump again
      inet mine/again 1 0 
      4 jump shared
        inet mine/shared 2 2 
    inet mine/empty 0 0 
  5 ct state new accept counted 7 420
  inet mine/late 2 0 accept
  6 jump shared
    inet mine/shared 2 2 
  7 drop
"output"
  inet mine/out 1 0 accept
  8 jump shared
    inet mine/shared 2 0 
    9 tcp dport 22 accept
    10 jump again
      inet mine/again 1 0 
      11 jump shared
        inet mine/shared 2 9 
""
  inet mine/idle 1 0 
  12 accept
`, b.String())
}

// TestSets: what rules ask by name is told with what it holds, from each form of a listing, and of
// a large one the first.
func TestSets(t *testing.T) {
	var many strings.Builder
	for n := range 3000 {
		fmt.Fprintf(&many, "add pests 198.51.%d.%d\n", n/256, n%256)
	}
	table := func(kind dialect.Kind, text string) []api.NamedSet {
		return live.Sets(api.InForce{Dumps: []api.Dump{{Kind: kind, Text: text}}})
	}
	want := []api.NamedSet{
		{Table: "inet gate", Name: "jump", Elements: []string{"192.0.2.1", "192.0.2.8-192.0.2.11", "198.51.100.0/24"}, Total: 3},
		{Table: "inet gate", Name: "seen", Elements: []string{}, Changes: true},
		{Table: "ip gate", Name: "marks", Elements: []string{"192.0.2.1 : 7"}, Total: 1}}
	require.Equal(t, want, table("nft-text", `table inet gate {
	set jump {
		type ipv4_addr
		flags interval
		elements = { 192.0.2.1, 192.0.2.8-192.0.2.11,
			     198.51.100.0/24 }
	}
	set seen {
		type ipv4_addr
		flags dynamic,timeout
	}
}
table ip gate {
	map marks {
		type ipv4_addr : mark
		elements = { 192.0.2.1 : 7 }
	}
}
`))
	require.Equal(t, want, table("nft-json", `{"nftables": [
		{"set": {"family": "inet", "table": "gate", "name": "jump", "type": "ipv4_addr", "handle": 1, "flags": ["interval"],
			"elem": ["192.0.2.1", {"range": ["192.0.2.8", "192.0.2.11"]}, {"prefix": {"addr": "198.51.100.0", "len": 24}}]}},
		{"set": {"family": "inet", "table": "gate", "name": "seen", "type": "ipv4_addr", "handle": 2, "flags": ["timeout", "dynamic"]}},
		{"map": {"family": "ip", "table": "gate", "name": "marks", "type": "ipv4_addr", "handle": 3, "map": "mark",
			"elem": [["192.0.2.1", 7]]}}]}`))
	require.Equal(t, []api.NamedSet{{Name: "gates", Elements: []string{"jump", "seen"}, Total: 2, Changes: true},
		{Name: "jump", Elements: []string{"192.0.2.0/24", "192.0.2.1 nomatch"}, Total: 2},
		{Name: "seen", Elements: []string{}, Changes: true}},
		table("ipset-save", "create jump hash:net family inet\nadd jump 192.0.2.0/24\nadd jump 192.0.2.1 nomatch\n"+
			"create seen hash:ip family inet timeout 60\ncreate gates list:set\nadd gates jump\nadd gates seen\n"))

	got := table("ipset-save", "create pests hash:ip family inet\n"+many.String())
	require.Equal(t, []any{3000, 1000}, []any{got[0].Total, len(got[0].Elements)})
	for _, kind := range []dialect.Kind{"nft-text", "nft-json", "ipset-save", "iptables-save", "routes", "nobody's"} {
		require.Empty(t, table(kind, "table inet gate {"), kind)
	}
}
