package main

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"time"

	"yellowfence.example/yfence/api"
)

// A pager is somebody who is told of events, and writes them down.
type pager struct {
	server *httptest.Server

	mu    sync.Mutex
	told  []string
	times map[string]int // by the ids of events
}

// listen begins to listen, and gives what the service's configuration says of it.
func (p *pager) listen() string {
	p.times = map[string]int{}
	p.server = httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		var e struct {
			ID, Type, Subject string
			Time              time.Time
			Data              json.RawMessage
		}
		if json.NewDecoder(io.LimitReader(r.Body, 1<<20)).Decode(&e) != nil {
			return
		}
		line := fmt.Sprintf("%s  %-18s  %s", e.Time.Format("15:04:05"), strings.TrimPrefix(e.Type, api.EventPrefix), e.Subject)
		var host api.HostEvent
		if json.Unmarshal(e.Data, &host) == nil && host.Host != "" {
			line += fmt.Sprintf(": %s", host.State)
			if host.Was != "" {
				line += fmt.Sprintf(", and was %s", host.Was)
			}
			if host.Changes > 1 {
				line += fmt.Sprintf("; it changed %d times", host.Changes)
			}
		}
		p.mu.Lock()
		defer p.mu.Unlock()
		if p.times[e.ID]++; p.times[e.ID] == 1 {
			p.told = append(p.told, line)
		}
	}))
	return "events:\n  - {name: pager, url: \"" + p.server.URL + "\", internal: true, only: [host.state, wave, revision]}\n"
}

// print prints what it was told, and is an error where it was told something twice.
func (p *pager) print(w io.Writer) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, line := range p.told {
		_, _ = fmt.Fprintln(w, "  "+line)
	}
	for id, n := range p.times {
		if n > 1 {
			return fmt.Errorf("the event %s came %d times", id, n)
		}
	}
	return nil
}
