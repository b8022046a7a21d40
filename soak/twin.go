package main

import (
	"bytes"
	"context"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"time"

	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/engine"
	"youngtrellis/internal/core/engine/enginetest"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/workflow"
)

// keyed writes twice for every item to a side that knows repeats; once writes to
// one that does not. Some items are held back, and some are refused for good.
func documents(side string) map[string]string {
	retry := "on_error: set_aside, retry: {attempts: 20, first: 50ms, factor: 1.5, max: 1s}"
	order := `json: {id: "(= item.id )", bad: "(= item.bad )"}`
	return map[string]string{
		"keyed": `format: young-trellis/1
name: keyed
label: trigger.event
trigger: {type: webhook, settings: {verify: none, ` + itsKey + `}}
steps:
  - {name: some, type: filter, settings: {where: item.n % 4 != 3}}
  - {name: look, type: http, parallel: 4, ` + retry + `, output: under looked, settings: {method: GET, url: "` + side + `/look?id=(= item.id )"}}
  - {name: first, type: http, parallel: 4, ` + retry + `, output: keep, settings: {method: POST, url: "` + side + `/keyed/first", repeat: keyed, ` + order + `}}
  - {name: second, type: http, parallel: 8, ` + retry + `, output: under told, settings: {method: POST, url: "` + side + `/keyed/second", repeat: keyed, ` + order + `}}
`,
		"once": `format: young-trellis/1
name: once
label: trigger.event
trigger: {type: webhook, settings: {verify: none, ` + itsKey + `}}
steps:
  - {name: poke, type: http, parallel: 2, ` + retry + `, output: keep, settings: {method: POST, url: "` + side + `/once/poke", ` + order + `}}
  - {name: after, type: http, ` + retry + `, output: under told, settings: {method: POST, url: "` + side + `/keyed/after", repeat: keyed, ` + order + `}}
`,
	}
}

// itsKey is the key of every item: those of one event run together.
const itsKey = `key: 'item.event + " " + text(item.n)'`

// writes are the steps that have effects, and where.
var writes = map[string]map[string]string{
	"keyed": {"first": "/keyed/first", "second": "/keyed/second"},
	"once":  {"poke": "/once/poke", "after": "/keyed/after"},
}

// event is what a caller tells: some items, of one of the two workflows.
type event struct {
	name     string
	workflow string
	items    int
	due      time.Time // until when some of its items wait; others wait longer
}

// dues are until when the items of an event wait, by turns.
func (e event) dues() []any {
	out := make([]any, 0, 3)
	for _, d := range []time.Duration{0, time.Second, 3 * time.Second} {
		out = append(out, e.due.Add(d).UTC().Format(time.RFC3339))
	}
	return out
}

// nth is the event of that number; a few are so long that they take several chunks.
func nth(n, trees int, due time.Time) event {
	e := event{name: "e" + strconv.Itoa(n), workflow: "keyed", items: 1 + n%9, due: due}
	if n%3 == 2 {
		e.workflow = "once"
	}
	if n%2 == 1 && trees > 0 {
		e.workflow = fmt.Sprintf("tree-%d", n/2%trees)
	}
	if n%60 == 30 {
		e.items = 150
	}
	return e
}

func (e event) fields() []map[string]any {
	out := make([]map[string]any, e.items)
	for i := range out {
		out[i] = map[string]any{"event": e.name, "id": e.name + "-" + strconv.Itoa(i), "n": int64(i), "bad": (len(e.name)+i)%13 == 12}
		if strings.HasPrefix(e.workflow, "tree") {
			out[i] = map[string]any{"event": e.name, "n": int64(i), "due": e.dues()}
		}
	}
	return out
}

func (e event) body() []byte {
	list := make([]any, 0, e.items)
	for _, f := range e.fields() {
		list = append(list, f)
	}
	b, err := item.Encode(list)
	if err != nil {
		panic(err)
	}
	return b
}

// cell is what is compared of a cell.
type cell struct{ Fate, Text string }

// newCell leaves out when an item went on that waited.
func newCell(fate, text string) cell {
	if before, _, ok := strings.Cut(text, " until "); ok && before == "waited" {
		text = before
	}
	return cell{fate, text}
}

// outcome is how a run ended, and how each of its items did, by address.
type outcome struct {
	State string
	Rows  map[string][]cell
	Done  map[string]int // what happened at the other side, and how often
}

// twin carries an event out in memory, without faults.
func twin(ctx context.Context, e event, document string) (*outcome, error) {
	w, _, problems := workflow.Read([]byte(document))
	if workflow.HasErrors(problems) {
		return nil, fmt.Errorf("the workflow %s: %v", e.workflow, problems)
	}
	plan, err := workflow.Compile(w, &workflow.Catalog{})
	if err != nil {
		return nil, err
	}
	m := &engine.Memory{Items: e.fields()}
	out := &outcome{Rows: map[string][]cell{}, Done: map[string]int{}}
	c := enginetest.NewClock(e.due.Add(-time.Minute))
	side := &calm{done: out.Done}
	run := &engine.Run{Spec: engine.Spec{Facts: workflow.RunFacts{Started: c.Now()}, Passes: []engine.Pass{{Number: 1, Plan: plan}}}, World: engine.World{Source: engine.MemorySource{Memory: m}, Journal: engine.MemoryJournal{Memory: m}, Connections: side, Clock: c, Lattice: m}}
	for {
		m.Seen = nil
		res, err := run.Execute(ctx, &engine.Stop{})
		if err != nil {
			return nil, err
		}
		if res.Parked == nil {
			out.State = string(res.State)
			break
		}
		c.Set(res.Parked.Until)
	}
	for _, r := range m.Seen {
		for _, step := range plan.Steps {
			c := r.Cell(step.Number)
			out.Rows[r.Address.String()] = append(out.Rows[r.Address.String()], newCell(string(c.Fate), c.Text))
		}
	}
	return out, nil
}

// calm is the outside as it is without faults.
type calm struct {
	mu   sync.Mutex
	done map[string]int
}

func (s *calm) Sign(context.Context, string, string) ([]byte, error)    { return nil, nil }
func (s *calm) Open(context.Context, string) (engine.Connection, error) { return s, nil }
func (s *calm) Account() engine.Account                                 { return engine.Account{} }
func (s *calm) Hold(context.Context, time.Duration, string) error       { return nil }
func (s *calm) Send(_ context.Context, c *call.Call, _ string) (*call.Answer, *call.Sent, error) {
	answer := says(c.URL, bytes.Clone(c.Body))
	sent := c.Show(nil)
	if sent.Status = answer.Status; answer.Status == http.StatusOK && c.Method == http.MethodPost {
		s.mu.Lock()
		s.done[named(c.URL.Path, c.Body)]++
		s.mu.Unlock()
	}
	return &call.Answer{Status: answer.Status, Header: http.Header{"Content-Type": {"application/json"}}, Body: []byte(answer.Body)}, sent, nil
}
