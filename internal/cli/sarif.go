package cli

import (
	"encoding/json"
	"path/filepath"

	"yellowfence.example/yfence/core/check"
	"yellowfence.example/yfence/core/source"
)

// The parts of a SARIF 2.1.0 log (OASIS) that we fill.
type (
	sarifLog struct {
		Schema  string     `json:"$schema"`
		Version string     `json:"version"`
		Runs    []sarifRun `json:"runs"`
	}
	sarifRun struct {
		Tool       sarifTool     `json:"tool"`
		ColumnKind string        `json:"columnKind"`
		Results    []sarifResult `json:"results"`
	}
	sarifTool struct {
		Driver sarifDriver `json:"driver"`
	}
	sarifDriver struct {
		Name  string      `json:"name"`
		Rules []sarifRule `json:"rules"`
	}
	sarifRule struct {
		ID   string    `json:"id"`
		Full sarifText `json:"fullDescription"`
	}
	sarifText struct {
		Text string `json:"text"`
	}
	sarifResult struct {
		RuleID    string          `json:"ruleId"`
		Level     string          `json:"level"`
		Message   sarifText       `json:"message"`
		Locations []sarifLocation `json:"locations"`
	}
	sarifLocation struct {
		Physical sarifPhysical `json:"physicalLocation"`
	}
	sarifPhysical struct {
		Artifact sarifArtifact `json:"artifactLocation"`
		Region   sarifRegion   `json:"region"`
	}
	sarifArtifact struct {
		URI string `json:"uri"`
	}
	sarifRegion struct {
		StartLine   int `json:"startLine"`
		StartColumn int `json:"startColumn"`
		EndColumn   int `json:"endColumn"`
	}
)

// printSARIF prints problems so that a code review shows them where they stand.
func (a *app) printSARIF(problems []source.Problem) error {
	run := sarifRun{Tool: sarifTool{sarifDriver{Name: "Yellow Fence", Rules: []sarifRule{}}}, ColumnKind: "unicodeCodePoints",
		Results: []sarifResult{}}
	for _, c := range check.Codes() {
		run.Tool.Driver.Rules = append(run.Tool.Driver.Rules, sarifRule{c.Code, sarifText{c.Doc}})
	}
	for _, pr := range problems {
		message := pr.Message
		if pr.Packet != nil {
			message += ", for example for " + pr.Packet.String()
		}
		if pr.Hint != "" {
			message += ". " + pr.Hint
		}
		width := max(pr.Width, 1)
		run.Results = append(run.Results, sarifResult{RuleID: pr.Code, Level: string(pr.Severity), Message: sarifText{message},
			Locations: []sarifLocation{{sarifPhysical{sarifArtifact{filepath.ToSlash(a.pathOf(pr))},
				sarifRegion{pr.Line, pr.Column, pr.Column + width}}}}})
	}
	enc := json.NewEncoder(a.out)
	enc.SetEscapeHTML(false)
	enc.SetIndent("", "  ")
	return enc.Encode(sarifLog{"https://json.schemastore.org/sarif-2.1.0.json", "2.1.0", []sarifRun{run}})
}
