package service

import (
	"encoding/json"
	"errors"
	"net/http"
	"strconv"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/check"
	"yellowfence.example/yfence/core/source"
)

// Whatever refuses a request answers with a problem of ours; this is how huma's own become one.
func init() {
	huma.NewError = func(status int, detail string, causes ...error) huma.StatusError {
		p := api.ProblemOf(status, detail)
		for _, cause := range causes {
			if cause == nil {
				continue
			}
			f := api.FieldProblem{Message: cause.Error()}
			var detailed huma.ErrorDetailer
			if errors.As(cause, &detailed) {
				d := detailed.ErrorDetail()
				f = api.FieldProblem{Message: d.Message, Location: d.Location, Value: d.Value}
			}
			p.Errors = append(p.Errors, f)
		}
		return p
	}
}

// refused is the answer to texts with problems: all of them, with their places, and what they
// come to in one line.
func refused(what string, problems []source.Problem) error {
	p := api.NewProblem(api.WrongText, what+": "+check.Summary(problems))
	p.Problems = problems
	return p
}

// nothingPublished is the answer to who asks about a policy before there is one.
func nothingPublished() error {
	return api.NewProblem(api.NothingPublished, "no policy is published yet")
}

// retrySoon is when whoever met a database that is busy or away may try again.
const retrySoon = 5 * time.Second

// later refuses what may be tried again after a while.
func later(detail string, after time.Duration) error {
	return waiting(api.NewProblem(api.Busy, detail), after)
}

// waiting says with a problem when it may be tried again.
func waiting(p *api.ProblemDocument, after time.Duration) error {
	return huma.ErrorWithHeaders(p, http.Header{"Retry-After": {strconv.Itoa(int(after.Seconds()))}})
}

// writeProblem answers with a problem where no operation of the API is at work.
func writeProblem(w http.ResponseWriter, p *api.ProblemDocument) {
	w.Header().Set("Content-Type", p.ContentType(""))
	w.WriteHeader(p.Status)
	_ = json.NewEncoder(w).Encode(p) // whoever asked may have gone
}
