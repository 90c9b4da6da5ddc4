package cli

import (
	"strings"

	"github.com/spf13/cobra"
)

// examples are how commands are typed that say it nowhere else.
var examples = map[string]string{
	"lsp":                "yfence lsp --policy saltmarsh --fleet saltmarsh/fleet.json",
	"revisions":          "yfence revisions\nyfence revisions --output json",
	"revisions show":     "yfence revisions show 3\nyfence revisions show 3 --into /tmp/third",
	"revisions restore":  "yfence revisions restore 3 -m 'the new rule shut the office out'",
	"proposals":          "yfence proposals\nyfence proposals --all",
	"proposals show":     "yfence proposals show 4",
	"proposals approve":  "yfence proposals approve 4\nyfence proposals approve 4 -m 'as we talked it over'",
	"proposals decline":  "yfence proposals decline 4 -m 'the hill is not ours alone'",
	"proposals withdraw": "yfence proposals withdraw 4 -m 'it goes another way'",
	"proposals publish":  "yfence proposals publish 4",
	"config":             "yfence config show --config /etc/yfence/service.yaml",
	"events":             "yfence events\nyfence events --follow",
	"events undelivered": "yfence events undelivered",
	"events send-again":  "yfence events send-again pager",
	"login":              "yfence login --server https://fence.saltmarsh.example",
	"logout":             "yfence logout",
	"record":             "yfence record\nyfence record --by pat --deed publish\nyfence record --on logbook-01",
	"record show":        "yfence record show 12",
	"record verify":      "yfence record verify --checkpoint monday.json\nyfence record verify --export record.jsonl",
	"record checkpoint":  "yfence record checkpoint --into tuesday.json --since monday.json",
	"record export":      "yfence record export --into record.jsonl",
	"waves":              "yfence waves",
	"waves show":         "yfence waves show 12",
	"waves stop":         "yfence waves stop 12 --because 'the chart site is slow'",
	"waves undo":         "yfence waves undo 12",
	"fleet":              "yfence fleet\nyfence fleet charts",
	"fleet show":         "yfence fleet show logbook-01",
	"fleet export":       "yfence fleet export --format yaml > fleet.yaml",
	"fleet enrol":        "yfence fleet enrol logbook-01 --into token",
	"lists":              "yfence lists",
	"lists take":         "yfence lists take pests",
	"traffic":            "yfence traffic unused",
	"listeners":          "yfence listeners logbook-01\nyfence listeners --here",
	"connections":        "yfence connections logbook-01\nyfence connections --here",
	"copies":             "yfence copies logbook-01\nyfence copies --here",
	"copies show":        "yfence copies show logbook-01 3",
	"copies restore":     "yfence copies restore logbook-01 3 --within 5m",
	"pause": "yfence pause logbook-01 --for 30m --because 'who is refused?'\n" +
		"yfence pause --here --for 10m --because 'is it the filter?'",
	"resume":          "yfence resume logbook-01\nyfence resume --here",
	"tokens":          "yfence tokens",
	"attention":       "yfence attention",
	"reach":           "yfence reach --to logbook",
	"past":            "yfence past logbook-01",
	"clouds":          "yfence clouds\nyfence clouds dunlin",
	"people":          "yfence people",
	"people sign-out": "yfence people sign-out kim -m 'left the company'",
	"config schema":   "yfence config schema > service.schema.json",
	"store":           "yfence store show",
	"store show":      "yfence store show",
	"store migrate":   "yfence store migrate --database-file /etc/yfence/migrating",
	"tokens revoke":   "yfence tokens revoke 4",
	"serve":           "yfence serve --database-file /etc/yfence/database --listen 127.0.0.1:8480",
	"settle": "yfence settle --server https://fence.saltmarsh.example --token-file /etc/yfence/token\n" +
		"yfence settle --policy /etc/yfence/policy\nyfence settle --minimal",
	"keep": "yfence keep",
	"undo": "yfence undo",
	"report": "yfence report --server https://fence.saltmarsh.example --token-file /etc/yfence/token\nyfence report --print > " +
		"report.json",
	"attend": "yfence attend --enrol token --server https://fence.saltmarsh.example",
}

// exampled gives commands their examples.
func exampled(root *cobra.Command) {
	for path, text := range examples {
		if c, _, err := root.Find(strings.Fields(path)); err == nil && c.Example == "" {
			c.Example = "  " + strings.ReplaceAll(text, "\n", "\n  ")
		}
	}
}
