package service

import (
	"context"
	"errors"
	"fmt"
	"sync/atomic"
	"time"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/internal/limits"
)

// A queue lets so many pieces of work of one class be done at once, and so many wait. Those
// of another class never wait for them.
type queue struct {
	slots   chan struct{}
	waiting atomic.Int64
	most    int64
	within  time.Duration // that one may take
	edges   int
}

// newQueue is a queue that does so many things at once and lets so many wait, each bounded in
// time and in edges.
func newQueue(atOnce, most int, within time.Duration, edges int) *queue {
	return &queue{slots: make(chan struct{}, atOnce), most: int64(most), within: within, edges: edges}
}

// What a queue says instead of doing something.
var errFull = errors.New("too much waits already")

// do does a piece of work when it is its turn, within the budget that it is given. It ends
// when whoever asked for it leaves.
func (q *queue) do(ctx context.Context, work func(b packet.Budget) error) error {
	if q.waiting.Add(1) > q.most {
		q.waiting.Add(-1)
		return errFull
	}
	select {
	case q.slots <- struct{}{}:
		q.waiting.Add(-1)
	case <-ctx.Done():
		q.waiting.Add(-1)
		return ctx.Err()
	}
	defer func() { <-q.slots }()
	end := ends(q.within)
	b := packet.Budget{Edges: q.edges, Halt: func() error {
		if err := ctx.Err(); err != nil {
			return err
		}
		if over(end) {
			return errTooLong
		}
		return nil
	}}
	var err error
	if complex := packet.Try(func() { err = work(b) }); complex != nil {
		return complex
	}
	return err
}

// It is told as the service's word that it takes too long, not as a failure.
var errTooLong = errors.New("it takes too long")

// computed does work that may be heavy, and says in an answer why it was not done.
func (s *Service) computed(ctx context.Context, q *queue, what string, work func(b packet.Budget) error) error {
	ctx, end := s.span(ctx, what)
	err := q.do(ctx, work)
	end(err)
	var tangled *packet.TooComplexError
	var halted *packet.Halted
	switch {
	case err == nil:
		return nil
	case errors.Is(err, errFull):
		return later(what+" has to wait: much of the kind is being worked out; try again soon", retrySoon)
	case errors.As(err, &tangled):
		return api.NewProblem(api.TooComplex, fmt.Sprintf("%s: %s; rules with fewer distinct ports and addresses take less", what,
			tangled))
	case errors.Is(err, errTooLong):
		return api.NewProblem(api.TooComplex, fmt.Sprintf("%s: too complex to decide exactly within %s; rules with fewer distinct "+
			"ports and addresses take less", what, q.within))
	case errors.As(err, &halted):
		return s.broken(what, halted.Err)
	}
	return err
}

// queues are the classes of work that requests start.
type queues struct{ computing, asking *queue }

// newQueues are the service's two queues: questions never wait behind publishing.
func newQueues() queues {
	return queues{
		computing: newQueue(limits.Computing, limits.ComputeWait, limits.ComputeTime, limits.Cases),
		asking:    newQueue(limits.Asking, limits.AskWait, limits.AskTime, limits.Cases),
	}
}
