package service

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/internal/limits"
	"yellowfence.example/yfence/internal/store"
)

const (
	streamPath  = "/api/v1/stream"
	streamLook  = time.Second
	streamBeat  = 15 * time.Second
	streamCheck = 30 * time.Second // how often it is looked whether whoever listens still may
	streamAhead = 256              // events that a listener may be behind
	mostBefore  = 1000             // events that are told to who was away
	streamAgain = 200              // numbers that are looked at again: what was being committed before
)

// streams has one look at what happened for all who listen.
type streams struct {
	mu        sync.Mutex
	listeners map[*listener]bool
	looks     bool // somebody looks already
}

// listener is one who listens.
type listener struct {
	who   string
	heard chan api.StreamMessage // closed where it was too far behind: it begins again
}

// join adds a listener, who knows what happened up to an event, and begins to look if nobody does; nil where
// he has too many.
func (s *Service) join(who string, from int64) *listener {
	all := &s.streams
	all.mu.Lock()
	defer all.mu.Unlock()
	mine := 0
	for l := range all.listeners {
		if l.who == who {
			mine++
		}
	}
	if mine >= limits.StreamsEach || len(all.listeners) >= limits.Streams {
		return nil
	}
	l := &listener{who: who, heard: make(chan api.StreamMessage, streamAhead)}
	if all.listeners == nil {
		all.listeners = map[*listener]bool{}
	}
	if all.listeners[l] = true; !all.looks {
		all.looks = true
		go s.lookForAll(from)
	}
	return l
}

// leave takes a listener away.
func (s *Service) leave(l *listener) {
	s.streams.mu.Lock()
	defer s.streams.mu.Unlock()
	delete(s.streams.listeners, l)
}

// tellAll gives a message to all who listen; false where nobody does any more.
func (s *Service) tellAll(m ...api.StreamMessage) bool {
	all := &s.streams
	all.mu.Lock()
	defer all.mu.Unlock()
	for l := range all.listeners {
		for _, one := range m {
			select {
			case l.heard <- one:
				continue
			default:
			}
			close(l.heard)
			delete(all.listeners, l)
			break
		}
	}
	all.looks = len(all.listeners) > 0
	return all.looks
}

// lookForAll looks at what happened after an event, again and again, while anybody listens. One look serves all of them, so
// that listeners cost the database nothing. A number is given when an event is written and seen when its transaction ends,
// so that a lower one may come after a higher: each look goes back streamAgain numbers, and tells what it has not told.
func (s *Service) lookForAll(last int64) {
	ctx := store.For(context.Background(), store.Work)
	var marks *store.Marks
	seen := map[int64]bool{}
	for n := max(last-streamAgain, 0); n <= last; n++ {
		seen[n] = true
	}
	for s.tellAll() {
		select {
		case <-s.stopping:
			return
		case <-time.After(streamLook):
		}
		var news []api.StreamMessage
		err := s.guarded(func() (err error) {
			events, err := s.Store.EventsAfter(ctx, max(last-streamAgain, 0), 2*streamAgain)
			if err != nil {
				return err
			}
			now, err := s.Store.Marks(ctx)
			if err != nil {
				return err
			}
			for _, e := range events {
				if !seen[e.Number] {
					news = append(news, api.StreamMessage{Number: e.Number, Kind: e.Type, Event: &e})
				}
				seen[e.Number] = true
				last = max(last, e.Number)
			}
			if marks != nil && now != *marks {
				news = append(news, api.StreamMessage{Kind: api.StreamLook, Look: now.Since(*marks)})
			}
			marks = &now
			return nil
		})
		if err != nil {
			s.Log.Warn("looking for what happened", "error", err)
		}
		for n := range seen {
			if n < last-2*streamAgain {
				delete(seen, n)
			}
		}
		s.tellAll(news...)
	}
}

// stream tells of what happens, as it happens.
func (s *Service) stream(ctx context.Context, in *struct {
	After int64  `header:"Last-Event-ID" minimum:"0" doc:"the number of the event that was heard last: what came after it comes first"`
	Only  string `query:"only" maxLength:"500" doc:"kinds of events, with commas between them: wave, host.state; all where it is empty"`
}) (*huma.StreamResponse, error) {
	who := caller(ctx).Name
	from, err := s.Store.LastEvent(ctx)
	if err != nil {
		return nil, s.broken("reading what happened", err)
	}
	l := s.join(who, from)
	if l == nil {
		return nil, waiting(api.NewProblem(api.TooMany, fmt.Sprintf("%s listens %d times already, or %d listen in all; end one first", who,
			limits.StreamsEach, limits.Streams)), streamBeat)
	}
	var before []api.Event
	if in.After > 0 {
		if before, err = s.Store.EventsAfter(ctx, in.After, mostBefore); err != nil {
			s.leave(l)
			return nil, s.broken("reading what happened", err)
		}
	}
	only := strings.FieldsFunc(in.Only, func(r rune) bool { return r == ',' || r == ' ' })
	return &huma.StreamResponse{Body: func(c huma.Context) {
		defer s.leave(l)
		_, w := humachi.Unwrap(c)
		out := streamWriter{w: w, to: http.NewResponseController(w), only: only, told: map[int64]bool{}}
		_ = out.to.SetReadDeadline(time.Time{}) // nothing more is read, for as long as it takes
		w.Header().Set("Content-Type", "text/event-stream")
		w.Header().Set("Cache-Control", "no-store")
		out.write("retry: 3000\n\n")
		for _, e := range before {
			out.told[e.Number] = true
			out.tell(api.StreamMessage{Number: e.Number, Kind: e.Type, Event: &e})
		}
		if len(before) == mostBefore { // and more: whoever was away for so long looks at everything
			out.tell(api.StreamMessage{Kind: api.StreamLook, Look: api.StreamParts})
		}
		s.streamOn(c, l, &out)
	}}, nil
}

// streamOn goes on until the listener leaves, or may not listen any more.
func (s *Service) streamOn(c huma.Context, l *listener, out *streamWriter) {
	beat, look := time.NewTicker(streamBeat), time.NewTicker(streamCheck)
	defer beat.Stop()
	defer look.Stop()
	for out.err == nil {
		select {
		case <-c.Context().Done():
			return
		case <-s.stopping:
			return
		case <-beat.C:
			out.write(": here\n\n")
		case <-look.C:
			t, _, err := s.token(c)
			if err == nil && (s.over(t) != "" || !api.Has(t.Rights, api.Read)) || err != nil && !store.Unavailable(err) {
				return
			}
		case m, more := <-l.heard:
			if !more {
				return // it comes again with what it heard last
			}
			if !out.told[m.Number] {
				out.tell(m)
			}
		}
	}
}

// streamWriter writes server-sent events.
type streamWriter struct {
	w    http.ResponseWriter
	to   *http.ResponseController
	only []string
	told map[int64]bool // before it began to listen
	err  error
}

// tell writes a message that is wanted.
func (o *streamWriter) tell(m api.StreamMessage) {
	if !(store.Destination{Only: o.only}).Wants(m.Kind) {
		return
	}
	body, err := json.Marshal(m)
	if err != nil {
		o.err = err
		return
	}
	id := ""
	if m.Event != nil {
		id = fmt.Sprintf("id: %d\n", m.Number)
	}
	o.write(fmt.Sprintf("%sevent: %s\ndata: %s\n\n", id, m.Kind, body))
}

// write writes a piece and sends it.
func (o *streamWriter) write(piece string) {
	if o.err == nil {
		_ = o.to.SetWriteDeadline(ends(streamBeat))
		if _, o.err = fmt.Fprint(o.w, piece); o.err == nil {
			o.err = o.to.Flush()
		}
	}
}
