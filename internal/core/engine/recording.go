package engine

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"sync"
	"time"

	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/item"
)

// MostRecorded is how many bytes of answers a recording holds. What comes after
// that was not recorded, and is read anew when it is wanted.
const MostRecorded = 16 << 20

// Recording holds what a rehearsal read outside, so that another can be computed
// of it without asking anybody: a call with the same content through the same
// connection is answered as it was then. Calls that are alike in everything are
// answered in the order in which they were; the last answer is given again and
// again.
type Recording struct {
	Started time.Time

	mu      sync.Mutex // protects the following fields
	answers map[string][]recorded
	secrets map[string][]string // by connection, what its answers may echo
	bytes   int
}

// recorded is an answer that was given so many times on end.
type recorded struct {
	Status  int           `json:"status,omitempty"`
	Header  http.Header   `json:"header,omitempty"`
	Body    []byte        `json:"body,omitempty"`
	File    *item.File    `json:"file,omitempty"`
	Whole   bool          `json:"whole,omitempty"`
	Sent    *call.Sent    `json:"sent,omitempty"`
	Failure *call.Failure `json:"failure,omitempty"`
	Times   int           `json:"times"`
}

// NewRecording makes an empty recording of a rehearsal that starts now.
func NewRecording(started time.Time) *Recording {
	return &Recording{Started: started, answers: map[string][]recorded{}, secrets: map[string][]string{}}
}

// Of records what is read through connections.
func (r *Recording) Of(to Connections) Connections { return recording{to, r} }

// Replay answers reads from the recording. Accounts are opened, so that requests
// can be made, and nothing is sent: a read that was not recorded waits, with the
// reason call.ReasonUnread.
func (r *Recording) Replay(accounts Connections) Connections {
	return &replay{Connections: accounts, Recording: r, given: map[string]int{}, opened: map[string]Connection{}}
}

// Clock is that of a replay: it stands, but for pauses, which are over at once.
func (r *Recording) Clock() Clock { return &replayed{now: r.Started} }

type recording struct {
	Connections
	to *Recording
}

func (r recording) Open(ctx context.Context, name string) (Connection, error) {
	c, err := r.Connections.Open(ctx, name)
	if err != nil {
		return nil, err
	}
	r.to.mu.Lock()
	defer r.to.mu.Unlock()
	if r.to.secrets[name] == nil {
		r.to.secrets[name] = c.Account().Secrets.Values()
	}
	return recordingConnection{c, name, r.to}, nil
}

type recordingConnection struct {
	Connection
	name string
	to   *Recording
}

// Send implements call.Sender.
func (c recordingConnection) Send(ctx context.Context, request *call.Call, key string) (*call.Answer, *call.Sent, error) {
	answer, sent, err := c.Connection.Send(ctx, request, key)
	var why *call.Failure
	if err == nil || errors.As(err, &why) && why.Class == call.Refused {
		c.to.keep(callKey(c.name, request), answer, sent, why)
	}
	return answer, sent, err
}

func (r *Recording) keep(key string, answer *call.Answer, sent *call.Sent, why *call.Failure) {
	e := recorded{Sent: sent, Failure: why, Times: 1}
	if answer != nil {
		e.Status, e.Header, e.Body, e.File, e.Whole = answer.Status, answer.Header, answer.Body, answer.File, answer.Whole
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	list := r.answers[key]
	if n := len(list); n > 0 && same(list[n-1], e) {
		list[n-1].Times++
		return
	}
	if r.bytes+e.size() <= MostRecorded {
		r.answers[key], r.bytes = append(list, e), r.bytes+e.size()
	}
}

// size is about what an answer takes, in bytes.
func (e recorded) size() int { return len(e.Body) + 512 }

func same(a, b recorded) bool {
	return a.Status == b.Status && string(a.Body) == string(b.Body) && a.Failure == nil && b.Failure == nil && a.File == nil && b.File == nil
}

// callKey is what a call is known by: the connection, and everything of it that
// the other side can tell apart. Secrets are put in by the sender, so that none is
// in it.
func callKey(connection string, c *call.Call) string {
	sum := sha256.New()
	fmt.Fprintf(sum, "%q %q %v\n", connection, c.Answer, c.Free)
	for _, name := range slices.Sorted(maps.Keys(c.Header)) {
		fmt.Fprintf(sum, "%q %q\n", name, c.Header[name])
	}
	sum.Write(content(c))
	return fmt.Sprintf("%x", sum.Sum(nil))
}

type replay struct {
	Connections
	*Recording
	given  map[string]int // calls answered so far
	opened map[string]Connection
}

// Open implements Connections.
func (r *replay) Open(ctx context.Context, name string) (Connection, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if c, ok := r.opened[name]; ok {
		return c, nil
	}
	known, err := r.Connections.Open(ctx, name)
	if err != nil {
		return nil, err
	}
	a := known.Account()
	a.Secrets = a.Secrets.With(r.secrets[name]...)
	c := replayConnection{name, a, r}
	r.opened[name] = c
	return c, nil
}

type replayConnection struct {
	name    string
	account Account
	from    *replay
}

func (c replayConnection) Account() Account { return c.account }

// Hold implements Connection.
func (replayConnection) Hold(context.Context, time.Duration, string) error { return nil }

// Send implements call.Sender.
func (c replayConnection) Send(_ context.Context, request *call.Call, _ string) (*call.Answer, *call.Sent, error) {
	e, ok := c.from.next(callKey(c.name, request))
	if !ok {
		return nil, nil, &call.Parked{Reason: call.ReasonUnread, Connection: c.name, Message: "to be read: rehearse"}
	}
	if e.Failure != nil {
		why := *e.Failure
		why.Retryable, why.RetryAfter = false, 0 // nothing else would be answered
		return nil, e.Sent, &why
	}
	return &call.Answer{Status: e.Status, Header: e.Header, Body: e.Body, File: e.File, Whole: e.Whole}, e.Sent, nil
}

// next is the next answer to a call.
func (r *replay) next(key string) (recorded, bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	list := r.answers[key]
	if len(list) == 0 {
		return recorded{}, false
	}
	n := r.given[key]
	r.given[key]++
	for _, e := range list {
		if n -= e.Times; n < 0 {
			return e, true
		}
	}
	return list[len(list)-1], true
}

// replayed is the clock of a replay.
type replayed struct {
	mu  sync.Mutex
	now time.Time
}

func (c *replayed) Now() time.Time {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.now
}

func (c *replayed) Sleep(ctx context.Context, d time.Duration) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.now = c.now.Add(d)
	return ctx.Err()
}

// Beside takes up what an earlier recording holds and this one does not; nil is
// one that holds nothing.
func (r *Recording) Beside(before *Recording) {
	if before == nil {
		return
	}
	before.mu.Lock()
	defer before.mu.Unlock()
	r.mu.Lock()
	defer r.mu.Unlock()
	for name, values := range before.secrets {
		if r.secrets[name] == nil {
			r.secrets[name] = values
		}
	}
	for key, list := range before.answers {
		if r.answers[key] != nil {
			continue
		}
		n := 0
		for _, e := range list {
			n += e.size()
		}
		if r.bytes+n <= MostRecorded {
			r.answers[key], r.bytes = list, r.bytes+n
		}
	}
}

// stored is a recording as it is kept.
type stored struct {
	Started time.Time             `json:"started"`
	Answers map[string][]recorded `json:"answers"`
	Secrets map[string][]string   `json:"secrets"`
}

// Encode writes a recording. It holds secrets: whoever keeps it seals it.
func (r *Recording) Encode() ([]byte, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	return json.Marshal(stored{r.Started, r.answers, r.secrets})
}

// ReadRecording reads what Encode wrote.
func ReadRecording(b []byte) (*Recording, error) {
	var s stored
	if err := json.Unmarshal(b, &s); err != nil {
		return nil, err
	}
	r := NewRecording(s.Started)
	maps.Copy(r.answers, s.Answers)
	for _, list := range s.Answers {
		for _, e := range list {
			r.bytes += e.size()
		}
	}
	maps.Copy(r.secrets, s.Secrets)
	return r, nil
}
