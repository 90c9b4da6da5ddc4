package host

import (
	"context"
	"crypto/rand"
	"slices"
	"time"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/traffic"
	"yellowfence.example/yfence/internal/host/inventory"
)

// What was counted and seen here is kept in a file until the service took it. Its lock is held
// while the file is changed only, never while something is sent.
const (
	countingFile = "counting.json"
	countingLock = "counting.lock"
)

// counting is what stands in that file.
type counting struct {
	Epoch    string            `json:"epoch"` // of the numbers
	Number   int64             `json:"number"`
	Boot     string            `json:"boot"`     // since which counters are counted in
	Counters []traffic.Counter `json:"counters"` // what they stood at when they were last looked at
	InForce  []string          `json:"in_force"` // the statements that were told
	Sending  *traffic.Batch    `json:"sending,omitempty"`
	Waiting  traffic.Batch     `json:"waiting"` // becomes the next that is sent
}

// countings changes the file, one process at a time.
func (m *Machine) countings(change func(*counting)) error {
	if err := m.Ready(); err != nil {
		return err
	}
	lock, err := m.take(countingLock, true)
	if err != nil {
		return err
	}
	defer func() { _ = lock.Close() }()
	var c counting
	if m.ReadFile(countingFile, &c) != nil || c.Epoch == "" { // nothing was counted yet, or the file is lost
		c = counting{Epoch: rand.Text()}
	}
	change(&c)
	return m.WriteFile(countingFile, c)
}

// Count adds what came to the counters of our rules since they were last looked at to what the
// service is told.
func (m *Machine) Count(counts []api.Count) error {
	return m.countings(func(c *counting) {
		now := make([]traffic.Counter, 0, len(counts))
		for _, n := range counts {
			if traffic.IsStatement(n.By) {
				now = append(now, traffic.Counter{Of: n.Of, At: n.At, By: n.By, Chain: n.Chain, Packets: n.Packets, Bytes: n.Bytes})
			}
		}
		switch boot := m.thisBoot(); {
		case c.Boot == "": // what was before the first look may have been counted, by a file that is lost
			c.Boot, c.Counters = boot, now
		case boot != c.Boot:
			c.Boot, c.Counters = boot, nil // all of them began at nothing
		}
		// A batch names all statements where these are others than were told: so the service learns which
		// are in force and met by nothing. Else it names those to which something came.
		more := traffic.Batch{At: time.Now().Unix(), Hits: traffic.Moved(c.Counters, now), Watches: c.Waiting.Watches}
		c.Counters = now
		var names []string
		for _, h := range more.Hits {
			names = append(names, h.By+" "+h.Way)
		}
		if more.InForce = !slices.Equal(names, c.InForce); !more.InForce {
			more.Hits = slices.DeleteFunc(more.Hits, func(h traffic.Hit) bool { return h.Packets == 0 })
		}
		c.InForce = names
		c.Waiting.Add(more)
	})
}

// countBefore counts once more before rules are loaded anew, with which counters begin at nothing.
// What cannot be counted stands in the way of no change.
func (m *Machine) countBefore(ctx context.Context) {
	if _, counts, err := inventory.InForce(ctx); err == nil {
		_ = m.Count(counts)
	}
}

// Saw adds what was refused, and which connections began, to what the service is told.
func (m *Machine) Saw(more traffic.Batch) error {
	return m.countings(func(c *counting) { c.Waiting.Add(more) })
}

// TellTraffic sends what was not sent yet. What was sent and perhaps taken is sent again under the
// same number, so that it is counted once.
func (m *Machine) TellTraffic(send func(traffic.Batch) error) error {
	// What is sent is set aside first, with its number, and given up only once it was taken: a kill at any
	// point in between leaves it to be sent again.
	for range 2 { // what an earlier call could not send, and what waits
		var b *traffic.Batch
		err := m.countings(func(c *counting) {
			if c.Sending == nil && !c.Waiting.Empty() {
				next := c.Waiting
				c.Number++
				next.Epoch, next.Number = c.Epoch, c.Number
				c.Sending, c.Waiting = &next, traffic.Batch{Watches: next.Watches}
			}
			b = c.Sending
		})
		if err != nil || b == nil {
			return err
		}
		if err := send(*b); err != nil {
			return err
		}
		err = m.countings(func(c *counting) {
			if c.Sending != nil && c.Sending.Number == b.Number {
				c.Sending = nil
			}
		})
		if err != nil {
			return err
		}
	}
	return nil
}
