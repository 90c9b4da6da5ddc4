// Package examples holds policies of organisations of different shape, each in a folder with its
// fleet and a page of what it shows.
package examples

import (
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/check"
	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/dialect"
	"yellowfence.example/yfence/core/dialect/forms"
	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/core/policy/policytest"
)

var update = flag.Bool("update", false, "write each example's warnings.txt anew")

// all calls f for each example, with its files and its fleet.
func all(t *testing.T, f func(t *testing.T, dir string, sources []policy.Source, fl *fleet.Fleet)) {
	dirs, err := filepath.Glob("*/fleet.csv")
	require.NoError(t, err)
	require.Len(t, dirs, 12)
	for _, file := range dirs {
		dir := filepath.Dir(file)
		t.Run(dir, func(t *testing.T) {
			sources, fl := policytest.Folder(t, dir)
			f(t, dir, sources, fl)
		})
	}
}

// TestExamples: each is laid out, draws no warning that is not accepted, and its hosts' rules are proven
// in whatever dialect they have. Every warning that it accepts is written down with what a careful colleague
// says of it: one that is new, or is told no more, is looked at by a person.
func TestExamples(t *testing.T) {
	budget := packet.Budget{Edges: 2_000_000}
	all(t, func(t *testing.T, dir string, sources []policy.Source, fl *fleet.Fleet) {
		for _, s := range sources {
			if strings.HasSuffix(s.Name, ".fence") {
				file, problems := fence.Parse(s.Name, s.Text)
				require.Empty(t, problems)
				require.Equal(t, fence.Print(file), s.Text, "%s is laid out: yfence tidy -w", s.Name)
			}
		}
		page, err := os.ReadFile(filepath.Join(dir, "README.md"))
		require.NoError(t, err)
		require.Contains(t, string(page), "It shows\n\n- ")

		now := time.Now().Unix()
		accepted, problems, err := check.AcceptedWithin(budget, sources, fl, now)
		require.NoError(t, err)
		require.Empty(t, problems)
		var said strings.Builder
		for _, a := range accepted {
			for _, p := range a.Covers {
				fmt.Fprintf(&said, "%s %s: %s\n    %s\n", p.Code, a.In, p.Message, a.Why)
			}
		}
		golden := filepath.Join(dir, "warnings.txt")
		if *update {
			require.NoError(t, os.WriteFile(golden, []byte(said.String()), 0o644))
		}
		want, err := os.ReadFile(golden)
		require.NoError(t, err)
		require.Equal(t, string(want), said.String(), "go test ./examples -update, and read what changed")

		pol, _ := check.Policy(sources, fl, now)
		for _, h := range fl.Hosts {
			if h.Others() {
				continue
			}
			sp := packet.NewSpace()
			sp.Since(now)
			plan := compile.ForHost(sp, pol, h, now)
			files, err := forms.Of(h).Write(sp, plan)
			require.NoError(t, err, h.Name)
			require.NoError(t, dialect.Prove(forms.Of(h), sp, plan, files), h.Name)
		}
	})
}

// TestAChangeIsALine: what people do most changes one line of the largest example.
func TestAChangeIsALine(t *testing.T) {
	text, err := os.ReadFile("hospital/hospital.fence")
	require.NoError(t, err)
	hosts, err := os.ReadFile("hospital/fleet.csv")
	require.NoError(t, err)
	tidy := func(text string) string {
		file, problems := fence.Parse("hospital.fence", text)
		require.Empty(t, problems)
		return fence.Print(file)
	}
	for what, change := range map[string][2]string{
		"a rule that is wider": {"station -> archive : pictures, https",
			"station, lab -> archive : pictures, https, tcp 8443-8446"},
		"a rule with a longer name": {"allow view:   ", "allow view-of-pictures-in-the-wards: "},
		"another rule":              {"allow results:", "allow the-results-of-blood-tests: lab -> ehr : tcp 2577 log\nallow results:"},
		"a role":                    {"role lab\n", "role pharmacy-and-its-stores\nrole lab\n"},
		"an end": {"allow claims:           ehr -> insurer : https  because",
			"allow claims:           ehr -> insurer : https  until 2036-12-31  because"},
		"an end that several share":    {"with until 2036-06-30", "with until 2036-09-30"},
		"a rule that is off for a day": {"allow claims:", "off allow claims:"},
	} {
		require.Equal(t, 1, strings.Count(string(text), change[0]), what)
		require.Equal(t, 1, changed(string(text), tidy(strings.Replace(string(text), change[0], change[1], 1))), what)
	}
	before, problems := fleet.Read("fleet.csv", hosts)
	require.Empty(t, problems)
	after, problems := fleet.Read("fleet.csv", []byte(string(hosts)+"station-05,station,nft,eth0,10.41.1.5/16\n"))
	require.Empty(t, problems)
	require.Len(t, after.Hosts, len(before.Hosts)+1, "a host is a line, too")
}

// changed is how many lines of a text are others, or new, in another.
func changed(before, after string) int {
	was := map[string]int{}
	for _, line := range strings.Split(before, "\n") {
		was[line]++
	}
	n := 0
	for _, line := range strings.Split(after, "\n") {
		if was[line]--; was[line] < 0 {
			n++
		}
	}
	return n
}
