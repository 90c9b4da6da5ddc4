package service

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"yellowfence.example/yfence/core/ask"
	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/packet"
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
		if err := s.computed(ctx, s.asking, "answering", func(b packet.Budget) (err error) {
			answer, problems, err = m.asker().PolicyWithin(b, q, s.Clock().Unix())
			return err
		}); err != nil {
			return nil, err
		}
	}
	if problems != nil {
		return nil, refused("the question is not understood", problems)
	}
	return &struct{ Body api.Answer }{api.Answer{Version: api.Version, Question: in.Body.Question, Answer: *answer}}, nil
}
