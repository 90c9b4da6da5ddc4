package client

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"

	"yellowfence.example/yfence/api"
)

// A Stream gives what happens at the service, as it happens. Close it when it is no longer wanted.
type Stream struct {
	lines *bufio.Reader
	close func() error
}

// maxMessage is how long one message may be, in bytes.
const maxMessage = 4 << 20

// Stream begins to listen to what happens: kinds of events as "wave" or "host.state", all where none are
// named. Events after the number of one that was heard before come first; 0 begins now. It takes
// the right read for the whole fleet.
func (c *Client) Stream(ctx context.Context, after int64, kinds ...string) (*Stream, error) {
	req, err := c.request(ctx, http.MethodGet, "/stream?only="+url.QueryEscape(strings.Join(kinds, ",")), nil)
	if err != nil {
		return nil, err
	}
	req.Header.Set("Accept", "text/event-stream")
	if after > 0 {
		req.Header.Set("Last-Event-ID", strconv.FormatInt(after, 10))
	}
	endless := *c.http
	endless.Timeout = 0
	res, err := endless.Do(req)
	if err != nil {
		return nil, fmt.Errorf("the service at %s does not answer: %w", c.url, err)
	}
	if res.StatusCode != http.StatusOK {
		defer func() { _ = res.Body.Close() }()
		return nil, c.problem(res)
	}
	return &Stream{bufio.NewReaderSize(res.Body, 64<<10), res.Body.Close}, nil
}

// Next waits for the next message. The error is io.EOF where the service ended the stream: begin another
// after the last number.
func (s *Stream) Next() (m api.StreamMessage, err error) {
	var data []byte
	for {
		line, err := s.lines.ReadSlice('\n')
		data = append(data, line...)
		switch {
		case len(data) > maxMessage:
			return m, fmt.Errorf("a message is longer than %d MB", maxMessage>>20)
		case errors.Is(err, bufio.ErrBufferFull):
			continue
		case err != nil:
			return m, err
		}
		text, is := bytes.CutPrefix(data, []byte("data: "))
		if is {
			return m, json.Unmarshal(text, &m)
		}
		data = data[:0]
	}
}

// Close ends the stream.
func (s *Stream) Close() error { return s.close() }
