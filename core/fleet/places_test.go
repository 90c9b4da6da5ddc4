package fleet_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/fleet"
)

// TestPlaces: where roles and segments stand is found in each format, and names that hold them are not
// taken for them.
func TestPlaces(t *testing.T) {
	const (
		inJSON = `{"hosts": [{"name": "web", "roles": ["big-web", "web"], "interfaces": [{"name": "eth0", "segment": "quay", "addresses": ["10.40.0.1/16"]}]},
 {"name": "é", "roles": ["web"], "interfaces": [{"name": "quay", "addresses": ["10.40.0.2/16"]}]}]}`
		inYAML = "hosts:\n- name: web\n  roles: [big-web, \"web\"]\n  interfaces:\n  - {name: eth0, segment: quay, addresses: " +
			"[10.40.0.1/16]}\n"
		inCSV = "host,roles,dialect,interface,address\nweb,big-web web,nft,eth0,10.40.0.1/16\nweb,big-web web,nft,eth1,10.60.0.1/16\n"
	)
	for _, c := range []struct {
		file, text, kind, name string
		places                 int
	}{{"f.json", inJSON, "role", "web", 2}, {"f.json", inJSON, "segment", "quay", 1}, {"f.json", inJSON, "role", "quay", 0},
		{"f.yaml", inYAML, "role", "web", 1}, {"f.yaml", inYAML, "segment", "quay", 1}, {"f.csv", inCSV, "role", "web", 2},
		{"f.csv", inCSV, "segment", "web", 0}} {
		found, err := fleet.Places(c.file, []byte(c.text), c.kind, c.name)
		if strings.Contains(c.text, "é") {
			require.ErrorContains(t, err, "f.json has mistakes: mend those first")
			found, err = fleet.Places(c.file, []byte(strings.Replace(c.text, "é", "w2", 1)), c.kind, c.name)
		}
		require.NoError(t, err)
		require.Len(t, found, c.places, "%s %s in %s", c.kind, c.name, c.file)
		for _, pos := range found {
			line := []rune(strings.Split(c.text, "\n")[pos.Line-1])
			if pos.Line == 2 && c.file == "f.json" {
				line = []rune(strings.Replace(string(line), "é", "w2", 1))
			}
			require.Equal(t, c.name, string(line[pos.Column-1:][:len(c.name)]))
			require.NotEqual(t, '-', line[pos.Column-2])
		}
	}
}
