package api

import (
	"fmt"
	"net/http"

	"yellowfence.example/yfence/core/source"
)

// A ProblemCode says in one word that programs may test for why something was not done.
type ProblemCode string

// The codes of problems.
const (
	NotSignedIn      ProblemCode = "not-signed-in"
	NotAllowed       ProblemCode = "not-allowed"
	NeedsApproval    ProblemCode = "needs-approval"
	NotFound         ProblemCode = "not-found"
	NothingPublished ProblemCode = "nothing-published"
	MovedOn          ProblemCode = "moved-on"
	NotNow           ProblemCode = "not-now"
	NotAttending     ProblemCode = "not-attending"
	NotValid         ProblemCode = "not-valid"
	WrongText        ProblemCode = "wrong-text"
	TooComplex       ProblemCode = "too-complex"
	TooLarge         ProblemCode = "too-large"
	TooMany          ProblemCode = "too-many"
	KeyReused        ProblemCode = "key-reused"
	KeyAtWork        ProblemCode = "key-at-work"
	DoneBefore       ProblemCode = "done-before"
	Busy             ProblemCode = "busy"
	Unclear          ProblemCode = "unclear"
	CallerGone       ProblemCode = "caller-gone"
	WentWrong        ProblemCode = "failed"
)

// A ProblemKind is a row of the table of problem codes.
type ProblemKind struct {
	Code   ProblemCode
	Status int    // of HTTP
	Says   string // what it means, and what to do
	Again  bool   // the same request may be sent again after a while
}

// ProblemKinds are all codes, in the order of their status. The first of a status is the one for
// whatever has no code of its own.
var ProblemKinds = []ProblemKind{
	{NotSignedIn, http.StatusUnauthorized, "no token came, or one that is not known, was revoked or is over: sign in, or take another",
		false},
	{NotAllowed, http.StatusForbidden, "the token is known and lacks a right; `detail` says which, and whom to ask", false},
	{NeedsApproval, http.StatusForbidden, "the change needs approvals that it does not have: propose it", false},
	{NotFound, http.StatusNotFound, "there is nothing of that name or number", false},
	{NotNow, http.StatusConflict, "what it is about stands otherwise than this needs, as a wave that is over; look at it", false},
	{NothingPublished, http.StatusConflict, "there is no policy yet: publish one", false},
	{MovedOn, http.StatusConflict, "somebody changed it since you looked: look again, then decide again", false},
	{NotAttending, http.StatusConflict, "no agent of the host asks for tasks: `yfence attend` does not run there, or cannot reach the " +
		"service",
		false},
	{KeyAtWork, http.StatusConflict, "a request with this key is at work: wait `Retry-After`, then send the same again", true},
	{DoneBefore, http.StatusConflict, "a request with this key was done, and its answer is not kept: look at what it made", false},
	{TooLarge, http.StatusRequestEntityTooLarge, "the request is longer than it may be; `detail` has the bound", false},
	{NotValid, http.StatusUnprocessableEntity, "something in the request is wrong; `errors` has the places", false},
	{WrongText, http.StatusUnprocessableEntity, "the policy or the fleet has problems that stop it; `problems` has all of them, with " +
		"files and lines",
		false},
	{TooComplex, http.StatusUnprocessableEntity, "it cannot be decided exactly within the bounds; `detail` says which", false},
	{KeyReused, http.StatusUnprocessableEntity, "this key came with another request before: take a new one for each request", false},
	{TooMany, http.StatusTooManyRequests, "more than anybody may ask at once: wait `Retry-After`", true},
	{CallerGone, 499, "the caller went away, so that nobody reads this", false},
	{WentWrong, http.StatusInternalServerError, "something of ours failed: the service's log says what", false},
	{Busy, http.StatusServiceUnavailable, "the service or its database is busy or away, and nothing was done: wait `Retry-After`", true},
	{Unclear, http.StatusServiceUnavailable, "the database went away while it was stored: it may have been done. With a key the same " +
		"request may be " +
		"sent again; without one, look first", false},
}

// problemKind is the row of a code, or the first row of a status.
func problemKind(is func(ProblemKind) bool) ProblemKind {
	for _, k := range ProblemKinds {
		if is(k) {
			return k
		}
	}
	return ProblemKind{}
}

// A ProblemDocument is the service's own word that it did not do what was asked: a problem document (RFC 9457).
type ProblemDocument struct {
	Status   int              `json:"status" doc:"of HTTP"`
	Title    string           `json:"title" doc:"what HTTP calls that status"`
	Code     ProblemCode      `json:"code" doc:"why, in one word for programs; docs/api.md has the table"`
	Detail   string           `json:"detail,omitempty" doc:"what is wrong and what to do, for a person"`
	Errors   []FieldProblem   `json:"errors,omitempty" nullable:"false" doc:"what is wrong in which field of the request"`
	Problems []source.Problem `json:"problems,omitempty" nullable:"false" doc:"what is wrong in the policy or the fleet"`
}

// A FieldProblem is what is wrong in a field of a request.
type FieldProblem struct {
	Message  string `json:"message"`
	Location string `json:"location,omitempty" doc:"as body.after"`
	Value    any    `json:"value,omitempty"`
}

// NewProblem is one of a code; status is the code's.
func NewProblem(code ProblemCode, detail string) *ProblemDocument {
	k := problemKind(func(k ProblemKind) bool { return k.Code == code })
	return &ProblemDocument{Status: k.Status, Title: http.StatusText(k.Status), Code: code, Detail: detail}
}

// ProblemOf is one of a status that has no code of its own.
func ProblemOf(status int, detail string) *ProblemDocument {
	k := problemKind(func(k ProblemKind) bool { return k.Status == status })
	switch {
	case k.Code != "":
	case status >= http.StatusInternalServerError:
		k.Code = WentWrong
	default:
		k.Code = NotValid
	}
	return &ProblemDocument{Status: status, Title: http.StatusText(status), Code: k.Code, Detail: detail}
}

// Error is what the service said, with what is wrong in which field.
func (p *ProblemDocument) Error() string {
	s := p.Detail
	if s == "" {
		s = p.Title
	}
	for _, e := range p.Errors {
		s += fmt.Sprintf("; %s: %s", e.Location, e.Message)
	}
	return s
}

// GetStatus is the status of HTTP.
func (p *ProblemDocument) GetStatus() int { return p.Status }

// ContentType is the kind of document that a problem is written as.
func (p *ProblemDocument) ContentType(string) string { return "application/problem+json" }

// Again says whether the same request may be sent again after a while.
func (p *ProblemDocument) Again() bool {
	return problemKind(func(k ProblemKind) bool { return k.Code == p.Code }).Again
}
