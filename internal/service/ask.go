package service

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"yellowfence.example/yfence/core/ask"
	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/internal/api"
)

func (s *Service) ask(ctx context.Context, in *struct{ Body api.Question }) (*struct{ Body api.Answer }, error) {
	m, err := s.newest(ctx)
	if err != nil {
		return nil, s.broken("answering", err)
	}
	if m.pair.Number == 0 {
		return nil, huma.Error409Conflict("no policy is published yet")
	}
	q, problems := fence.ParseQuestion(in.Body.Question)
	var answer *ask.Answer
	if problems == nil {
		answer, problems = m.asker().Policy(q, s.Clock().Unix())
	}
	if problems != nil {
		return nil, refused("the question is not understood", problems)
	}
	return &struct{ Body api.Answer }{api.Answer{Version: api.Version, Question: in.Body.Question, Answer: *answer}}, nil
}
