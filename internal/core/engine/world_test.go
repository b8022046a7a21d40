package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/stretchr/testify/require"

	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/connector"
	"youngtrellis/internal/core/engine/enginetest"
	"youngtrellis/internal/core/workflow"
)

const kilnHall = `
format: young-trellis-connector/1
name: hall
title: The hall
version: 1
base: https://hall.example
sign_in: [{method: bearer, title: Token, secret: Token}]
check: {request: {method: GET, path: /me}, says: (= output.name )}
failure: {message: (= response.error )}
actions:
  pieces:
    title: Read pieces
    sentence: Read pieces
    effect: read
    fields: {type: object, properties: {n: {type: integer}, pages: {type: integer}}}
    request: {method: GET, path: /pieces, query: {n: (= input.n ), pages: (= input.pages )}}
    each: response.items
    paging: {cursor: response.next, query: cursor}
    sample: [{n: 1}]
  send:
    title: Send
    sentence: Send {n}
    effect: write
    repeat: keyed
    units: 1
    fields: {type: object, required: [n], properties: {n: {type: integer}}}
    request: {method: POST, path: /send, json: {n: (= input.n )}}
    summary: sent (= output.n )
    sample: {n: 0}
  poke:
    title: Poke
    sentence: Poke {n}
    effect: write
    repeat: unsafe
    fields: {type: object, required: [n], properties: {n: {type: integer}}}
    request: {method: POST, path: /poke, json: {n: (= input.n )}}
    sample: {n: 0}
`

func catalog(t require.TestingT) *workflow.Catalog {
	c, err := connector.Parse([]byte(kilnHall))
	require.NoError(t, err)
	return &workflow.Catalog{Connectors: map[string]*connector.Connector{"hall": c}, Connections: []workflow.Connection{{Name: "hall", Connector: "hall", State: "ok"}}, Lists: []workflow.List{{Name: "duty", Columns: []string{"short", "phone"}}}}
}

func plan(t require.TestingT, steps string) *workflow.Plan {
	text := "format: young-trellis/1\nname: test\ntrigger: {type: manual}\nsteps:\n" + steps
	if strings.Contains(steps, "type: answer") { // somebody waits for it
		text = strings.Replace(text, "{type: manual}", "{type: webhook}", 1)
	}
	w, problems := workflow.Check([]byte(text), catalog(t))
	require.Empty(t, problems, text)
	p, err := workflow.Compile(w, catalog(t))
	require.NoError(t, err)
	return p
}

// after gives a plan the lasting numbers that it has after another.
func after(t require.TestingT, before, next *workflow.Plan) *workflow.Plan {
	known := map[string]uint16{}
	for _, s := range before.Steps {
		known[s.Name] = s.Number
	}
	p, err := next.Numbered(next.Workflow.Numbers(known))
	require.NoError(t, err)
	return p
}

// world is the other side: it counts what took effect, by Idempotency-Key.
type world struct {
	mu      sync.Mutex
	done    map[string]string // key to what it did
	order   []string
	faults  func(n int, path string) error // before the effect
	cuts    func(n int) bool               // after the effect, before the answer
	calls   int
	twice   int                                      // calls that had their effect before
	refuses map[string]string                        // body to message
	steady  func(body string) (steady, refuses bool) // calls that no fault befalls, and those among them that are refused
	delay   time.Duration
	secrets *call.Secrets

	keys, second []string // Idempotency-Keys as they arrived
	opening      func() error
	held         func(time.Duration) error
	meet         func(body string) error         // of calls in flight at once
	parallel     bool                            // calls do not wait for one another
	block        func(ctx context.Context) error // instead of an answer
	malformed    bool                            // answers cannot be read
	listed       func(n int) map[string]any      // an item of a list
	says         func(c *call.Call) string       // instead of the body itself
}

func newWorld() *world { return &world{done: map[string]string{}, refuses: map[string]string{}} }

func (w *world) Open(context.Context, string) (Connection, error) {
	if w.opening != nil {
		if err := w.opening(); err != nil {
			return nil, err
		}
	}
	return w, nil
}

// Sign implements Connections.
func (w *world) Sign(_ context.Context, name, text string) ([]byte, error) {
	if w.opening != nil {
		if err := w.opening(); err != nil {
			return nil, err
		}
	}
	return []byte(name + text), nil
}

func (w *world) Account() Account { return Account{Parameters: map[string]any{}, Secrets: w.secrets} }

func (w *world) Hold(_ context.Context, d time.Duration, _ string) error {
	if w.held != nil {
		return w.held(d)
	}
	return nil
}

func (w *world) Send(ctx context.Context, c *call.Call, key string) (*call.Answer, *call.Sent, error) {
	if w.delay > 0 {
		time.Sleep(w.delay)
	}
	if w.meet != nil {
		if err := w.meet(string(c.Body)); err != nil {
			return nil, c.Show(w.secrets), err
		}
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	w.calls++
	if w.block != nil {
		return nil, c.Show(w.secrets), w.block(ctx)
	}
	w.keys = append(w.keys, key)
	if ctx.Err() != nil {
		return nil, nil, context.Cause(ctx)
	}
	steady, refuses := false, false
	if w.steady != nil {
		if steady, refuses = w.steady(string(c.Body)); refuses {
			return answer(422, `{"error": "never"}`), c.Show(w.secrets), nil
		}
	}
	if w.faults != nil && !steady {
		if err := w.faults(w.calls, c.URL.Path); err != nil {
			return nil, c.Show(w.secrets), err
		}
	}
	if c.URL.Path == "/pieces" {
		return w.pieces(c), c.Show(w.secrets), nil
	}
	if m := w.refuses[string(c.Body)]; m != "" {
		return answer(422, `{"error": "`+m+`"}`), c.Show(w.secrets), nil
	}
	id := c.URL.Path + " " + key
	if c.URL.Path == "/poke" {
		id = c.URL.Path + " " + strconv.Itoa(w.calls)
	}
	if _, ok := w.done[id]; !ok {
		w.done[id] = string(c.Body)
		w.order = append(w.order, string(c.Body))
	} else {
		w.twice++
	}
	if w.cuts != nil && !steady && w.cuts(w.calls) {
		return nil, c.Show(w.secrets), &call.Failure{Class: call.InDoubt, Message: "the connection was cut"}
	}
	switch {
	case w.malformed:
		return answer(200, `{"n": `), c.Show(w.secrets), nil
	case w.says != nil:
		return answer(200, w.says(c)), c.Show(w.secrets), nil
	}
	return answer(200, string(c.Body)), c.Show(w.secrets), nil
}

func (w *world) pieces(c *call.Call) *call.Answer {
	q := c.URL.Query()
	n, _ := strconv.Atoi(q.Get("n"))
	pages, _ := strconv.Atoi(q.Get("pages"))
	at, _ := strconv.Atoi(q.Get("cursor"))
	items := []map[string]any{}
	for i := range n {
		if w.listed != nil {
			items = append(items, w.listed(at*n+i))
			continue
		}
		items = append(items, map[string]any{"n": at*n + i})
	}
	out := map[string]any{"items": items}
	if at+1 < pages {
		out["next"] = strconv.Itoa(at + 1)
	}
	b, _ := json.Marshal(out)
	return answer(200, string(b))
}

func answer(status int, body string) *call.Answer {
	return &call.Answer{Status: status, Header: http.Header{"Content-Type": {"application/json"}}, Body: []byte(body)}
}

var errCrash = errors.New("crashed")

// crashing is a journal that dies at its n-th append, before or after the
// entry became durable.
type crashing struct {
	MemoryJournal
	left  *int
	after bool
	mu    *sync.Mutex
}

func (c crashing) Append(ctx context.Context, e *Entry, writes ...Write) (*Entry, error) {
	c.mu.Lock()
	*c.left--
	dead, now := *c.left < 0, *c.left == -1
	c.mu.Unlock()
	if dead && (!c.after || !now) {
		return nil, errCrash
	}
	if stands, err := c.MemoryJournal.Append(ctx, e, writes...); err != nil || !dead {
		return stands, err
	}
	return nil, errCrash
}

func newRun(items []map[string]any, w *world, passes ...Pass) (*Run, *Memory) {
	m := &Memory{Items: items}
	return &Run{Spec: Spec{Facts: workflow.RunFacts{ID: "r1", Started: time.Unix(1_800_000_000, 0).UTC()}, Passes: passes}, World: World{Source: MemorySource{m}, Journal: MemoryJournal{m}, Connections: w, Clock: enginetest.Ticking(time.Unix(1_800_000_000, 0)), Lattice: m}}, m
}

func numberedItems(n int) []map[string]any {
	out := make([]map[string]any, n)
	for i := range out {
		out[i] = map[string]any{"n": int64(i)}
	}
	return out
}

func picture(rows []Row) string {
	var s strings.Builder
	for _, r := range rows {
		fmt.Fprintf(&s, "%s", r.Address)
		for _, c := range r.Cells {
			fmt.Fprintf(&s, " %s(%s)", c.Fate, c.Text)
		}
		s.WriteByte('\n')
	}
	return s.String()
}
