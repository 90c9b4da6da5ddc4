package source_test

import (
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/source"
)

func TestNearest(t *testing.T) {
	names := []string{"allow", "block", "network", "segment", "service", "role", "ntp", "udp", "tcp", "h1", "h2"}
	for _, c := range []struct{ word, want, why string }{
		{"allow", "allow", "the word itself"},
		{"alow", "allow", "one letter is missing"},
		{"bllock", "block", "one is too many"},
		{"netwrok", "network", "two changed places"},
		{"sercive", "service", "two that do not stand side by side"},
		{"rule", "role", "one is another"},
		{"tpc", "tcp", "the letters of a short word in another order"},
		{"upd", "udp", "the same"},
		{"ssh", "", "a short word with other letters is another word"},
		{"h3", "h1", "of two that are as near, the first in the alphabet"},
		{"everywhere", "", "nothing is near"},
		{"", "", "nothing was written"},
		{strings.Repeat("allow", 100), "", "longer than a name can be"},
	} {
		require.Equal(t, c.want, source.Nearest(c.word, names), "%q: %s", c.word, c.why)
	}
}

// TestNearestOfMany: names from outside may be many; a hint is worth a look at 2,000 of them.
func TestNearestOfMany(t *testing.T) {
	many := make([]string, 2001)
	for i := range many {
		many[i] = strings.Repeat("x", 250)
	}
	many[1999] = "lighthouse"
	require.Equal(t, "lighthouse", source.Nearest("lighthuose", many))
	many[1999], many[2000] = many[2000], many[1999]
	require.Empty(t, source.Nearest("lighthuose", many))
}

// TestNearestOrderNeverDecides: the same names in another order give the same hint.
func TestNearestOrderNeverDecides(t *testing.T) {
	rng := rand.New(rand.NewPCG(5, 8))
	word := func() string {
		letters := make([]byte, 1+rng.IntN(6))
		for i := range letters {
			letters[i] = "abc1"[rng.IntN(4)]
		}
		return string(letters)
	}
	for range 500 {
		names := make([]string, 12)
		for i := range names {
			names[i] = word()
		}
		meant := word()
		want := source.Nearest(meant, names)
		rng.Shuffle(len(names), func(i, j int) { names[i], names[j] = names[j], names[i] })
		require.Equal(t, want, source.Nearest(meant, names), "%q of %v", meant, names)
		if want != "" {
			require.Contains(t, names, want)
		}
	}
}

func TestProblemsStandInTheOrderOfTheirPlaces(t *testing.T) {
	at := func(file string, line, column int) source.Pos {
		return source.Pos{File: file, Line: line, Column: column}
	}
	problems := []source.Problem{
		source.Warningf(at("b.fence", 1, 1), 0, "empty-role", "no host has the role %s", "mail"),
		source.Errorf(at("a.fence", 9, 2), 4, "unknown-name", "later in the line"),
		source.Errorf(at("a.fence", 9, 1), 4, "unknown-name", "first of two at one place"),
		source.Errorf(at("a.fence", 9, 1), 4, "unknown-name", "second of two at one place"),
		source.Errorf(at("a.fence", 2, 7), 4, "syntax", "the first"),
	}
	require.Equal(t, 1, problems[0].Width, "a problem is at least a character wide")
	source.SortProblems(problems)
	var order []string
	for _, p := range problems {
		order = append(order, p.Message)
	}
	require.Equal(t, []string{"the first", "first of two at one place", "second of two at one place", "later in the line",
		"no host has the role mail"}, order)
	require.True(t, source.HasErrors(problems))
	require.False(t, source.HasErrors(problems[4:]), "a warning keeps nothing from being published")
	require.Equal(t, "give mail a host", problems[4].Hinted("give %s a host", "mail").Hint)
	require.Equal(t, "b.fence:1:1", at("b.fence", 1, 1).String())
}
