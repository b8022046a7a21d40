package engine

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/connector"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/workflow"
)

const laboratory = `format: young-trellis-connector/1
name: lab
title: Lab
version: 1
base: https://lab.example
sign_in: [{method: none, title: Open}]
check: {request: {method: GET, path: /me}, says: lab}
failure: {message: (= response.message )}
actions:
  test:
    title: Test
    sentence: Test {glaze}
    effect: write
    repeat: keyed
    fields: {type: object, properties: {glaze: {type: string}}}
    request: {method: POST, path: /tests, json: {glaze: (= input.glaze ), callback: (= input.callback )}}
    job:
      check: {method: GET, path: /tests/(= submitted.test )}
      every: EVERY
      deadline: 1h
      done: response.state == "passed"
      failed: response.state == "failed"
      reason: (= response.reason )
      callback: callback
    summary: (= output.state )
    sample: {state: passed}
`

// bench is a laboratory whose tests take a number of looks, and a clock that
// moves only when somebody waits.
type bench struct {
	mu       sync.Mutex
	now      time.Time
	takes    map[string]time.Duration // by glaze
	begun    map[string]time.Time
	byKey    map[string]string
	submits  int
	looks    int
	slept    time.Duration
	callback string
}

func newBench() *bench {
	return &bench{now: time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC), takes: map[string]time.Duration{}, begun: map[string]time.Time{}, byKey: map[string]string{}}
}

func (b *bench) Now() time.Time { b.mu.Lock(); defer b.mu.Unlock(); return b.now }

func (b *bench) Sleep(_ context.Context, d time.Duration) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.now, b.slept = b.now.Add(d), b.slept+d
	return nil
}

func (b *bench) Sign(context.Context, string, string) ([]byte, error) { return nil, nil }
func (b *bench) Open(context.Context, string) (Connection, error)     { return b, nil }
func (b *bench) Account() Account                                     { return Account{Parameters: map[string]any{}} }
func (b *bench) Hold(context.Context, time.Duration, string) error    { return nil }

func (b *bench) Callback(_ context.Context, step uint16, _ item.Rounds, a item.Address) (string, error) {
	return fmt.Sprintf("https://trellis.example/callbacks/%d-%s", step, a), nil
}

func (b *bench) Send(_ context.Context, c *call.Call, key string) (*call.Answer, *call.Sent, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	json200 := func(v any) (*call.Answer, *call.Sent, error) {
		body, _ := json.Marshal(v)
		return &call.Answer{Status: 200, Header: http.Header{"Content-Type": {"application/json"}}, Body: body}, c.Show(nil), nil
	}
	if c.Method == "POST" {
		var in struct{ Glaze, Callback string }
		_ = json.Unmarshal(c.Body, &in)
		b.callback = in.Callback
		if known, ok := b.byKey[key]; ok {
			return json200(map[string]any{"test": known})
		}
		b.submits++
		b.byKey[key], b.begun[in.Glaze] = in.Glaze, b.now
		return json200(map[string]any{"test": in.Glaze})
	}
	b.looks++
	glaze := c.URL.Path[strings.LastIndex(c.URL.Path, "/")+1:]
	switch {
	case b.now.Sub(b.begun[glaze]) < b.takes[glaze]:
		return json200(map[string]any{"state": "running"})
	case strings.HasPrefix(glaze, "bad"):
		return json200(map[string]any{"state": "failed", "reason": glaze + " releases lead"})
	}
	return json200(map[string]any{"state": "passed", "test": glaze})
}

func tests(t *testing.T, every string) *workflow.Plan {
	c, err := connector.Parse([]byte(strings.Replace(laboratory, "EVERY", every, 1)))
	require.NoError(t, err)
	catalog := &workflow.Catalog{Connectors: map[string]*connector.Connector{"lab": c}, Connections: []workflow.Connection{{Name: "lab", Connector: "lab", State: "ok"}}}
	text := "format: young-trellis/1\nname: test\ntrigger: {type: manual}\nsteps:\n  - {name: tested, type: lab.test, connection: lab, input: {glaze: (= item.glaze )}, on_error: set_aside}\n  - {name: noted, type: shape, settings: {set: {said: (= item.state )}}}\n"
	w, problems := workflow.Check([]byte(text), catalog)
	require.Empty(t, problems)
	p, err := workflow.Compile(w, catalog)
	require.NoError(t, err)
	return p
}

func glazes(names ...string) []map[string]any {
	var out []map[string]any
	for _, n := range names {
		out = append(out, map[string]any{"glaze": n})
	}
	return out
}

func jobRun(p *workflow.Plan, m *Memory, b *bench) *Run {
	return &Run{Spec: Spec{Facts: workflow.RunFacts{ID: "7d444840-9dc0-4c3e-8f2d-1b1f0a1c2d3e", Started: b.Now(), Workflow: "test"}, Passes: []Pass{{Number: 1, Plan: p}}}, World: World{Source: MemorySource{Memory: m}, Journal: MemoryJournal{Memory: m}, Connections: b, Callbacks: b, Clock: b, Lattice: m}}
}

// Items go on in the order in which their tests are done; one that failed is
// set aside with the reason.
func TestJobsGoOnAsTheyAreDone(t *testing.T) {
	t.Parallel()
	b := newBench()
	b.takes = map[string]time.Duration{"slow": 20 * time.Second, "quick": 2 * time.Second, "bad": 9 * time.Second}
	m := &Memory{Items: glazes("slow", "quick", "bad")}
	res, err := jobRun(tests(t, "1s"), m, b).Execute(context.Background(), nil)
	require.NoError(t, err)
	require.Equal(t, Partial, res.State)
	require.Equal(t, 3, b.submits)
	var ends []string
	for _, r := range m.Seen {
		ends = append(ends, fmt.Sprintf("%s %s", r.Item.First().Fields["glaze"], r.Cells[0].Text))
	}
	require.Equal(t, []string{"quick passed", "bad bad releases lead", "slow passed"}, ends)
	require.Less(t, b.slept, 40*time.Second)
	require.Regexp(t, "^https://trellis.example/callbacks/1-[012]$", b.callback)
}

// A job that takes hours occupies nobody: the run parks, and when it wakes it
// looks again without beginning anything twice.
func TestALongJobParksTheRun(t *testing.T) {
	t.Parallel()
	b := newBench()
	b.takes = map[string]time.Duration{"a": 30 * time.Minute, "b": 10 * time.Minute}
	m := &Memory{Items: glazes("a", "b")}
	p := tests(t, "1m")
	parks := 0
	for {
		res, err := jobRun(p, m, b).Execute(context.Background(), nil)
		require.NoError(t, err)
		if res.Parked == nil {
			require.Equal(t, Succeeded, res.State)
			break
		}
		require.Equal(t, call.ReasonJob, res.Parked.Reason)
		require.True(t, res.Parked.Until.After(b.Now()))
		parks++
		require.Less(t, parks, 40)
		b.mu.Lock()
		b.now = res.Parked.Until
		b.mu.Unlock()
		m.Seen = nil
	}
	require.Equal(t, 2, b.submits, "nothing was begun twice")
	require.Zero(t, b.slept, "no worker waited")
	require.Less(t, b.looks, 40, "it is looked at less and less often")
	require.Len(t, m.Seen, 2)
}

func TestAJobThatNeverEndsFailsInWords(t *testing.T) {
	t.Parallel()
	b := newBench()
	b.takes = map[string]time.Duration{"a": 1000 * time.Hour}
	m := &Memory{Items: glazes("a")}
	p := tests(t, "5m")
	for range 100 {
		res, err := jobRun(p, m, b).Execute(context.Background(), nil)
		require.NoError(t, err)
		if res.Parked == nil {
			require.Equal(t, Partial, res.State)
			require.Contains(t, m.Seen[0].Cells[0].Text, "had not finished after 1h")
			return
		}
		b.now = res.Parked.Until
		m.Seen = nil
	}
	require.Fail(t, "it was followed for ever")
}

func TestARehearsedJobIsAnsweredAtOnce(t *testing.T) {
	t.Parallel()
	b := newBench()
	m := &Memory{Items: glazes("a", "b")}
	r := jobRun(tests(t, "1m"), m, b)
	r.Rehearse = true
	res, err := r.Execute(context.Background(), nil)
	require.NoError(t, err)
	require.Equal(t, Succeeded, res.State)
	require.Zero(t, b.submits)
	require.Equal(t, Prepared, m.Seen[0].Cells[0].Fate)
}
