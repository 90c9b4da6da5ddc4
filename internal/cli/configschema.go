package cli

import (
	"encoding/json"
	"io"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/approve"
)

// object is a JSON Schema of an object with these properties and no others.
func object(properties map[string]any, required ...string) map[string]any {
	o := map[string]any{"type": "object", "properties": properties, "additionalProperties": false}
	if len(required) > 0 {
		o["required"] = required
	}
	return o
}

// wordOf is a JSON Schema of a word, of these if any are named.
func wordOf(about string, of ...string) map[string]any {
	w := map[string]any{"type": "string", "description": about}
	if len(of) > 0 {
		w["enum"] = of
	}
	return w
}

// listOf is a JSON Schema of a list.
func listOf(about string, item map[string]any) map[string]any {
	return map[string]any{"type": "array", "description": about, "items": item}
}

// configSchema is the JSON Schema of the service's configuration: a setting for each option of serve, and those
// that are no options.
func configSchema() map[string]any {
	settings := map[string]any{}
	c := &cobra.Command{}
	(&serveFlags{}).of(c)
	c.Flags().VisitAll(func(f *pflag.Flag) {
		one := wordOf(f.Usage)
		switch {
		case f.Name == "config":
			return
		case f.Value.Type() == "bool":
			one = map[string]any{"type": "boolean", "description": f.Usage}
		case f.Value.Type() == "stringArray":
			one = map[string]any{"description": f.Usage, "oneOf": []any{map[string]any{"type": "string"},
				map[string]any{"type": "array", "items": map[string]any{"type": "string"}}}}
		}
		if f.DefValue != "" && f.DefValue != "[]" {
			one["default"] = f.DefValue
		}
		settings[f.Name] = one
	})
	var kinds []string
	for _, k := range approve.Kinds {
		kinds = append(kinds, string(k.Kind))
	}
	settings["approvals"] = listOf("which changes need whose approval, see docs/proposals.md", object(map[string]any{
		"when":    wordOf("of which kind a change is", kinds...),
		"people":  map[string]any{"type": "integer", "minimum": 0, "maximum": 10, "description": "how many, besides its author"},
		"holding": listOf("roles: for each one of these people holds approve:ROLE", wordOf("a role"))}, "when"))
	var types []string
	for _, k := range api.EventKinds {
		types = append(types, k.Type)
	}
	settings["events"] = listOf("where events are delivered to, see docs/events.md", object(map[string]any{
		"name":        wordOf("for yfence events undelivered"),
		"url":         wordOf("https, or http with internal: true"),
		"secret-file": wordOf("a file with the secret that deliveries are signed with, 16 bytes or more"),
		"only":        listOf("types of events, or what is before their dot: "+types[0]+", wave", wordOf("a type")),
		"internal":    map[string]any{"type": "boolean", "description": "it may be at this machine, or on its link"}}, "name", "url"))
	settings["sign-in"] = object(map[string]any{
		"issuer":             wordOf("the address of the identity provider (OpenID Connect)"),
		"client-id":          wordOf("the name that it knows the service by"),
		"client-secret-file": wordOf("a file with the secret that it wants, if it wants one"),
		"url":                wordOf("at which people reach the service"),
		"groups-claim":       wordOf("the claim that holds the groups; groups if it is not said"),
		"rights": map[string]any{"type": "object", "description": "the rights of each group", "additionalProperties": listOf(
			"as settle, or \"settle:charts,broker\"", wordOf("a right"))}},
		"issuer", "client-id", "url", "rights")
	schema := object(settings)
	schema["$schema"] = "https://json-schema.org/draft/2020-12/schema"
	schema["title"] = "The configuration of the Yellow Fence service"
	schema["description"] = "What yfence serve --config reads, as YAML or JSON. Every option of serve is a setting, without its dashes."
	return schema
}

// configSchemaCommand makes `yfence config schema`.
func (a *app) configSchemaCommand() *cobra.Command {
	return &cobra.Command{
		Use: "schema", Short: "Print the JSON Schema of the configuration, for editors and programs", Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			return a.print(configSchema(), func(w io.Writer) {
				enc := json.NewEncoder(w)
				enc.SetEscapeHTML(false)
				enc.SetIndent("", "  ")
				_ = enc.Encode(configSchema())
			})
		},
	}
}
