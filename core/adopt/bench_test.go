package adopt_test

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/adopt"
	"yellowfence.example/yfence/core/dialect/nft"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
)

// BenchmarkAdopt adopts 200 hosts of 20 kinds, each with 200 rules as people write them,
// from the text of their listings.
func BenchmarkAdopt(b *testing.B) {
	const hosts, kinds, rules = 200, 20, 200
	fl := &fleet.Fleet{}
	text := `{"hosts": [`
	for i := range hosts {
		if i > 0 {
			text += ",\n"
		}
		text += fmt.Sprintf(`{"name": "kind-%d-%03d", "roles": ["new"], "dialect": "nft", "interfaces": [{"name": "eth0", "addresses": `+
			`["10.%d.%d.1/16"]}, {"name": "eth1", "addresses": ["172.16.%d.1/16"]}]}`, i%kinds, i, 40+i%kinds, i, i)
	}
	fl, problems := fleet.ReadJSON("fleet.json", []byte(text+"]}"))
	require.Empty(b, problems)
	dumps := make([]string, kinds)
	for k := range dumps {
		rng := rand.New(rand.NewPCG(uint64(k), 3))
		var t strings.Builder
		t.WriteString("table inet filter {\n\tchain input {\n\t\ttype filter hook input priority 0; policy drop;\n\t\tiif \"lo\" " +
			"accept\n\t\tct state established,related accept\n\t\tct state invalid drop\n")
		for range rules - 3 {
			from := fmt.Sprintf("ip saddr 10.%d.%d.0/24", 40+rng.IntN(kinds), rng.IntN(256))
			if rng.IntN(3) == 0 {
				from = fmt.Sprintf("ip saddr 198.51.100.%d", rng.IntN(256))
			}
			fmt.Fprintf(&t, "\t\t%s tcp dport %d %s\n", from, []int{22, 80, 443, 5432, 8080, 49417, 8883}[rng.IntN(7)],
				[]string{"accept", "accept", "accept", "drop"}[rng.IntN(4)])
		}
		t.WriteString("\t}\n}\n")
		dumps[k] = t.String()
	}
	var all []adopt.Host
	for i, h := range fl.Hosts {
		all = append(all, adopt.Host{Name: h.Name, Read: func(sp *packet.Space) (*kernel.Ruleset, error) {
			return nft.ReadText(sp, "dump", []byte(dumps[i%kinds]), &kernel.Names{})
		}})
	}
	for b.Loop() {
		r, err := adopt.Policy(fl, "large", all, now)
		require.NoError(b, err)
		require.Len(b, r.Roles, kinds)
		b.ReportMetric(float64(r.Lines), "lines")
		b.ReportMetric(float64(len(r.Left)), "left")
	}
}
