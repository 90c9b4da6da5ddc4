package tap

import (
	"context"
	"errors"
	"strings"
	"time"

	"github.com/florianl/go-nflog/v2"
	"golang.org/x/sys/unix"

	"yellowfence.example/yfence/core/dialect"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/traffic"
)

// heldBack is for how long the kernel may hold messages back to send several at once, in hundredths
// of a second, and how many.
const (
	heldBack  = 20
	heldCount = 50
)

// directions are those of the hooks that our rules stand at, by number: enum nf_inet_hooks.
var directions = map[uint8]packet.Direction{1: packet.Inbound, 2: packet.Forward, 3: packet.Outbound}

// hearRefused listens to what our rules refuse.
func (t *Tap) hearRefused(ctx context.Context) error {
	log, err := nflog.Open(&nflog.Config{Group: dialect.NoteGroup, Copymode: nflog.CopyPacket, Bufsize: dialect.NoteBytes,
		Timeout: heldBack, QThresh: heldCount})
	if err != nil {
		return err
	}
	err = log.RegisterWithErrorFunc(ctx, func(a nflog.Attribute) int {
		t.addRefused(a)
		return 0
	}, func(err error) int {
		if errors.Is(err, unix.ENOBUFS) {
			t.missed()
			return 0
		}
		if ctx.Err() != nil {
			return 1
		}
		time.Sleep(time.Second) // an error that comes again and again is to cost nothing
		return 0
	})
	if err != nil {
		return errors.Join(err, log.Close())
	}
	context.AfterFunc(ctx, func() { _ = log.Close() })
	return nil
}

// addRefused adds one packet that was refused.
func (t *Tap) addRefused(a nflog.Attribute) {
	if a.Prefix == nil || a.Payload == nil || a.Hook == nil {
		return
	}
	// Others may use the group too: what does not begin as our rules write it is theirs.
	by, ours := strings.CutPrefix(strings.TrimRight(*a.Prefix, "\x00"), dialect.NoteOf)
	direction, filtered := directions[*a.Hook]
	f, ok := traffic.Read(*a.Payload)
	if !ours || !filtered || !ok {
		return
	}
	now := time.Now()
	t.mu.Lock()
	defer t.mu.Unlock()
	t.look(now)
	f.By, f.Direction = strings.TrimSpace(by), direction.Word()
	f.In, f.Out = t.name(a.InDev), t.name(a.OutDev)
	t.refused.Add(f, 1, now.Unix())
}
