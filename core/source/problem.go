package source

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"yellowfence.example/yfence/core/packet"
)

// A Pos is a place in a policy file, in characters from 1. The zero Pos is nowhere.
type Pos struct {
	File   string
	Line   int
	Column int
}

// String is the place as editors and compilers say it: file:line:column.
func (p Pos) String() string { return fmt.Sprintf("%s:%d:%d", p.File, p.Line, p.Column) }

// Severity says whether a problem keeps a policy from being published.
type Severity string

// The severities.
const (
	Error   Severity = "error"
	Warning Severity = "warning"
)

// A Problem is one thing wrong with a policy or a fleet file, told where it stands.
type Problem struct {
	Severity Severity       `json:"severity" enum:"error,warning"`
	Code     string         `json:"code" doc:"the kind of problem, one word that never changes"`
	File     string         `json:"file"`
	Line     int            `json:"line"`
	Column   int            `json:"column"`
	Width    int            `json:"-"` // how many characters the mistake is long, at least 1
	Message  string         `json:"message"`
	Hint     string         `json:"hint,omitempty" doc:"what to do"`
	Packet   *packet.Packet `json:"packet,omitempty" doc:"a packet that shows it"`
}

// Errorf makes an error at pos, width letters long, with the code that documents it. The
// message says what is wrong and what was found; what to do goes into a hint.
func Errorf(pos Pos, width int, code, format string, args ...any) Problem {
	return Problem{Severity: Error, Code: code, File: pos.File, Line: pos.Line, Column: pos.Column, Width: max(width, 1),
		Message: fmt.Sprintf(format, args...)}
}

// Warningf makes a warning, which stops nothing and can be accepted by its code.
func Warningf(pos Pos, width int, code, format string, args ...any) Problem {
	p := Errorf(pos, width, code, format, args...)
	p.Severity = Warning
	return p
}

// Hinted is p with a hint: what to do, as an imperative, in one line. An empty hint takes one
// away.
func (p Problem) Hinted(format string, args ...any) Problem {
	if format != "" {
		p.Hint = fmt.Sprintf(format, args...)
	}
	return p
}

// HasErrors says that one of the problems is an error: what was read must then not be used.
func HasErrors(problems []Problem) bool {
	return slices.ContainsFunc(problems, func(p Problem) bool { return p.Severity == Error })
}

// SortProblems puts problems in the order of their places: by file, line and column, and those
// of one place as they were found.
func SortProblems(problems []Problem) {
	slices.SortStableFunc(problems, func(a, b Problem) int {
		return cmp.Or(cmp.Compare(a.File, b.File), cmp.Compare(a.Line, b.Line), cmp.Compare(a.Column, b.Column))
	})
}

// Nearest gives the candidate that word was most likely meant to be, "" if
// none is near: the least Damerau-Levenshtein distance (optimal string
// alignment), at most a third of the word's length and at least one.
func Nearest(word string, candidates []string) string {
	best, bestDistance := "", max(len(word)/3, 1)+1
	if len(word) > 253 { // longer than anything can be named
		return ""
	}
	for _, c := range candidates[:min(len(candidates), maxCandidates)] {
		if len(word) == 3 && len(c) == 3 && letters(word) != letters(c) && !strings.ContainsAny(word, "0123456789") {
			continue // one of three letters changed is mostly another word
		}
		if d := distance(word, c); d < bestDistance || d == bestDistance && best != "" && c < best {
			best, bestDistance = c, d
		}
	}
	return best
}

// letters are those of a word, in order.
func letters(word string) string {
	all := []byte(word)
	slices.Sort(all)
	return string(all)
}

// maxCandidates is how many names are looked at: a hint is not worth more.
const maxCandidates = 2000

// distance is the number of letters to put in, take out or change that make a of b
// (Levenshtein), in the time of their lengths' product.
func distance(a, b string) int {
	rows := make([][]int, len(a)+1)
	for i := range rows {
		rows[i] = make([]int, len(b)+1)
		rows[i][0] = i
	}
	for j := range rows[0] {
		rows[0][j] = j
	}
	for i := 1; i <= len(a); i++ {
		for j := 1; j <= len(b); j++ {
			substitute := rows[i-1][j-1]
			if a[i-1] != b[j-1] {
				substitute++
			}
			rows[i][j] = min(rows[i-1][j]+1, rows[i][j-1]+1, substitute)
			if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
				rows[i][j] = min(rows[i][j], rows[i-2][j-2]+1)
			}
		}
	}
	return rows[len(a)][len(b)]
}
