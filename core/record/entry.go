package record

import (
	"encoding/json"
	"time"
)

// An Entry is one thing that somebody did.
type Entry struct {
	Number int64     `json:"number" doc:"its place in the record, from 1"`
	At     time.Time `json:"at"`
	By     Doer      `json:"by"`
	Deed   string    `json:"deed" doc:"what was done, as a code; docs/record.md lists them"`
	On     string    `json:"on" doc:"what it was done to: revision 7, charts-01, token 4"`
	Why    string    `json:"why,omitempty" doc:"the reason that was given"`

	With map[string]string `json:"with,omitempty" doc:"what else belongs to it, as the problems that were accepted"`
}

// A Doer is who did something, and how it is known who that is.
type Doer struct {
	Name   string `json:"name" doc:"of the person, program or host"`
	Kind   string `json:"kind" enum:"person,token,host,service" doc:"a person signed in by the identity provider; whoever has a token; a host; the service, which does some things by itself"`
	SignIn string `json:"sign_in,omitempty" doc:"by what it is known who that is: token 4, session of token 4"`
	From   string `json:"from,omitempty" doc:"the address that the request came from"`
}

// The kinds of doers.
const (
	Person  = "person"
	Token   = "token"
	Host    = "host"
	Service = "service"
)

// Itself is the service as a doer of what nobody asked for.
var Itself = Doer{Name: "the service", Kind: Service}

// Body is an entry as it is stored and as the tree covers it: JSON on one line, times in UTC.
func (e Entry) Body() ([]byte, error) {
	e.At = e.At.UTC()
	return json.Marshal(e)
}

// Read is the way back from Body.
func Read(body []byte) (e Entry, err error) { return e, json.Unmarshal(body, &e) }

// A Kind of deed: its code, and what is said of somebody who did it.
type Kind struct {
	Deed string `json:"deed"`
	Said string `json:"said"` // between who and what: pat "published" revision 7
	Of   string `json:"of"`   // which operations leave it
}

// The deeds.
const (
	Published     = "publish"
	ImportedFleet = "import-fleet"
	MadeToken     = "make-token"
	RevokedToken  = "revoke-token"
	SignedIn      = "sign-in"
	SignedOut     = "sign-out"
	EndedSessions = "end-sessions"
	MadeEnrolment = "make-enrolment"
	Enrolled      = "enrol"
	AskedHost     = "ask-host"
	GaveRules     = "give-rules"
	BeganWave     = "begin-wave"
	WentOn        = "go-on-wave"
	StoppedWave   = "stop-wave"
	EndedWave     = "end-wave"
	MadeKey       = "make-key"
	RetiredKey    = "retire-key"

	Proposed        = "propose"
	ChangedProposal = "change-proposal"
	Approved        = "approve"
	Declined        = "decline"
	Withdrew        = "withdraw"
)

// Kinds are all deeds, in the order in which they are listed.
var Kinds = []Kind{
	{Published, "published", "a policy that is published, by a person or with a list that was read again"},
	{ImportedFleet, "imported", "a fleet file that is imported, alone or with a policy; what hosts and clouds told of themselves"},
	{MadeToken, "made", "a token that is made"},
	{RevokedToken, "revoked", "a token that is revoked"},
	{SignedIn, "signed in with", "a session of the console that begins"},
	{SignedOut, "signed out of", "a session that is ended by its owner"},
	{EndedSessions, "ended the sessions of", "a person who is signed out everywhere by somebody else"},
	{MadeEnrolment, "made a one-time token for", "a one-time token for a new host"},
	{Enrolled, "enrolled", "a host that trades its one-time token for its own"},
	{AskedHost, "asked", "a task for a host: to pause, resume, put back, take back, cut connections, open a connection"},
	{GaveRules, "gave rules to", "rules that are handed out to be settled, where the host was not asked for them by a wave"},
	{BeganWave, "began", "a wave that begins: a person's, one back, or one that follows what hosts tell"},
	{WentOn, "let go on", "a wave that goes on after it waited for a person"},
	{StoppedWave, "stopped", "a wave that a person stops"},
	{EndedWave, "ended", "a wave that is done, or stops by itself; with says how"},
	{MadeKey, "made", "a key to sign with"},
	{RetiredKey, "retired", "a key that signs no longer"},
	{Proposed, "made", "a proposal"},
	{ChangedProposal, "changed", "a proposal whose texts or reason are others now"},
	{Approved, "approved", "an approval of a proposal; with says of which meaning"},
	{Declined, "declined", "a proposal that is declined"},
	{Withdrew, "withdrew", "a proposal that its author takes back"},
}

// Said is what is said of somebody who did a deed; the deed itself where it is not known.
func Said(deed string) string {
	for _, k := range Kinds {
		if k.Deed == deed {
			return k.Said
		}
	}
	return deed
}
