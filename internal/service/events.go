package service

import (
	"bytes"
	"cmp"
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"math/big"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"sync"
	"syscall"
	"time"

	"github.com/cloudevents/sdk-go/v2/event"
	"github.com/danielgtaylor/huma/v2"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/internal/store"
)

// A Destination is where events are delivered to.
type Destination struct {
	store.Destination
	URL      string
	Secret   []byte // that deliveries are signed with; nil: they are not
	Internal bool   // it may be at this machine, or on its link
}

// The times of events.
const (
	statesHeld = 30 * time.Second // that one service looks how hosts stand, unless it goes on
	statesLook = 5 * time.Second

	checkpointEvery = time.Hour
	eventsHeld      = 30 * time.Second // that one service delivers to a destination; the next waits for so long when it dies
	eventsLook      = time.Second
	deliverTime     = 10 * time.Second
	firstRetry      = 5 * time.Second
	longRetry       = time.Hour
	giveUpAfter     = 24 * time.Hour
	atOnce          = 4        // deliveries to one destination at once
	mostAnswer      = 64 << 10 // bytes that are read of an answer
)

// WorkEvents looks how hosts stand and delivers events until ctx ends. Of several services one does each.
func (s *Service) WorkEvents(ctx context.Context) {
	ctx = store.For(ctx, store.Work)
	var work sync.WaitGroup
	work.Go(func() {
		s.leased(ctx, "states", statesHeld, cmp.Or(s.EventsLook, statesLook), func() error { return s.lookAtHosts(ctx) })
	})
	work.Go(func() {
		s.leased(ctx, "checkpoint", checkpointEvery/2, cmp.Or(s.EventsLook, statesLook), func() error {
			return s.Store.TellCheckpoint(ctx, cmp.Or(s.EventsLook, checkpointEvery))
		})
	})
	for ctx.Err() == nil {
		s.deliverAll(ctx)
	}
	work.Wait()
}

// deliverAll delivers to all destinations until there are others, or ctx ends.
func (s *Service) deliverAll(ctx context.Context) {
	now := s.set()
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	var work sync.WaitGroup
	for _, d := range now.Destinations {
		client := outwardClient(d.Internal)
		work.Go(func() {
			s.leased(ctx, "events "+d.Name, eventsHeld, cmp.Or(s.EventsLook, eventsLook), func() error { return s.deliver(ctx, client, d) })
		})
	}
	select {
	case <-ctx.Done():
	case <-now.over:
		stop()
	}
	work.Wait()
}

// leased does something again and again while this service is the one that does it.
func (s *Service) leased(ctx context.Context, name string, held, look time.Duration, work func() error) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(look):
		}
		err := s.guarded(func() error {
			mine, err := s.Store.Lease(ctx, name, s.holder, held)
			if err != nil || !mine {
				return err
			}
			return work()
		})
		if err != nil && ctx.Err() == nil {
			s.Log.Error(name, "error", err)
		}
	}
}

// deliver delivers what is due to one destination: of each subject one after the other, of several at once.
func (s *Service) deliver(ctx context.Context, client *http.Client, d Destination) error {
	for ctx.Err() == nil {
		due, err := s.Store.Due(ctx, d.Name, 100)
		if err != nil || len(due) == 0 {
			return err
		}
		var all sync.WaitGroup
		slots := make(chan struct{}, atOnce)
		errs := make([]error, len(due))
		begun := moment()
		for i, u := range due {
			if moment().Sub(begun) > eventsHeld/2 { // the lease is gone on with first
				break
			}
			slots <- struct{}{}
			all.Go(func() {
				defer func() { <-slots }()
				errs[i] = s.deliverOne(ctx, client, d, u)
			})
		}
		all.Wait()
		if err := errors.Join(errs...); err != nil {
			return err
		}
		if moment().Sub(begun) > eventsHeld/2 {
			return nil
		}
	}
	return ctx.Err()
}

// deliverOne tries to deliver an event, and notes how that went. The error is the database's.
func (s *Service) deliverOne(ctx context.Context, client *http.Client, d Destination, u api.Undelivered) error {
	traced, end := s.span(ctx, "deliver to "+d.Name)
	err := s.post(traced, client, d, u.Event)
	end(err)
	if ctx.Err() != nil {
		return nil // it is tried again by whoever comes next
	}
	if err == nil {
		return s.Store.Delivered(ctx, d.Name, u.Event.Number, "", time.Time{})
	}
	now := s.Clock()
	again := now.Add(backOff(u.Tries, cmp.Or(s.EventsLook, firstRetry)))
	if now.Sub(u.Event.At) >= giveUpAfter {
		again = time.Time{}
	}
	s.Log.Warn("an event could not be delivered", "destination", d.Name, "event", u.Event.ID, "error", err)
	said := err.Error()
	return s.Store.Delivered(ctx, d.Name, u.Event.Number, said[:min(len(said), 1000)], again)
}

// backOff is how long is waited after so many tries, give or take a quarter.
func backOff(tries int, first time.Duration) time.Duration {
	wait := min(first<<min(tries, 20), longRetry)
	n, _ := rand.Int(rand.Reader, big.NewInt(int64(wait)/2+1)) // never fails
	return wait*3/4 + time.Duration(n.Int64())
}

// The headers of a delivery, beside those of CloudEvents.
const (
	timeHeader = "Yfence-Time"
	hmacHeader = "Yfence-Hmac"
)

// Sign is what a delivery's header Yfence-Hmac holds: HMAC-SHA256 with the secret over what Yfence-Time
// says, a line feed, and the body; in hexadecimal.
func Sign(secret []byte, at string, body []byte) string {
	mac := hmac.New(sha256.New, secret)
	mac.Write([]byte(at + "\n"))
	mac.Write(body)
	return hex.EncodeToString(mac.Sum(nil))
}

// post sends an event as a CloudEvent in structured form. Anything but a plain yes is an error.
func (s *Service) post(ctx context.Context, client *http.Client, d Destination, e api.Event) error {
	out := event.New()
	out.SetID(e.ID)
	out.SetType(api.EventPrefix + e.Type)
	out.SetSource("/yellowfence")
	out.SetSubject(e.Subject)
	out.SetTime(e.At)
	if err := out.SetData(event.ApplicationJSON, e.Data); err != nil {
		return err
	}
	body, err := out.MarshalJSON()
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, deliverTime)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, d.URL, bytes.NewReader(body))
	if err != nil {
		return err
	}
	req.Header.Set("Content-Type", event.ApplicationCloudEventsJSON)
	if d.Secret != nil {
		at := s.Clock().UTC().Format(time.RFC3339)
		req.Header.Set(timeHeader, at)
		req.Header.Set(hmacHeader, Sign(d.Secret, at, body))
	}
	res, err := client.Do(req)
	var where *url.Error
	if errors.As(err, &where) { // it names the address, which may hold a secret and is not for everybody who reads
		err = where.Err
	}
	if err != nil {
		return err
	}
	defer func() { _ = res.Body.Close() }()
	if _, err := io.Copy(io.Discard, io.LimitReader(res.Body, mostAnswer)); err != nil {
		return fmt.Errorf("its answer did not end: %w", err)
	}
	if res.StatusCode < 200 || res.StatusCode > 299 {
		return fmt.Errorf("it answered %s", res.Status)
	}
	return nil
}

// metadata is where a cloud's instances find their keys, outside of the link-local range.
var metadata = netip.MustParseAddr("fd00:ec2::254")

// atHome says that an address leads to this machine, to its link, or to where its cloud keeps its keys.
func atHome(a netip.Addr) bool {
	return a.IsLinkLocalUnicast() || a.IsMulticast() || a.IsUnspecified() || a.IsLoopback() || a == metadata
}

// outward refuses to connect to addresses that lead to this machine or its link.
func outward(address string, internal bool) error {
	to, err := netip.ParseAddrPort(address)
	if err != nil {
		return err
	}
	if a := to.Addr().Unmap(); !internal && atHome(a) {
		return fmt.Errorf("events are not delivered to %s, which is this machine or its link; internal: true allows it", a)
	}
	return nil
}

// outwardClient delivers to other machines, and follows nobody elsewhere.
func outwardClient(internal bool) *http.Client {
	dialer := &net.Dialer{Timeout: 5 * time.Second, Control: func(_, address string, _ syscall.RawConn) error {
		return outward(address,
			internal)
	}}
	return &http.Client{Timeout: deliverTime,
		Transport: &http.Transport{DialContext: dialer.DialContext, TLSHandshakeTimeout: 5 * time.Second, MaxResponseHeaderBytes: 64 << 10,
			MaxIdleConnsPerHost: atOnce, IdleConnTimeout: time.Minute, Proxy: nil},
		CheckRedirect: func(*http.Request, []*http.Request) error {
			return errors.New("it leads elsewhere; name the address that it leads to")
		}}
}

// registerEvents tells the router the calls about events.
func (s *Service) registerEvents(a huma.API) {
	huma.Register(a, operation("GET", "/events", "list-events", "What others are told of, the newest first", api.Read), s.listEvents)
	huma.Register(a, operation("GET", "/stream", "stream", "What happens, as it happens: server-sent events", api.Read), s.stream)
	huma.Register(a, operation("GET", "/events/undelivered", "list-undelivered", "Events that destinations did not take yet, or never will",
		api.Read), s.listUndelivered)
	huma.Register(a, operation("POST", "/events/destinations/{destination}/send-again", "send-again",
		"Deliver again what was given up for a destination", api.Tokens), s.sendAgain)
}

// listEvents answers events, the newest first.
func (s *Service) listEvents(ctx context.Context, in *PageInput) (*struct{ Body api.Events }, error) {
	list, err := s.Store.Events(ctx, in.Before, in.Limit)
	if err != nil {
		return nil, s.broken("reading the events", err)
	}
	out := api.Events{Version: api.Version, Events: list}
	if len(list) == in.Limit {
		out.Next = list[len(list)-1].Number
	}
	return &struct{ Body api.Events }{out}, nil
}

// listUndelivered answers what destinations did not take.
func (s *Service) listUndelivered(ctx context.Context, in *struct {
	Limit int `query:"limit" minimum:"1" maximum:"1000" default:"200" doc:"how many at most"`
}) (*struct{ Body api.UndeliveredList }, error) {
	list, err := s.Store.Undelivered(ctx, in.Limit)
	if err != nil {
		return nil, s.broken("reading the events", err)
	}
	return &struct{ Body api.UndeliveredList }{api.UndeliveredList{Version: api.Version, Undelivered: list}}, nil
}

// sendAgain has what was given up for a destination be tried again.
func (s *Service) sendAgain(ctx context.Context, in *struct {
	Destination string `path:"destination" maxLength:"63"`
}) (*struct {
	Body struct {
		Again int64 `json:"again" doc:"how many events"`
	}
}, error) {
	n, err := s.Store.SendAgain(ctx, in.Destination)
	if errors.Is(err, store.ErrNotFound) {
		return nil, huma.Error404NotFound(fmt.Sprintf("nothing was given up for a destination %q", in.Destination))
	} else if err != nil {
		return nil, s.broken("sending again", err)
	}
	out := &struct {
		Body struct {
			Again int64 `json:"again" doc:"how many events"`
		}
	}{}
	out.Body.Again = n
	return out, nil
}
