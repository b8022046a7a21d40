// Package call holds what is said between those who want something of the
// outside and those who send it: the request, the answer, what may be shown of
// both, and why a call did not succeed. It sends nothing itself.
//
//	engine ─ Call ─▶ Sender ─▶ the other side
//	       ◀─ Answer, Sent, error (*Failure, *Parked, or a fault of ours)
package call

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"time"

	"youngtrellis/internal/core/item"
)

// Effects of a call.
const (
	Read  = "read"
	Write = "write"
)

// Repeats say whether a call whose outcome is unknown may be made again.
const (
	Safe   = "safe"   // it changes nothing the second time
	Keyed  = "keyed"  // the other side knows repeats by the Idempotency-Key
	Unsafe = "unsafe" // it would happen twice
)

// Call is a request that is ready to be sent but for its sign-in.
type Call struct {
	Method string
	URL    *url.URL
	Header http.Header
	Body   []byte  // nil where Pieces are given
	Pieces []Piece // a body with files in it, sent as it is read
	Effect string
	Repeat string
	Answer string // auto, json, text or file
	Free   bool   // the address comes from a workflow, not from a connector
	// Timeout is the longest that the call may take once it has begun.
	Timeout time.Duration
	// Stopped, where it is not nil, is closed when the call need not begin any
	// more: whoever waits for its turn gives up. It does not cut a call.
	Stopped <-chan struct{}
}

// ErrStopped says that a call was not begun because it need not begin any more.
var ErrStopped = errors.New("the call was not begun")

// Piece is a part of a body: bytes, or a file.
type Piece struct {
	Bytes []byte
	File  *item.File
}

// Size is the length of the body in bytes.
func (c *Call) Size() int64 {
	n := int64(len(c.Body))
	for _, p := range c.Pieces {
		n += int64(len(p.Bytes))
		if p.File != nil {
			n += p.File.Size
		}
	}
	return n
}

// Answer is what came back: read whole, or kept as a file.
type Answer struct {
	Status int
	Header http.Header
	Body   []byte
	File   *item.File
	Whole  bool // the file is known already; nothing was read
}

// Sent is a request as it may be shown: secrets are masked.
type Sent struct {
	Method   string `json:"method"`
	URL      string `json:"url"`
	Body     string `json:"body,omitempty"`
	Status   int    `json:"status,omitempty"`
	Prepared bool   `json:"prepared,omitempty"` // built but not sent
	Guarded  string `json:"guarded,omitempty"`  // not sent, as this address (host:port) is not public and was not allowed
}

// Sender makes a call once. Key is its Idempotency-Key, or "". Sent is what was
// sent as far as it is known, also where there is an error: a *Failure where
// the call could not be made, was refused or was cut; a *Parked where it cannot
// be made for now; a *Lost where it was made and its answer could not be kept.
// Every other error is a fault of ours and the call was not sent, unless ctx
// has ended: then nothing is known of it. A Sender never repeats a call whose
// outcome is unknown.
type Sender interface {
	Send(ctx context.Context, c *Call, key string) (*Answer, *Sent, error)
}

// shownBody is how much of a body is shown, in bytes.
const shownBody = 4 << 10

// Show gives the call as it may be shown, with nothing sent.
func (c *Call) Show(s *Secrets) *Sent {
	body := c.Body
	if c.Pieces != nil {
		var b strings.Builder
		for _, p := range c.Pieces {
			if p.File != nil {
				fmt.Fprintf(&b, "[%s, %s, %s]", p.File.Name, p.File.Type, item.Bytes(p.File.Size))
			} else {
				b.Write(p.Bytes)
			}
			if b.Len() > shownMost {
				break
			}
		}
		body = []byte(b.String())
	}
	return &Sent{Method: c.Method, URL: s.Mask(c.URL.String()), Body: s.MaskShort(string(body[:min(len(body), shownMost)]), shownBody)}
}

// shownMost is as much of a body as is looked through for secrets.
const shownMost = 128 << 10
