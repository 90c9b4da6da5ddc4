package core_test

import (
	"encoding/json"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// rooms are the rooms of core in the order of docs/architecture.md: a room
// imports only rooms before it. The dialects are below their seam.
var rooms = []string{"words", "packet", "source", "record", "fleet", "kernel", "fence", "policy", "say", "compile", "reach", "dialect",
	"dialect/layout",
	"dialect/nft", "dialect/iptables", "dialect/group", "dialect/portable", "dialect/forms", "compare", "approve", "check", "ask", "assist",
	"listeners", "adopt", "traffic"}

// TestImportDirection keeps the house in order: core imports nothing that does
// I/O, tells the time or serves, and no room imports one after it.
func TestImportDirection(t *testing.T) {
	const module = "yellowfence.example/yfence/"
	out, err := exec.Command("go", "list", "-json=ImportPath,Imports", "./...").Output()
	require.NoError(t, err)
	dec := json.NewDecoder(strings.NewReader(string(out)))
	seen := 0
	for dec.More() {
		var pkg struct {
			ImportPath string
			Imports    []string
		}
		require.NoError(t, dec.Decode(&pkg))
		room := strings.TrimPrefix(pkg.ImportPath, module+"core/")
		if room == module+"core" {
			continue // this test
		}
		if strings.HasSuffix(room, "test") {
			continue // what only tests import
		}
		at := slices.Index(rooms, room)
		require.GreaterOrEqual(t, at, 0, "the room %s has no place in the order", room)
		seen++
		for _, path := range pkg.Imports {
			name, ours := strings.CutPrefix(path, module)
			switch inner, inCore := strings.CutPrefix(name, "core/"); {
			case ours && !inCore:
				t.Errorf("core/%s imports %s: core imports nothing outside itself", room, name)
			case ours:
				require.Less(t, slices.Index(rooms, inner), at, "core/%s imports core/%s", room, inner)
			case strings.Contains(path, "."):
				require.Contains(t, []string{"go4.org/netipx", "github.com/goccy/go-yaml", "github.com/goccy/go-yaml/ast",
					"github.com/goccy/go-yaml/parser", "github.com/valyala/fastjson", "golang.org/x/mod/sumdb/note",
					"golang.org/x/mod/sumdb/tlog"}, path,
					"core/%s imports more than plain data libraries", room)
			default:
				require.NotContains(t, []string{"os", "net", "net/http", "database/sql", "os/exec", "log", "log/slog", "io/fs", "embed"},
					path, "core/%s does I/O", room)
			}
		}
	}
	require.Equal(t, len(rooms), seen)
}

// floors are the rooms of internal in the order of docs/architecture.md, likewise.
var floors = []string{"limits", "wave", "store", "live", "cloud", "dunlin", "provider", "host/inventory", "host/tap",
	"host/apply",
	"host",
	"host/agent",
	"service", "lsp", "cli", "testbed", "simhost", "browser"}

// TestOutside keeps what other programs import apart from what is ours alone.
func TestOutside(t *testing.T) {
	const module = "yellowfence.example/yfence/"
	for room, may := range map[string][]string{"api": {"core/"}, "client": {"core/", "api"}} {
		out, err := exec.Command("go", "list", "-f", "{{range .Imports}}{{println .}}{{end}}", "../"+room).Output()
		require.NoError(t, err)
		for path := range strings.FieldsSeq(string(out)) {
			if inner, ours := strings.CutPrefix(path, module); ours {
				require.True(t, slices.ContainsFunc(may, func(m string) bool { return strings.HasPrefix(inner, m) }), "%s imports %s",
					room, inner)
			}
		}
	}
}

// TestFloors keeps internal in order: no room imports one after it.
func TestFloors(t *testing.T) {
	const module = "yellowfence.example/yfence/internal/"
	out, err := exec.Command("go", "list", "-json=ImportPath,Imports", "../internal/...").Output()
	require.NoError(t, err)
	seen := 0
	for dec := json.NewDecoder(strings.NewReader(string(out))); dec.More(); {
		var pkg struct {
			ImportPath string
			Imports    []string
		}
		require.NoError(t, dec.Decode(&pkg))
		room := strings.TrimPrefix(pkg.ImportPath, module)
		if room == "chaos" { // tests alone
			continue
		}
		at := slices.Index(floors, room)
		require.GreaterOrEqual(t, at, 0, "the room %s has no place in the order", room)
		seen++
		for _, path := range pkg.Imports {
			if inner, ours := strings.CutPrefix(path, module); ours {
				require.Less(t, slices.Index(floors, inner), at, "internal/%s imports internal/%s", room, inner)
			}
		}
	}
	require.Equal(t, len(floors), seen)
}

// TestCoreHasNoClock: instants are arguments; package time is for reading and writing them.
func TestCoreHasNoClock(t *testing.T) {
	clock := regexp.MustCompile(`time\.(Now|Since|Until|After|AfterFunc|NewTimer|NewTicker|Tick|Sleep)\b`)
	require.NoError(t, filepath.WalkDir(".", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || filepath.Ext(path) != ".go" || strings.HasSuffix(path, "_test.go") {
			return err
		}
		text, err := os.ReadFile(path)
		require.NotRegexp(t, clock, string(text), path)
		return err
	}))
}
