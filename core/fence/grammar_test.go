package fence

import (
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/exp/ebnf"
)

// lexical are the words of the grammar that no rule of it makes.
var lexical = map[string]func(t Token) bool{
	"Name": func(t Token) bool { return t.Kind == Word && IsName(t.Text) },
	"RuleName": func(t Token) bool {
		name, colon := strings.CutSuffix(t.Text, ":")
		return t.Kind == Word && colon && IsName(name)
	},
	"Reference": func(t Token) bool { return t.Kind == Word && (IsName(t.Text) || qualified(t.Text)) },
	"Word":      func(t Token) bool { return t.Kind == Word && !strings.HasSuffix(t.Text, ":") || t.Kind == String },
	"Text":      func(t Token) bool { return t.Kind == String },
	"Number":    func(t Token) bool { _, err := number(t.Text); return t.Kind == Word && err == nil },
	"Ports":     func(t Token) bool { return t.Kind == Word && regexp.MustCompile(`^\d+([-/]\d+)?$`).MatchString(t.Text) },
	"Address":   func(t Token) bool { _, wrong := parseAddr(t); return t.Kind == Word && wrong == nil },
	"Duration":  func(t Token) bool { _, ok := duration(t.Text); return t.Kind == Word && ok },
	"Date":      func(t Token) bool { return t.Kind == Word && instant.MatchString(t.Text) },
	"GroundPart": func(t Token) bool {
		return t.Kind == Word && strings.Contains(" "+strings.Join(GroundParts, " ")+" ", " "+t.Text+" ")
	},
}

// recognizer tells where what a grammar makes can end, wherever it can begin.
type recognizer struct {
	grammar ebnf.Grammar
	tokens  []Token
	known   map[string]map[int][]int
}

// production is ends of one that has a name, worked out once for each place.
func (r *recognizer) production(t *testing.T, name string, from int) []int {
	if r.known[name] == nil {
		r.known[name] = map[int][]int{}
	}
	ends, known := r.known[name][from]
	if !known {
		require.NotNil(t, r.grammar[name], "the grammar says nothing of %s", name)
		ends = r.ends(t, r.grammar[name].Expr, from)
		r.known[name][from] = ends
	}
	return ends
}

func (r *recognizer) ends(t *testing.T, e ebnf.Expression, from int) (out []int) {
	all := map[int]bool{}
	add := func(ends []int) {
		for _, end := range ends {
			if !all[end] {
				all[end] = true
				out = append(out, end)
			}
		}
	}
	switch e := e.(type) {
	case ebnf.Alternative:
		for _, one := range e {
			add(r.ends(t, one, from))
		}
	case ebnf.Sequence:
		places := []int{from}
		for _, one := range e {
			seen := map[int]bool{}
			var next []int
			for _, p := range places {
				for _, end := range r.ends(t, one, p) {
					if !seen[end] {
						seen[end] = true
						next = append(next, end)
					}
				}
			}
			places = next
		}
		add(places)
	case *ebnf.Group:
		return r.ends(t, e.Body, from)
	case *ebnf.Option:
		add([]int{from})
		add(r.ends(t, e.Body, from))
	case *ebnf.Repetition:
		add([]int{from})
		for i := 0; i < len(out); i++ {
			add(r.ends(t, e.Body, out[i]))
		}
	case *ebnf.Name:
		if is := lexical[e.String]; is != nil {
			if from < len(r.tokens) && is(r.tokens[from]) {
				return []int{from + 1}
			}
			return nil
		}
		return r.production(t, e.String, from)
	case *ebnf.Token:
		if from < len(r.tokens) && r.tokens[from].Kind != String && r.tokens[from].Text == e.String {
			return []int{from + 1}
		}
	default:
		require.Fail(t, "no such expression", "%T", e)
	}
	return out
}

// TestTheGrammarReadsEverything: what the page's grammar makes is what the parser reads, in every
// example of the page, of the tests and of examples/; and it has no rule that none of them needs.
func TestTheGrammarReadsEverything(t *testing.T) {
	page, err := os.ReadFile(reference)
	require.NoError(t, err)
	text := regexp.MustCompile("(?s)```ebnf\n(.*?)```").FindStringSubmatch(string(page))
	require.NotNil(t, text)
	grammar, err := ebnf.Parse("language.md", strings.NewReader(text[1]))
	require.NoError(t, err)

	texts := map[string]string{"everything": everything}
	for i, e := range regexp.MustCompile("(?s)```fence\n(.*?)```").FindAllStringSubmatch(string(page), -1) {
		texts["page "+string(rune('a'+i))] = e[1]
	}
	for _, root := range []string{"../../examples", "../../demo/saltmarsh"} {
		require.NoError(t, filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
			if err == nil && filepath.Ext(path) == ".fence" {
				data, err := os.ReadFile(path)
				texts[path] = string(data)
				return err
			}
			return err
		}))
	}
	require.Greater(t, len(texts), 20)
	used := map[string]bool{}
	for name, text := range texts {
		_, problems := Parse(name, text)
		require.Empty(t, problems, name)
		tokens, _ := Tokens(name, text)
		r := &recognizer{grammar, tokens, map[string]map[int][]int{}}
		ends := r.production(t, "File", 0)
		reached := 0
		for _, end := range ends {
			reached = max(reached, end)
		}
		if reached < len(tokens) {
			t.Errorf("%s: the grammar does not read %v", name, tokens[max(0, reached-3):min(len(tokens), reached+12)])
		}
		for production, places := range r.known {
			for _, ends := range places {
				used[production] = used[production] || len(ends) > 0
			}
		}
	}
	for name := range grammar {
		require.True(t, used[name], "nothing needs %s", name)
	}
	for _, s := range statements { // every word that begins a statement is in it
		require.Contains(t, text[1], `"`+s.Keyword+`"`)
	}
	for _, m := range modifiers {
		require.Contains(t, text[1], `"`+m.Keyword+`"`)
	}
	for _, wrong := range []string{"allow a: b -> c", "allow a b -> c : ssh", "role r { inbound }", "with { }x",
		"redirect r: a -> b : tcp 80-81 to tcp 90"} {
		tokens, _ := Tokens("wrong", wrong)
		r := &recognizer{grammar, tokens, map[string]map[int][]int{}}
		require.NotContains(t, r.production(t, "File", 0), len(tokens), wrong)
	}
}
