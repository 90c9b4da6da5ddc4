package service

import (
	"context"
	"fmt"
	"time"

	"yellowfence.example/yfence/core/ask"
	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/internal/api"
	"yellowfence.example/yfence/internal/store"
)

// maxTrials is how many connections a step of a wave tries.
const maxTrials = 60

// stepTrials tries what the policy expects of the hosts that a step has settled: first
// something listens at the far end, then the connections are opened. done says that all
// came out as they should; if one does not, however often it is tried, the wave stops.
func (s *Service) stepTrials(ctx context.Context, w *api.Wave, step *store.WaveStep, attending map[string]store.Attending) (done bool, err error) {
	over := func(id int64) (t api.TaskStatus, over bool, err error) {
		if id == 0 {
			return t, true, nil
		}
		t, err = s.Store.Task(ctx, id)
		return t, t.Done != nil || time.Now().After(t.Until), err
	}
	if w.Rounds == 0 {
		if w.Trials, err = s.trials(ctx, w, attending); err != nil {
			return false, err
		}
	}
	if len(w.Trials) == 0 {
		return true, nil
	}
	probe := func(t *api.Trial) (p api.Probe) {
		p.To = t.Address
		if p.Protocol = "icmp"; t.Service != "ping" {
			_, _ = fmt.Sscan(t.Service, &p.Protocol, &p.Port) // as tries wrote it
		}
		return p
	}
	if w.Trials[0].Listen == 0 {
		asked := map[string]int64{}
		for i := range w.Trials {
			t := &w.Trials[i]
			at := t.Address + " " + t.Service
			if asked[at] == 0 {
				p := probe(t)
				asked[at] = step.Task(api.Task{Host: t.To, Do: "listen", Probe: &p, Within: listenFor, Until: time.Now().Add(taskWithin)})
			}
			t.Listen = asked[at]
		}
		w.Rounds++
		return false, nil
	}
	for _, t := range w.Trials {
		if _, over, err := over(t.Listen); err != nil || !over {
			return false, err
		}
	}
	if w.Trials[0].Task == 0 {
		for i := range w.Trials {
			t := &w.Trials[i]
			p := probe(t)
			t.Task = step.Task(api.Task{Host: t.From, Do: "probe", Probe: &p, Until: time.Now().Add(taskWithin)})
		}
		return false, nil
	}
	var wrong []api.Trial
	held := 0
	for i := range w.Trials {
		t := &w.Trials[i]
		listened, _, err := over(t.Listen)
		if err != nil {
			return false, err
		}
		tried, over, err := over(t.Task)
		if err != nil || !over {
			return false, err
		}
		if t.Came, t.Agrees = "untried", "open"; tried.Result != nil && tried.Result.Came != "" {
			t.Came = tried.Result.Came
			listening := listened.Result != nil && answers(*listened.Result, probe(t).Protocol)
			t.Agrees = api.Agrees(t.Came, t.Admitted, listening, probe(t).Protocol)
		}
		switch t.Agrees {
		case "yes":
			held++
		case "no":
			wrong = append(wrong, *t)
		}
	}
	w.Held += held
	if len(wrong) == 0 {
		return true, nil
	}
	if w.Rounds < probeTries { // only those again
		for i := range wrong {
			wrong[i].Listen, wrong[i].Task = 0, 0
		}
		w.Trials = wrong
		return false, nil
	}
	return false, s.stop(ctx, w, step, attending, wrong[0].String())
}

// trials are connections that show whether the policy's expectations hold between
// hosts that have the wave's pair in force; each has a host at one end that this step
// has settled.
func (s *Service) trials(ctx context.Context, w *api.Wave, attending map[string]store.Attending) (out []api.Trial, err error) {
	mine, settled := map[string]bool{}, map[string]bool{}
	var number int64
	for _, h := range w.Hosts {
		if h.Phase == api.HostKept {
			mine[h.Name], settled[h.Name] = h.Step == w.Step, true
			if number != 0 && number != h.Pair { // hosts go back to different revisions
				return nil, nil
			}
			number = h.Pair
		}
	}
	m, err := s.modelOf(ctx, number)
	if err != nil {
		return nil, err
	}
	can := func(h *fleet.Host) bool {
		c := attending[h.Name].Change
		has := c != nil && c.Phase == api.Kept && c.Kind == "" && c.Pair == number
		return (settled[h.Name] || has) && s.attends(attending[h.Name])
	}
	var hosts, others []*fleet.Host // those of this step first
	for _, h := range m.fleet.Hosts {
		if mine[h.Name] {
			hosts = append(hosts, h)
		} else {
			others = append(others, h)
		}
	}
	hosts = append(hosts, others...)
	now := s.Clock().Unix()
	for _, e := range m.policy.Expects {
		if e.Off {
			continue
		}
		for _, t := range expected(e, hosts, can) {
			if !mine[t.from.Name] && !mine[t.to.Name] || len(out) == maxTrials {
				continue
			}
			q, problems := fence.ParseQuestion(fmt.Sprintf("%s -> %s : %s", t.from.Name, t.at, t.service()))
			if problems != nil {
				continue
			}
			answer := m.answer(q, now)
			if answer == nil || answer.Verdict == ask.Mixed || answer.Verdict == ask.Uncertain || translated(answer) {
				continue
			}
			out = append(out, api.Trial{For: t.about, From: t.from.Name, To: t.to.Name, Address: t.at.String(), Service: t.service(), Admitted: answer.Verdict == packet.Admit.String()})
		}
	}
	return out, nil
}
