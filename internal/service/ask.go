package service

import (
	"context"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/ask"
	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/packet"
)

// ask answers a question about the newest policy, and on how many of the hosts it is about that
// policy is in force.
func (s *Service) ask(ctx context.Context, in *struct{ Body api.Question }) (*struct{ Body api.Answer }, error) {
	m, err := s.newest(ctx)
	if err != nil {
		return nil, s.broken("answering", err)
	}
	if m.pair.Number == 0 {
		return nil, nothingPublished()
	}
	q, problems := fence.ParseQuestion(in.Body.Question)
	var answer *ask.Answer
	if problems == nil && in.Body.At != nil {
		if answer, problems, err = s.askAt(ctx, q, *in.Body.At); err != nil {
			return nil, err
		}
		if problems == nil {
			return &struct{ Body api.Answer }{api.Answer{Version: api.Version, Question: in.Body.Question, Answer: *answer,
				At: in.Body.At}}, nil
		}
	} else if problems == nil {
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
	has, err := s.answered(ctx, m, answer.Hosts)
	if err != nil {
		return nil, s.told("answering", err)
	}
	return &struct{ Body api.Answer }{api.Answer{Version: api.Version, Question: in.Body.Question, Answer: *answer, InForce: has}}, nil
}

// connection is the question what becomes of a connection from a host, or an address, to an address.
func connection(from, to string, p api.Probe) *fence.Question {
	service := fence.ServiceTerm{Name: "ping", Text: "ping"}
	if number, ok := packet.ProtocolNumber(p.Protocol); ok && p.Port != 0 {
		service = fence.PortTerm(number, p.Port)
	}
	return fence.Connection(from, to, service)
}

// answered is on how many hosts that an answer is about what is published is in force.
func (s *Service) answered(ctx context.Context, m *model, hosts []string) (*api.AnswerInForce, error) {
	k, err := s.known(ctx, nil)
	if err != nil {
		return nil, err
	}
	ctx = patient(ctx, ends(readerWaits))
	out := &api.AnswerInForce{Revision: m.pair.Revision, Of: len(hosts)}
	for _, name := range hosts {
		if m.host(name).Others() {
			out.Of--
			continue
		}
		res, err := s.whole(ctx, m, m.host(name), k)
		if err != nil {
			return nil, err
		}
		if res.State == api.InStep || res.inForce == m.pair.Revision {
			out.Hosts++
		} else if len(out.Not) < mostNamed {
			out.Not = append(out.Not, name)
		}
	}
	return out, nil
}

// mostNamed is how many hosts an answer names before it counts them.
const mostNamed = 10 // of many hosts
