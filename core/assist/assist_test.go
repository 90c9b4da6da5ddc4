package assist_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/assist"
	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/core/policy/policytest"
	"yellowfence.example/yfence/core/source"
)

// text is a policy with | where a case points to; p.fence declares, q.fence uses.
const declared = `policy p "pÖlicy" language 1
network office = 198.51.100.0/24, 2001:db8:5::/48  "the desks"
segment quay   = 10.40.0.0/16 shared
service web = tcp 80, 443, udp 9
role red "the red ones"
role blue
role green
`

// analyse marks the place of the | in the text that uses.
func analyse(t *testing.T, uses string) (*assist.Analysis, source.Pos) {
	t.Helper()
	fl, problems := fleet.ReadJSON("fleet.json", []byte(policytest.Fleet))
	require.Empty(t, problems)
	before, after, ok := strings.Cut(uses, "|")
	require.True(t, ok)
	line := strings.Count(before, "\n")
	column := len([]rune(before[strings.LastIndex(before, "\n")+1:])) + 1
	a := assist.Analyse([]policy.Source{{Name: "p.fence", Text: declared}, {Name: "q.fence", Text: before + after}}, fl)
	return a, source.Pos{File: "q.fence", Line: line + 1, Column: column}
}

func TestHover(t *testing.T) {
	for uses, want := range map[string]string{
		"allow a: off|ice -> red : ssh\n": "**network office**\n\nthe desks\n\n198.51.100.0/24, " +
			"2001:db8:5::/48",
		"allow a: office -> r|ed : ssh\n": "**role red**, 2 hosts\n\nthe red ones\n\nh1, h2",
		"peers desks = green, office \"who sits\"\nallow a: des|ks -> red : ssh\n": "**peers desks**, green, office (1 host)\n\nwho " +
			"sits\n\n198.51.100.0/24, 203.0.113.9, 2001:db8:5::/48",
		"allow a: office -> red : we|b\n":    "**service web**\n\ntcp 80, tcp 443, udp 9",
		"allow a: office -> red : |domain\n": "**service domain**\n\ntcp 53, udp 53",
		"allow a: office -> red : ssh on qu|ay\n": "**segment quay**, shared: strangers are on " +
			"it\n\n\n\n10.40.0.0/16",
		"allow |a: office -> red : ssh because \"why\"\n": "**allow a**: from office to red (2 hosts)\n\nwhy",
		"allow a: office -> red : ssh gu|ard\n":           "`guard`\n\npart of the way in; takes no date and no `off`",
		"al|low a: office -> red : ssh\n": "`allow NAME: PEERS -> PEERS : SERVICES  " +
			"modifiers`\n\nadmits connections; the left side starts them",
		"allow a: host h|2 -> red : ssh\n":                      "**host h2**: red, blue\n\n10.40.3.1, 198.51.100.7",
		"allow a: office -> red : ssh # Ünder the |\n":          "",
		"allow ä: office -> red : ssh because \"für\" gua|rd\n": "`guard`\n\npart of the way in; takes no date and no `off`",
	} {
		a, pos := analyse(t, uses)
		require.Equal(t, want, strings.TrimSpace(a.Hover(pos)), uses)
	}
}

func TestDefinitionUsesAndRename(t *testing.T) {
	const rules = "block b: office -> red : any\nallow a: office -> red : web over b\n"
	a, pos := analyse(t, strings.Replace(rules, "office -> red : web", "off|ice -> red : web", 1))
	d, ok := a.Definition(pos)
	require.True(t, ok)
	require.Equal(t, "p.fence:2:9", d.Pos.String())
	require.Len(t, a.Uses(pos), 3)
	places, err := a.Rename(pos, "desks")
	require.NoError(t, err)
	require.Len(t, places, 3)
	for name, want := range map[string]string{"red": `"red" is taken`, "ssh": `"ssh" is taken`, "Desks": `"Desks" is not a name`,
		"fleet": `"fleet" is not a name`} {
		_, err := a.Rename(pos, name)
		require.ErrorContains(t, err, want)
	}

	a, pos = analyse(t, strings.Replace(rules, "over b", "over |b", 1))
	d, ok = a.Definition(pos)
	require.True(t, ok)
	require.Equal(t, "q.fence:1:7", d.Pos.String(), "a rule's name, not a role's")
	a, pos = analyse(t, "allow a: office -> red : |ssh\n")
	_, ok = a.Definition(pos)
	require.False(t, ok, "a registered service is declared nowhere")
	_, err = a.Rename(pos, "x")
	require.ErrorContains(t, err, "no name that this policy declares stands here")
}

func TestComplete(t *testing.T) {
	for uses, want := range map[string][]string{
		"|":                                   {"allow", "expect", "network"},
		"al|":                                 {"allow", "block"},
		"allow a: |":                          {"red", "office", "quay", "fleet", "host"},
		"allow a: office -> |":                {"blue", "everywhere", "strangers"},
		"allow a: office -> red : |":          {"web", "ssh", "ping"},
		"allow a: office -> red : web, |":     {"ssh", "postgresql"},
		"allow a: office -> red : ssh |":      {"log", "guard", "over", "because"},
		"allow a: office -> red : ssh\n    |": {"log", "guard", "over", "because"},
		"block c: office -> red : ssh |":      {"by", "log"},
		"allow a: office -> red : ssh on |":   {"quay"},
		"block b: red -> blue : ssh\nallow a: office -> red : ssh over |": {"b"},
		"allow a: host |":                       {"h1", "h4"},
		"network n = |":                         {"office", "quay"},
		"masquerade m: red -> office through |": {"red", "green"},
	} {
		a, pos := analyse(t, uses)
		var got []string
		for _, p := range a.Complete(pos) {
			got = append(got, p.Text)
		}
		for _, w := range want {
			require.Contains(t, got, w, uses)
		}
	}
	a, pos := analyse(t, "block c: office -> red : ssh |")
	require.False(t, slices.ContainsFunc(a.Complete(pos), func(p assist.Proposal) bool { return p.Text == "guard" }),
		"guard goes with allow only")
	a, pos = analyse(t, "allow a: office -> red : ssh on |")
	require.Equal(t, "[{quay segment }]", fmt.Sprint(a.Complete(pos)))
}

// FuzzAnalyse: wherever an editor points, in whatever text, it gets an answer; what is
// renamed is found in the text under its old name.
func FuzzAnalyse(f *testing.F) {
	fl, problems := fleet.ReadJSON("fleet.json", []byte(policytest.Fleet))
	require.Empty(f, problems)
	f.Add("allow use: office, blue -> red : web  log\n", 1, 14)
	f.Add("expect on red: office can reach red : \"ssh\"\n", 1, 40)
	f.Add("role red { outbound ü", 1, 21)
	f.Add("", -1, -7)
	f.Fuzz(func(t *testing.T, text string, line, column int) {
		a := assist.Analyse([]policy.Source{{Name: "p.fence", Text: declared}, {Name: "q.fence", Text: text}}, fl)
		pos := source.Pos{File: "q.fence", Line: line, Column: column}
		a.Hover(pos)
		a.Definition(pos)
		a.Complete(pos)
		uses := a.Uses(pos)
		places, err := a.Rename(pos, "new-name")
		if err == nil {
			require.NotEmpty(t, places)
		}
		for _, u := range append(uses, places...) {
			require.Contains(t, map[string]string{"p.fence": declared, "q.fence": text}[u.Pos.File], u.Name)
		}
	})
}

// TestKinds: what a name is, for what an editor lists and colours.
func TestKinds(t *testing.T) {
	for uses, want := range map[string]string{
		"peers desks = green\nallow a: de|sks -> red : ssh\n": "peers",
		"allow a: office -> r|ed : ssh\n":                     "role",
		"allow a: offi|ce -> red : ssh\n":                     "network",
		"allow a: office -> red : ssh on qu|ay\n":             "segment",
		"allow a: office -> red : w|eb\n":                     "service",
		"allow |a: office -> red : ssh\n":                     "rule",
	} {
		a, pos := analyse(t, uses)
		require.Equal(t, want, a.Kind(pos), uses)
	}
}

// TestPartsInAnEditor: in a part its names stand alone, elsewhere behind the part's.
func TestPartsInAnEditor(t *testing.T) {
	fl, _ := fleet.ReadJSON("fleet.json",
		[]byte(`{"hosts": [{"name": "pacs-01", "roles": ["x-ray.pacs"], "interfaces": [{"name": "eth0", "addresses": `+
			`["203.0.113.3/28"]}]}]}`))
	a := assist.Analyse([]policy.Source{
		{Name: "a.fence", Text: "policy wards language 1\npart x-ray from \"x\"\nnetwork office = 198.51.100.0/26\nallow look: office -> " +
			"x-ray.pacs : https\n"},
		{Name: "x/r.fence", Text: "role pacs \"pictures\"\nallow see: office -> pacs : ssh\nallow more: \n"}}, fl)
	inside := source.Pos{File: "x/r.fence", Line: 2, Column: 23}
	require.Equal(t, "**role x-ray.pacs**, 1 host\n\npictures\n\npacs-01", a.Hover(inside))
	require.Equal(t, a.Hover(inside), a.Hover(source.Pos{File: "a.fence", Line: 4, Column: 31}))
	at, ok := a.Definition(source.Pos{File: "a.fence", Line: 4, Column: 24})
	require.True(t, ok)
	require.Equal(t, fence.Ident{Name: "pacs", Pos: source.Pos{File: "x/r.fence", Line: 1, Column: 6}}, at)
	uses, err := a.Rename(inside, "archive")
	require.NoError(t, err)
	require.Equal(t, []fence.Ident{{Name: "pacs", Pos: source.Pos{File: "a.fence", Line: 4, Column: 29}},
		{Name: "pacs", Pos: source.Pos{File: "x/r.fence", Line: 1, Column: 6}},
		{Name: "pacs", Pos: source.Pos{File: "x/r.fence", Line: 2, Column: 22}}}, uses)
	proposed := func(pos source.Pos) (names []string) {
		for _, p := range a.Complete(pos) {
			if p.Kind == "role" {
				names = append(names, p.Text)
			}
		}
		return names
	}
	require.Equal(t, []string{"pacs"}, proposed(source.Pos{File: "x/r.fence", Line: 3, Column: 13}))
	require.Equal(t, []string{"x-ray.pacs"}, proposed(source.Pos{File: "a.fence", Line: 4, Column: 13}))
}
