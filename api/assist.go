package api

import "yellowfence.example/yfence/core/check"

// AssistRequest asks for help with a policy that somebody writes, sound or not, at a place in it.
type AssistRequest struct {
	Files  []check.Source `json:"files" maxItems:"2000" doc:"all files of the policy, as they are now"`
	File   string         `json:"file" maxLength:"255" doc:"which of them it is about"`
	Line   int            `json:"line" minimum:"1" maximum:"10000000" doc:"from 1"`
	Column int            `json:"column" minimum:"1" maximum:"10000000" doc:"in letters, from 1"`
	Name   string         `json:"name,omitempty" maxLength:"200" doc:"what the name that stands there is to become"`
	Tidy   bool           `json:"tidy,omitempty" doc:"give the file as it is laid out"`
}

// Assisted is what is known of a place in a policy.
type Assisted struct {
	Version  int          `json:"version"`
	Hover    string       `json:"hover,omitempty" doc:"what stands there, in Markdown"`
	Complete []Completion `json:"complete" nullable:"false" doc:"what could be written there"`
	Defined  *Place       `json:"defined,omitempty" doc:"where the name is declared that stands there"`
	Uses     []Place      `json:"uses,omitempty" nullable:"false" doc:"everywhere that name stands, its declaration included"`
	Renamed  []Place      `json:"renamed,omitempty" nullable:"false" doc:"what to change for the name to become another"`
	Refused  string       `json:"refused,omitempty" doc:"why it cannot"`
	Tidied   *string      `json:"tidied,omitempty" doc:"the file as it is laid out; left out where it cannot be read"`
}

// Completion is something that could be written.
type Completion struct {
	Text string `json:"text"`
	Kind string `json:"kind" doc:"statement, modifier, role, network, segment, service, rule, host or word"`
	Note string `json:"note,omitempty"`
}

// Place is where a name stands: file, line and column from 1, and how wide it is in letters.
type Place struct {
	File   string `json:"file"`
	Line   int    `json:"line"`
	Column int    `json:"column"`
	Width  int    `json:"width"`
}
