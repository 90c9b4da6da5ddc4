package api

import (
	"encoding/json"
	"time"

	"yellowfence.example/yfence/core/dialect/group"
	"yellowfence.example/yfence/core/record"
)

// EventPrefix begins the type of every event, as CloudEvents want it of whoever defines types.
const EventPrefix = "example.yellowfence."

// An EventKind is a type of event, without the prefix, and what it tells.
type EventKind struct {
	Type string `json:"type"`
	Says string `json:"says"`
}

// EventKinds are all types of events.
var EventKinds = []EventKind{
	{"revision.published", "a policy is published"},
	{"fleet.imported", "a fleet file is published, or what hosts and clouds told of themselves"},
	{"proposal.made", "a change is proposed"},
	{"proposal.changed", "a proposal has other texts, or another reason"},
	{"proposal.approved", "somebody approves a proposal"},
	{"proposal.declined", "a proposal is declined"},
	{"proposal.withdrawn", "a proposal is taken back by its author"},
	{"wave.began", "a wave begins"},
	{"wave.went-on", "a wave goes on that waited for a person"},
	{"wave.stopped", "a person stops a wave"},
	{"wave.ended", "a wave is done, or stopped by itself; state says which"},
	{"host.asked", "a host is asked to pause, resume, put back, take back, cut, or open a connection"},
	{"host.enrolled", "a host traded its one-time token for its own"},
	{"host.given-rules", "rules are handed out to be settled without a wave"},
	{"token.made", "a token is made, or a one-time token for a new host"},
	{"token.revoked", "a token is revoked"},
	{"key.changed", "a key to sign with is made or retired"},
	{"session.changed", "somebody signs in, or out, or is signed out"},
	{CloudEventType, "what is to be said of a cloud changed: a group changed by hand, an instance in none, one that is not of the fleet"},
	{CheckpointEvent, "the newest head of the record, once an hour in which it grew: keep it where the database's owner cannot reach"},
	{WayInEvent, "somebody changed a host so that a way in that a guard keeps open is shut, or it is open again"},
	{HostStateEvent, "a host stands otherwise than it was last told: was and state say how, changes how often"},
}

// eventOf is the type of the event that each deed of the record makes.
var eventOf = map[string]string{record.Published: "revision.published", record.ImportedFleet: "fleet.imported",
	record.Proposed:        "proposal.made",
	record.ChangedProposal: "proposal.changed", record.Approved: "proposal.approved", record.Declined: "proposal.declined",
	record.Withdrew: "proposal.withdrawn", record.BeganWave: "wave.began", record.WentOn: "wave.went-on",
	record.StoppedWave: "wave.stopped",
	record.EndedWave:   "wave.ended", record.AskedHost: "host.asked", record.Enrolled: "host.enrolled",
	record.GaveRules: "host.given-rules",
	record.MadeToken: "token.made", record.MadeEnrolment: "token.made", record.RevokedToken: "token.revoked", record.MadeKey: "key.changed",
	record.RetiredKey: "key.changed", record.SignedIn: "session.changed", record.SignedOut: "session.changed",
	record.EndedSessions: "session.changed"}

// EventOf is the type of the event that a deed of the record makes.
func EventOf(deed string) string { return eventOf[deed] }

// The types of events that no deed of the record makes.
const (
	HostStateEvent  = "host.state"        // its data is a HostEvent
	WayInEvent      = "host.way-in"       // a WayIn
	CloudEventType  = "cloud.state"       // a CloudEvent
	CheckpointEvent = "record.checkpoint" // a record.Checkpoint
)

// A WayIn is the data of an event about the ways in to a host that guards keep open.
type WayIn struct {
	Host   string   `json:"host"`
	AtRisk bool     `json:"at_risk" doc:"somebody changed the host so that one is shut"`
	Says   []string `json:"says,omitempty" nullable:"false" doc:"what was changed, ten findings at most"`
}

// A CloudEvent is the data of an event about a cloud: all that is to be said of it now.
type CloudEvent struct {
	Cloud string            `json:"cloud"`
	Notes []group.CloudNote `json:"notes,omitempty" nullable:"false"`
}

// An Event is something that others are told of.
type Event struct {
	Number  int64           `json:"number" doc:"its place among all events"`
	ID      string          `json:"id" doc:"the same in each delivery"`
	Type    string          `json:"type" doc:"without the prefix that it has in CloudEvents"`
	Subject string          `json:"subject" doc:"what it is about: revision 7, charts-01"`
	At      time.Time       `json:"at"`
	Data    json.RawMessage `json:"data"`
}

// RecordEvent is the data of an event that a deed made: its entry, and the head that was signed with it,
// which is a checkpoint.
type RecordEvent struct {
	Entry      record.Entry      `json:"entry"`
	Checkpoint record.Checkpoint `json:"checkpoint"`
}

// HostEvent is the data of an event about how a host stands.
type HostEvent struct {
	Host     string `json:"host"`
	Was      State  `json:"was,omitempty" doc:"the state that was told before"`
	State    State  `json:"state"`
	Why      string `json:"why,omitempty"`
	Findings int    `json:"findings" doc:"differences in meaning"`
	Changes  int    `json:"changes" doc:"how often its state changed since it was last told"`
}

// Events is a list of events, the newest first.
type Events struct {
	Version int     `json:"version"`
	Events  []Event `json:"events" nullable:"false"`
	Next    int64   `json:"next,omitempty" doc:"there are more: ask for those before this one"`
}

// Undelivered is an event that a destination did not take.
type Undelivered struct {
	Destination string    `json:"destination"`
	State       string    `json:"state" enum:"due,given up"`
	Tries       int       `json:"tries"`
	NextAt      time.Time `json:"next_at" doc:"when it is tried again, if it is due"`
	Said        string    `json:"said,omitempty" doc:"why the last try failed"`
	Event       Event     `json:"event"`
}

// UndeliveredList is what destinations did not take, the oldest first.
type UndeliveredList struct {
	Version     int           `json:"version"`
	Undelivered []Undelivered `json:"undelivered" nullable:"false"`
}

// What a stream says to look at again, beside events.
const (
	StreamLook    = "look" // the kind of such a message
	StreamReports = "reports"
	StreamWaves   = "waves"
)

// StreamParts are all that there is to look at.
var StreamParts = []string{StreamReports, StreamWaves}

// A StreamMessage is one that a stream of server-sent events carries: an event, or what to look at again.
type StreamMessage struct {
	Number int64    `json:"number,omitempty" doc:"of the event: a stream that begins again names the last one that it heard"`
	Kind   string   `json:"kind" doc:"the type of the event, or look"`
	Event  *Event   `json:"event,omitempty"`
	Look   []string `json:"look,omitempty" nullable:"false" doc:"what changed and is no event: reports, waves"`
}
