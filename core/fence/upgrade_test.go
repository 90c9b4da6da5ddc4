package fence_test

import (
	"regexp"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/source"
)

// upgraded is a policy's text as it is written now.
func upgraded(t *testing.T, text string) string {
	t.Helper()
	file, problems := fence.Parse("p.fence", text)
	problems = slices.DeleteFunc(problems, func(p source.Problem) bool { return p.Code == fence.FormerCode })
	require.Empty(t, problems)
	fence.Upgrade([]*fence.File{file})
	return fence.Print(file)
}

// TestUpgrade: what was written otherwise, with what it is now; done again nothing changes, and
// the new text has no problem.
func TestUpgrade(t *testing.T) {
	for _, c := range []struct{ former, now string }{
		{"redirect r: a -> b : tcp 80 at gate to tcp 81", "redirect r: a -> b : tcp 80 through gate to tcp 81\n"},
		{"masquerade m: a -> b via gate  off", "off masquerade m: a -> b through gate\n"},
		{"expect e: only a -> b : ssh", "expect e: only a -> b : ssh\nexpect e-works: always a -> b : ssh\n"},
		{"expect e: only a -> b : ssh on lan # for them",
			"expect e: only a -> b : ssh # for them\nexpect e-works: always a -> b : ssh on lan\n"},
		{"expect e: only a -> b : ssh\nexpect f: always a -> b : ssh", "expect e: only a -> b : ssh\nexpect f: always a -> b : ssh\n"},
		{"allow e-works: a -> b : ssh\nexpect e: only a -> b : ssh",
			"allow e-works: a -> b : ssh\nexpect e: only a -> b : ssh\nexpect e-works-2: always a -> b : ssh\n"},
		{"expect e: never a -> b : ssh off", "off expect e: never a -> b : ssh because \"no reason was given\"\n"},
		{"expect e: never a -> b : ssh", "expect e: never a -> b : ssh\n"},
	} {
		now := upgraded(t, c.former)
		require.Equal(t, c.now, regexp.MustCompile(` +`).ReplaceAllString(now, " "))
		require.Equal(t, now, upgraded(t, now))
		_, problems := fence.Parse("p.fence", now)
		require.Empty(t, problems)
	}
	_, problems := fence.Parse("p.fence", "masquerade m: a -> b via gate\n")
	require.Len(t, problems, 1)
	require.Equal(t, `"via" is now "through" here`, problems[0].Message)
}
