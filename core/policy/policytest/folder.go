package policytest

import (
	"io/fs"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/policy"
)

// Folder reads an example's folder: its .fence files, its lists, and its fleet.csv.
func Folder(t testing.TB, dir string) (sources []policy.Source, fl *fleet.Fleet) {
	t.Helper()
	data, err := os.ReadFile(filepath.Join(dir, "fleet.csv"))
	require.NoError(t, err)
	fl, problems := fleet.Read("fleet.csv", data)
	require.Empty(t, problems)
	require.NoError(t, filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || filepath.Ext(path) != ".fence" && filepath.Base(filepath.Dir(path)) != "lists" {
			return err
		}
		text, err := os.ReadFile(path)
		name, _ := filepath.Rel(dir, path)
		sources = append(sources, policy.Source{Name: filepath.ToSlash(name), Text: string(text)})
		return err
	}))
	return sources, fl
}
