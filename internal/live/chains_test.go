package live_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/internal/api"
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
