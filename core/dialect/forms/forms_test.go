package forms_test

import (
	"errors"
	"math/rand/v2"
	"reflect"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/dialect"
	"yellowfence.example/yfence/core/dialect/forms"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy/policytest"
)

// TestConformance is what every dialect must do, tried on random policies with
// every overlap of blocks, exceptions, limits and logs: the rules tried in order,
// and those that are written and read back, come to the very decision of the
// policy, where order never decides; and what is read back is recognised as ours.
func TestConformance(t *testing.T) {
	for _, f := range forms.All {
		t.Run(f.Name(), func(t *testing.T) {
			tried := 0
			for seed := range policytest.Trials(map[string]uint64{"portable": 160}[f.Name()] + 40) {
				text := policytest.Random(rand.New(rand.NewPCG(7, seed)))
				pol := policytest.Resolve(t, policytest.Fleet, text)
				for _, h := range pol.Fleet.Hosts {
					sp := packet.NewSpace()
					plan := compile.ForHost(sp, pol, h, 0)
					if seed%5 == 4 { // every fifth is paused
						plan = plan.Paused(sp)
						require.Equal(t, packet.Empty, sp.Where(plan.Decision(sp), packet.Outcome.Refused))
					}
					files, err := f.Write(sp, plan)
					var refused *dialect.Refusal
					if f.Name() == "portable" && errors.As(err, &refused) { // which counts nothing
						continue
					}
					tried++
					require.NoError(t, err)
					read, err := f.Read(sp, h, files)
					require.NoError(t, err)
					rules, want := f.Rules(sp, plan), plan.Decision(sp)
					for what, rs := range map[string]*kernel.Ruleset{"rules": rules, "read back": read} {
						if got := rs.Decision(sp); want != got {
							p, _ := sp.Example(sp.Differ(want, got), packet.Preferences{})
							t.Fatalf("seed %d host %s, %s: %s is %v, and should be %v\n%s\n%s", seed, h.Name, what, p, sp.Outcome(got, p),
								sp.Outcome(want, p), text, joined(files))
						}
					}
					require.Equal(t, rules.Signature(sp, f.Ours), read.Signature(sp, f.Ours), "seed %d host %s\n%s", seed, h.Name,
						joined(files))
				}
			}
			require.Greater(t, tried, 100)
		})
	}
}

func joined(files []dialect.File) (text string) {
	for _, f := range files {
		text += "==> " + string(f.Kind) + "\n" + f.Text
	}
	return text
}

// kernels are the dialects that a kernel's own filter has, which say all that a policy does.
var kernels = []dialect.Form{forms.Writing("nft"), forms.Writing("iptables")}

// TestProve: a line that is left out of what is written is found.
func TestProve(t *testing.T) {
	for _, f := range kernels {
		t.Run(f.Name(), func(t *testing.T) {
			broken := 0
			for seed := range policytest.Trials(20) {
				pol := policytest.Resolve(t, policytest.Fleet, policytest.Random(rand.New(rand.NewPCG(17, seed))))
				for _, h := range pol.Fleet.Hosts {
					sp := packet.NewSpace()
					plan := compile.ForHost(sp, pol, h, 0)
					files, err := f.Write(sp, plan)
					require.NoError(t, err)
					require.NoError(t, dialect.Prove(f, sp, plan, files), "seed %d host %s\n%s", seed, h.Name, joined(files))
					for i := range files {
						lines := strings.SplitAfter(files[i].Text, "\n")
						at := slices.IndexFunc(lines, func(l string) bool {
							return strings.Contains(l, `"allow a0"`) && strings.Contains(strings.ToLower(l), "accept")
						})
						if at < 0 {
							continue
						}
						less := slices.Clone(files)
						less[i].Text = strings.Join(slices.Delete(lines, at, at+1), "")
						if err := dialect.Prove(f, sp, plan, less); err != nil {
							require.ErrorContains(t, err, "the rules written for "+h.Name+" are wrong, which is a mistake of ours: ")
							broken++
						}
					}
				}
			}
			require.Greater(t, broken, 10)
		})
	}
}

// TestRefusals: what a dialect cannot say is refused by the rule's name.
func TestRefusals(t *testing.T) {
	const roles = "policy p language 1\nrole red\nrole blue\nrole green\n"
	for _, c := range []struct{ dialect, rules, want string }{
		{"iptables", "allow a: everywhere -> red : ssh until 2040-01-01\n", "allow a: a date of 2040-01-02, which is after 2038-01-19"},
		{"iptables", "allow a: everywhere -> red : ssh at most 20000 per 1m\n", "allow a: at most 20000, which is more than 10000 at once"},
		{"iptables", "allow a: everywhere -> red : ssh at most 3000 per 1s\n",
			"allow a: at most 3000 per second: it counts in millionths of a second, and so many do not come out even"},
		{"nft", "block a: red -> everywhere : ssh from program /usr/bin/ssh\n", "block a: from program"},
		{"iptables", "block a: red -> everywhere : ssh from program /usr/bin/ssh\n", "block a: from program"},
	} {
		pol := policytest.Resolve(t, policytest.Fleet, roles+c.rules)
		sp := packet.NewSpace()
		f := forms.Of(&fleet.Host{Dialect: c.dialect})
		_, err := f.Write(sp, compile.ForHost(sp, pol, pol.Fleet.Host("h1"), 0))
		require.EqualError(t, err, "the rules of h1 cannot be written for "+c.dialect+": it has no way yet to say "+c.want)
	}
	for _, kind := range forms.Files() {
		require.NotNil(t, forms.Writing(kind))
	}
	for _, l := range forms.Listings() {
		require.NotNil(t, forms.Reading(l.Kind))
	}
	require.Nil(t, forms.Reading("nft"))
	require.Nil(t, forms.Writing("iptables-save"))
}

// TestEnumsNameAllKinds: what a schema tells of dialects and kinds is what there is. A tag of a
// field is a constant, so it cannot be made from the lists.
func TestEnumsNameAllKinds(t *testing.T) {
	var listings []string
	for _, l := range forms.Listings() {
		listings = append(listings, string(l.Kind))
	}
	var files []string
	for _, k := range forms.Files() {
		files = append(files, string(k))
	}
	for _, c := range []struct {
		of    any
		field string
		want  []string
	}{
		{fleet.Host{}, "Dialect", fleet.Dialects},
		{dialect.Dump{}, "Kind", listings},
		{dialect.File{}, "Kind", append(files, "group")},
	} {
		field, ok := reflect.TypeOf(c.of).FieldByName(c.field)
		require.True(t, ok)
		require.ElementsMatch(t, c.want, strings.Split(field.Tag.Get("enum"), ","), "the field %s of %T", c.field, c.of)
	}
	for _, f := range forms.All {
		require.Contains(t, fleet.Dialects, f.Name(), "a fleet file can name every dialect that is written")
	}
}
