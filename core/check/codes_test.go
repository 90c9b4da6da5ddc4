package check_test

import (
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/check"
)

// TestEveryCodeIsExplained: what the readers of policies and fleet files give as a code has a
// text of its own, and no code has two.
func TestEveryCodeIsExplained(t *testing.T) {
	given := map[string]bool{}
	word := regexp.MustCompile(`^[a-z][a-z0-9-]*$`)
	for _, dir := range []string{"fence", "policy", "fleet"} {
		paths, err := filepath.Glob(filepath.Join("..", dir, "*.go"))
		require.NoError(t, err)
		for _, path := range paths {
			if strings.HasSuffix(path, "_test.go") {
				continue
			}
			text, err := os.ReadFile(path)
			require.NoError(t, err)
			file, err := parser.ParseFile(token.NewFileSet(), path, text, 0)
			require.NoError(t, err)
			ast.Inspect(file, func(n ast.Node) bool {
				call, ok := n.(*ast.CallExpr)
				if !ok {
					return true
				}
				if !reports.MatchString(nameOf(call.Fun)) {
					return true
				}
				for i, arg := range call.Args[:max(len(call.Args)-1, 0)] {
					code, format := literal(arg), literal(call.Args[i+1])
					if word.MatchString(code) && strings.Contains(format, " ") {
						given[code] = true
					}
				}
				return true
			})
		}
	}
	require.Greater(t, len(given), 30)
	var explained []string
	for _, c := range check.Codes() {
		require.NotContains(t, explained, c.Code)
		require.NotEmpty(t, c.Doc)
		explained = append(explained, c.Code)
	}
	for code := range given {
		require.True(t, slices.Contains(explained, code), "the code %q is not explained", code)
	}
}

// reports are the names of what makes a problem.
var reports = regexp.MustCompile(`^(errorf|Errorf|Warningf|fail|failf)$`)

func nameOf(f ast.Expr) string {
	switch f := f.(type) {
	case *ast.Ident:
		return f.Name
	case *ast.SelectorExpr:
		return f.Sel.Name
	}
	return ""
}

func literal(e ast.Expr) string {
	if l, ok := e.(*ast.BasicLit); ok && l.Kind == token.STRING {
		s, _ := strconv.Unquote(l.Value)
		return s
	}
	return ""
}
