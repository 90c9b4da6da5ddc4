package api

import (
	"github.com/danielgtaylor/huma/v2"
)

// State is what a host can be.
type State string

// The states that this version tells.
const (
	Bare          State = "bare"
	Paused        State = "paused"
	Failed        State = "failed"
	WentBackState State = "went back"
	Drifted       State = "drifted"
	Unread        State = "unread"
	Silent        State = "silent"
	Waiting       State = "waiting"
	Behind        State = "behind"
	New           State = "new"
	InStep        State = "in step"
	Others        State = "others"
)

// A Tone is how urgent a state is: its colour, which never says more than its name.
type Tone string

// The tones.
const (
	Bad   Tone = "bad"   // somebody has to act
	Care  Tone = "care"  // somebody should look
	Good  Tone = "good"  // all is well
	Plain Tone = "plain" // nothing is known that could be good or bad
)

// A StateNote is what people are told of a state.
type StateNote struct {
	State State
	Tone  Tone
	Means string
}

// States are all of them, the worst first. The service, the command line and the console take
// order, colour and meaning from here.
var States = []StateNote{
	{Bare, Bad, "no filter is in force at all"},
	{Paused, Bad, "its filter admits everything for a while, and logs what it would refuse"},
	{Failed, Bad, "the rules that it was asked to put in force could not be put in force"},
	{WentBackState, Bad, "the new rules were not kept, and are not in force"},
	{Drifted, Bad, "the rules in force differ from the published ones"},
	{Unread, Care, "what it reported was not understood where it matters"},
	{Silent, Care, "it has not reported for three intervals"},
	{Waiting, Care, "it was asked to settle, and has not settled yet, or not kept the change yet"},
	{Behind, Care, "an earlier revision or fleet is in force; the published one is not settled there"},
	{New, Plain, "it has never reported"},
	{Others, Plain, "a machine of others: nothing of ours filters for it"},
	{InStep, Good, "it does with every packet what the policy says"},
}

// Note is what people are told of a state; the zero note for one that a newer version knows.
func (s State) Note() StateNote {
	for _, n := range States {
		if n.State == s {
			return n
		}
	}
	return StateNote{}
}

// Worse says that a state is worse than another.
func (s State) Worse(than State) bool {
	place := func(s State) int {
		for i, n := range States {
			if n.State == s {
				return i
			}
		}
		return -1 // what is not known may be anything
	}
	return place(s) < place(than)
}

// Schema lists the states.
func (State) Schema(huma.Registry) *huma.Schema {
	s := &huma.Schema{Type: huma.TypeString}
	for _, n := range States {
		s.Enum = append(s.Enum, string(n.State))
	}
	return s
}

// State says its own words in the OpenAPI document.
var _ huma.SchemaProvider = State("")
