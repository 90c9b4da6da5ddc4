package cli_test

import (
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/internal/cli"
)

// scattered writes a policy of 190 statements, and a fleet of hosts each of which has one or
// two of 40 roles and an address anywhere, in each format.
func scattered(b *testing.B, hosts int) (policy string, fleets map[fleet.Format]string) {
	dir := b.TempDir()
	rng := rand.New(rand.NewPCG(1, 1))
	var text strings.Builder
	text.WriteString("policy p \"\" language 1\nnetwork office = 203.0.113.0/26\nallow in: office -> fleet : ssh guard\n")
	for r := range 40 {
		fmt.Fprintf(&text, "role r%d\n", r)
	}
	for i := range 150 {
		fmt.Fprintf(&text, "allow a%d: r%d -> r%d : tcp %d\n", i, rng.IntN(40), rng.IntN(40), 2000+i)
	}
	policy = filepath.Join(dir, "policy")
	require.NoError(b, os.Mkdir(policy, 0o755))
	require.NoError(b, os.WriteFile(filepath.Join(policy, "p.fence"), []byte(text.String()), 0o600))
	var lines strings.Builder
	lines.WriteString("host,roles,dialect,interface,address\n")
	for i := range hosts {
		one, two := rng.IntN(40), rng.IntN(40)
		roles := fmt.Sprintf("r%d r%d", one, two)
		if i%2 == 0 || one == two {
			roles = fmt.Sprintf("r%d", one)
		}
		fmt.Fprintf(&lines, "h%06d,%s,nft,eth0,10.%d.%d.%d/8\nh%06d,%s,nft,eth0,2001:db8::%x/64\n", i, roles, i>>16, i>>8&255, i&255, i,
			roles, i+1)
	}
	fl, problems := fleet.Read("f.csv", []byte(lines.String()))
	require.Empty(b, problems)
	fleets = map[fleet.Format]string{}
	for _, f := range []fleet.Format{fleet.CSV, fleet.JSON, fleet.YAML} {
		body, err := fleet.Write(fl, f)
		require.NoError(b, err)
		fleets[f] = filepath.Join(dir, "fleet."+string(f))
		require.NoError(b, os.WriteFile(fleets[f], body, 0o600))
	}
	return policy, fleets
}

// BenchmarkFrontDoor runs commands as they are typed, over 10,000 hosts.
func BenchmarkFrontDoor(b *testing.B) {
	policy, fleets := scattered(b, 10_000)
	for _, args := range []string{"check", "ask r1~->~r2~:~tcp~2001", "rules h000000", "rules --all --into " +
		filepath.Join(b.TempDir(), "rules")} {
		for _, f := range []fleet.Format{fleet.CSV, fleet.JSON, fleet.YAML} {
			words := strings.Fields(args)
			for i := range words {
				words[i] = strings.ReplaceAll(words[i], "~", " ")
			}
			b.Run(words[0]+map[bool]string{true: "-all"}[len(words) > 2]+"/"+string(f), func(b *testing.B) {
				for b.Loop() {
					if code := cli.Main(append(words, "--policy", policy, "--fleet", fleets[f]), strings.NewReader(""), io.Discard,
						io.Discard, os.Getenv); code > 1 {
						b.Fatal(code)
					}
				}
			})
			if len(words) > 2 {
				break // what takes its time there is not the reading
			}
		}
	}
}
