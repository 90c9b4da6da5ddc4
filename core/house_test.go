package core_test

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/require"
)

// The measures of the house.
const (
	mostColumns  = 140 // a tab is four
	mostLines    = 450 // of a file
	mostFunction = 80  // lines of a function, unless it is a flat table or printer
)

// longFunctions may be longer, each for a reason.
var longFunctions = map[string]string{
	"core/adopt.say":                "one search: what is said of a rule depends on what was said of those before",
	"core/dialect/iptables.read":    "a flat switch, one option a case",
	"core/dialect/iptables.target":  "a flat switch, one target a case",
	"core/dialect/iptables.line":    "a printer: one thing that a line asks after another",
	"core/dialect/nft.write":        "a printer of expressions, one kind a case",
	"core/dialect/nft.named":        "a flat switch, one kind of JSON a case",
	"core/dialect/nft.compare":      "a flat switch, one field a case",
	"core/dialect/nft.statements":   "a flat switch, one statement a case",
	"core/dialect/nft.box":          "a printer: one thing that a line asks after another",
	"core/fence.namesOf":            "a flat switch, one statement a case",
	"core/fence.init":               "the table of keywords",
	"core/packet.over":              "one sweep, whose parts share its scratch space",
	"core/policy/policytest.Random": "a generator: one kind of statement after another",
}

// TestTheHouse keeps all Go files of the project readable: lines, files and functions of a size
// that can be seen at once, and a comment at every exported name.
func TestTheHouse(t *testing.T) {
	root := ".."
	seen := map[string]bool{}
	require.NoError(t, filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if d.IsDir() {
			if name := d.Name(); name == "node_modules" || name == "var" || strings.HasPrefix(name, ".") && path != root {
				return fs.SkipDir
			}
			return nil
		}
		if filepath.Ext(path) != ".go" {
			return nil
		}
		text, err := os.ReadFile(path)
		require.NoError(t, err)
		fset := token.NewFileSet()
		file, err := parser.ParseFile(fset, path, text, parser.ParseComments)
		require.NoError(t, err)
		lines := strings.Split(string(text), "\n")
		if len(lines) > mostLines+1 {
			t.Errorf("%s has %d lines: a file has one subject, and at most %d", path, len(lines)-1, mostLines)
		}
		free := unbreakable(fset, file)
		for n, line := range lines {
			if w := utf8.RuneCountInString(line) + 3*strings.Count(line, "\t"); w > mostColumns && !free[n+1] {
				t.Errorf("%s:%d is %d columns wide; %d are enough", path, n+1, w, mostColumns)
			}
		}
		test := strings.HasSuffix(path, "_test.go")
		for _, decl := range file.Decls {
			f, is := decl.(*ast.FuncDecl)
			if is && !test {
				name := strings.TrimPrefix(filepath.ToSlash(filepath.Dir(path)), "../") + "." + f.Name.Name
				n := fset.Position(f.End()).Line - fset.Position(f.Pos()).Line + 1
				if n > mostFunction && longFunctions[name] == "" {
					t.Errorf("%s:%d: %s has %d lines; take it apart, or say in longFunctions why not", path, fset.Position(f.Pos()).Line,
						name, n)
				}
				seen[name] = seen[name] || n > mostFunction
			}
			if !test {
				commented(t, fset, decl)
			}
		}
		return nil
	}))
	for name := range longFunctions {
		require.True(t, seen[name], "%s is not long any more: take it out of longFunctions", name)
	}
}

// unbreakable are the lines of texts over several lines, and of the tags of fields, which are one
// literal each.
func unbreakable(fset *token.FileSet, file *ast.File) map[int]bool {
	free := map[int]bool{}
	ast.Inspect(file, func(n ast.Node) bool {
		switch n := n.(type) {
		case *ast.BasicLit:
			from, to := fset.Position(n.Pos()).Line, fset.Position(n.End()).Line
			for line := from; line <= to && from != to; line++ {
				free[line] = true
			}
		case *ast.Field:
			if n.Tag != nil {
				free[fset.Position(n.Tag.Pos()).Line] = true
			}
		}
		return true
	})
	return free
}

// commented wants a comment at what a declaration exports.
func commented(t *testing.T, fset *token.FileSet, decl ast.Decl) {
	missing := func(name *ast.Ident) {
		t.Errorf("%s: %s is exported and has no comment", fset.Position(name.Pos()), name.Name)
	}
	switch d := decl.(type) {
	case *ast.FuncDecl:
		if d.Name.IsExported() && d.Doc == nil && (d.Recv == nil || exportedReceiver(d)) && !known[d.Name.Name] {
			missing(d.Name)
		}
	case *ast.GenDecl:
		for _, spec := range d.Specs {
			switch s := spec.(type) {
			case *ast.TypeSpec:
				if s.Name.IsExported() && s.Doc == nil && d.Doc == nil {
					missing(s.Name)
				}
			case *ast.ValueSpec:
				if s.Names[0].IsExported() && s.Doc == nil && d.Doc == nil && s.Comment == nil {
					missing(s.Names[0])
				}
			}
		}
	}
}

// known are methods whose meaning every reader of Go knows.
var known = map[string]bool{"Error": true, "String": true, "Unwrap": true}

func exportedReceiver(d *ast.FuncDecl) bool {
	of := d.Recv.List[0].Type
	if star, is := of.(*ast.StarExpr); is {
		of = star.X
	}
	if index, is := of.(*ast.IndexExpr); is {
		of = index.X
	}
	name, is := of.(*ast.Ident)
	return is && name.IsExported()
}
