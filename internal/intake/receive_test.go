package intake

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"testing/iotest"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"youngtrellis/internal/core/engine"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/lists"
	"youngtrellis/internal/core/payload"
	"youngtrellis/internal/core/proof"
	"youngtrellis/internal/core/triggers"
	"youngtrellis/internal/core/workflow"
	"youngtrellis/internal/store"
)

const secret = "yth_of-the-tests"

// door is everything around an intake, in memory.
type door struct {
	*Intake
	mu       sync.Mutex
	hook     store.Hook
	asked    int // after hooks
	drafts   map[string]string
	plan     *workflow.Plan
	samples  []string
	noted    []store.Delivery
	started  []*store.Start
	keys     map[string]uuid.UUID
	hookErr  error
	planErr  error
	startErr error
	waiting  int // in the queue
	counted  int // how often
	countErr error
	knownErr error

	sampleErr error
	used      []uuid.UUID // secrets that calls were proven by
	// meanwhile takes keys while a start is on its way.
	meanwhile func(keys map[string]uuid.UUID)

	schedules []store.Scheduled
	table     *lists.Table // the one list of the workspace
	kept      []string     // events of a paused workflow
	keptBy    []string     // their keys
	filled    int          // forms today
	placed    map[string]store.Placed
	answer    *store.Answered // of every run; nil: it takes longer than anybody waits
	keepErr   error
}

var address = strings.Repeat("a", 22)

func newDoor(t *testing.T, trigger map[string]any) *door {
	t.Helper()
	plan, err := workflow.Compile(&workflow.Workflow{Name: "calls", Label: "trigger.caller", Trigger: workflow.Trigger{Type: "webhook", Settings: trigger}}, &workflow.Catalog{})
	require.NoError(t, err)
	one := 1
	d := &door{hook: store.Hook{Workspace: uuid.New(), Workflow: uuid.New(), Address: address, Name: "calls", State: "live", Live: &one, Secrets: []store.HookSecret{{ID: uuid.New(), Sealed: []byte("sealed " + secret)}}}, plan: plan, drafts: map[string]string{}, keys: map[string]uuid.UUID{}}
	d.Intake = New(d, d, d, d)
	return d
}

// Schedules implements Store.
func (d *door) Schedules(context.Context, store.Scope, uuid.UUID) ([]store.Scheduled, time.Time, error) {
	return d.schedules, time.Date(2026, 11, 27, 12, 0, 0, 0, time.UTC), nil
}

// Unseal implements Vault.
func (d *door) Unseal(_ context.Context, _ uuid.UUID, table, column string, _ uuid.UUID, sealed []byte) ([]byte, error) {
	text, ok := strings.CutPrefix(string(sealed), "sealed ")
	if !ok || table != "hook_secret" || column != "secret" {
		return nil, errors.New("it cannot be opened")
	}
	return []byte(text), nil
}

// HookSecretUsed implements Store.
func (d *door) HookSecretUsed(_ context.Context, _ store.Hook, id uuid.UUID) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.used = append(d.used, id)
	return nil
}

// KnownKeys implements Store.
func (d *door) KnownKeys(_ context.Context, _, _ uuid.UUID, keys []string) (map[string]uuid.UUID, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	out := map[string]uuid.UUID{}
	for _, key := range keys {
		if run, ok := d.keys[key]; ok {
			out[key] = run
		}
	}
	return out, d.knownErr
}

// KeepEvent implements Store.
func (d *door) KeepEvent(_ context.Context, _ store.Hook, items []byte, keys ...string) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.keepErr != nil {
		return d.keepErr
	}
	if len(keys) > 0 && slices.Contains(d.keptBy, keys[len(keys)-1]) {
		return nil
	}
	d.kept, d.keptBy = append(d.kept, string(items)), append(d.keptBy, keys...)
	return nil
}

// Filled implements Store.
func (d *door) Filled(context.Context, store.Hook) (int, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.filled++
	return d.filled, nil
}

// PlaceAnswer implements Store.
func (d *door) PlaceAnswer(_ context.Context, p store.Placed, token string) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.placed == nil {
		d.placed = map[string]store.Placed{}
	}
	p.Hook = d.hook.Address
	d.placed[token] = p
	return nil
}

// AnswerPlaced implements Store.
func (d *door) AnswerPlaced(_ context.Context, token string) (store.Placed, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	p, ok := d.placed[token]
	if !ok {
		return p, store.ErrNotFound
	}
	return p, nil
}

// Answer implements Node.
func (d *door) Answer(ctx context.Context, _, run uuid.UUID) store.Answered {
	if d.answer == nil {
		<-ctx.Done()
		return store.Answered{Run: run, State: engine.Running}
	}
	out := *d.answer
	out.Run = run
	return out
}

// Code implements Vault.
func (d *door) Code(_ context.Context, workspace uuid.UUID, purpose string, text []byte) ([]byte, error) {
	sum := sha256.Sum256([]byte(workspace.String() + purpose + "\x00" + string(text)))
	return sum[:], nil
}

func (d *door) CurrentList(context.Context, uuid.UUID, string, int) (store.List, *lists.Table, error) {
	if d.table == nil {
		return store.List{}, nil, store.ErrNotFound
	}
	return store.List{Version: 7}, d.table, nil
}

func (d *door) Queued(_ context.Context, _ uuid.UUID, most int) (int, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.counted++
	return min(d.waiting, most), d.countErr
}

func (d *door) HookByAddress(_ context.Context, a string) (store.Hook, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.asked++
	if d.hookErr != nil {
		return store.Hook{}, d.hookErr
	}
	if a != address {
		return store.Hook{}, store.ErrNotFound
	}
	return d.hook, nil
}

func (d *door) HookScope(h store.Hook) store.Scope { return (&store.Store{}).HookScope(h) }

func (d *door) Workflow(_ context.Context, _ store.Scope, name string) (store.Workflow, error) {
	return store.Workflow{Name: name, Draft: d.drafts[name]}, nil
}

func (d *door) AddSample(_ context.Context, _ store.Scope, _ uuid.UUID, fields, _ string, taken bool) (store.Sample, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.hook.Taking = d.hook.Taking && !taken
	if d.sampleErr == nil {
		d.samples = append(d.samples, fields)
	}
	return store.Sample{}, d.sampleErr
}

func (d *door) AddDelivery(_ context.Context, _ store.Scope, _ uuid.UUID, n store.Delivery) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.noted = append(d.noted, n)
	return errors.New("nobody minds that it was not recorded")
}

func (d *door) Plan(context.Context, uuid.UUID, uuid.UUID, int) (*workflow.Plan, error) {
	return d.plan, d.planErr
}

func (d *door) Accept(_ context.Context, s *store.Start) (store.Started, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.startErr != nil {
		return store.Started{}, d.startErr
	}
	if run, ok := d.keys[s.Key]; ok && s.Key != "" {
		return store.Started{Run: run, Duplicate: true}, nil
	}
	if d.meanwhile != nil { // somebody else comes first
		d.meanwhile(d.keys)
		d.meanwhile = nil
	}
	for _, key := range s.Keys {
		if _, taken := d.keys[key]; taken {
			return store.Started{Run: s.Run, Duplicate: true, Conflict: true}, nil
		}
	}
	for _, key := range append(s.Keys, s.Key) {
		d.keys[key] = s.Run
	}
	d.started = append(d.started, s)
	return store.Started{Run: s.Run, Claimed: true}, nil
}

func (d *door) AcceptAll(ctx context.Context, list []*store.Start) (out []store.Started, err error) {
	for _, s := range list {
		one, err := d.Accept(ctx, s)
		if err != nil {
			return nil, err
		}
		out = append(out, one)
	}
	return out, nil
}

func proven(more ...string) http.Header {
	h := http.Header{"Authorization": {"Bearer " + secret}, "Content-Type": {"application/json"}}
	for i := 0; i < len(more); i += 2 {
		h.Set(more[i], more[i+1])
	}
	return h
}

func (d *door) receive(h http.Header, body string) (Received, error) {
	return d.Receive(context.Background(), Call{Address: address, Method: http.MethodPost, From: "203.0.113.7", Header: h, Body: strings.NewReader(body), Length: int64(len(body))})
}

// refusal is the status and the words of a refusal.
func refusal(t *testing.T, err error) (int, string) {
	t.Helper()
	var r *Refused
	require.ErrorAs(t, err, &r)
	return r.Status, r.Error()
}

func TestADeliveryStartsARun(t *testing.T) {
	t.Parallel()
	d := newDoor(t, nil)
	got, err := d.receive(proven(), `[{"caller": "Studio 7", "n": 1}, {"caller": "Studio 8", "n": 2}]`)
	require.NoError(t, err)
	require.Len(t, d.started, 1)
	s := d.started[0]
	require.Equal(t, Received{Run: s.Run, Runs: 1}, got)
	require.Equal(t, d.hook.Workspace, s.Workspace)
	require.Equal(t, d.hook.Workflow, s.Workflow)
	require.Equal(t, 1, s.Revision)
	require.Equal(t, "webhook", s.Trigger)
	require.Equal(t, "Studio 7", s.Label)
	require.Equal(t, `[{"caller":"Studio 7","n":1},{"caller":"Studio 8","n":2}]`, string(s.Items[0]))
	require.Empty(t, d.noted, "what went well needs no note")
	require.Equal(t, 1, d.asked)
	_, err = d.receive(proven(), `{}`)
	require.NoError(t, err)
	require.Equal(t, 1, d.asked, "a hook is remembered for a moment")
	d.Forget(address)
	_, err = d.receive(proven(), `{}`)
	require.NoError(t, err)
	require.Equal(t, 2, d.asked)
}

// An unknown address and a bad proof get the same answer; only the owner is
// told which it was.
func TestNobodyLearnsWhichAddressesThereAre(t *testing.T) {
	t.Parallel()
	d := newDoor(t, nil)
	var said []string
	for _, c := range []struct {
		address string
		header  http.Header
	}{{"short", proven()}, {strings.Repeat("b", 22), proven()}, {address, http.Header{}}, {address, proven("Authorization", "Bearer yth_wrong")}, {address, proven("Authorization", secret)}} {
		_, err := d.Receive(context.Background(), Call{Address: c.address, Method: http.MethodPost, Header: c.header, Body: strings.NewReader(`{"a": "` + strings.Repeat("ä", 3000) + `"}`), Length: 6009})
		status, text := refusal(t, err)
		require.Equal(t, http.StatusNotFound, status)
		said = append(said, text)
	}
	for _, text := range said[1:] {
		require.Equal(t, said[0], text)
	}
	require.Len(t, d.noted, 3)
	for _, n := range d.noted {
		require.Equal(t, "refused", n.Verdict)
		require.NotContains(t, n.Excerpt, secret)
		require.LessOrEqual(t, len([]rune(n.Excerpt)), excerptBytes)
		require.Greater(t, n.Bytes, excerptBytes)
	}
	require.Empty(t, d.started)
}

func TestAHookWithoutProofNeedsNone(t *testing.T) {
	t.Parallel()
	d := newDoor(t, map[string]any{"verify": "none"})
	_, err := d.receive(http.Header{"Content-Type": {"text/plain"}}, "hello")
	require.NoError(t, err)
	require.Equal(t, `[{"body":"hello"}]`, string(d.started[0].Items[0]))
}

func TestWhatCannotBeReadIsRefusedAndNoted(t *testing.T) {
	t.Parallel()
	d := newDoor(t, nil)
	_, err := d.receive(proven(), `{"a": `)
	status, text := refusal(t, err)
	require.Equal(t, http.StatusBadRequest, status)
	require.Contains(t, text, "ends in the middle")
	require.Equal(t, text, d.noted[0].Reason)
	_, err = d.receive(proven(), "{\"a\": \"\x00\"}")
	status, _ = refusal(t, err)
	require.Equal(t, http.StatusBadRequest, status)
	require.NotContains(t, d.noted[1].Excerpt, "\x00", "the note itself can be stored")
	require.Empty(t, d.started)
}

// The same key starts one run; the repeat is told which.
func TestARepeatIsToldTheRunOfTheFirst(t *testing.T) {
	t.Parallel()
	d := newDoor(t, map[string]any{"key": "item.call_id"})
	first, err := d.receive(proven(), `{"call_id": 17}`)
	require.NoError(t, err)
	again, err := d.receive(proven(), `{"call_id": 17}`)
	require.NoError(t, err)
	require.Equal(t, Received{Run: first.Run, Known: 1, Duplicate: true}, again)
	require.Equal(t, "duplicate", d.noted[0].Verdict)
	require.Equal(t, first.Run, *d.noted[0].Run)
	_, err = d.receive(proven(), `{"call_id": "`+strings.Repeat("x", 501)+`"}`)
	status, text := refusal(t, err)
	require.Equal(t, http.StatusUnprocessableEntity, status)
	require.Contains(t, text, "longer than 500")
	require.Len(t, d.started, 1)
}

func TestAWorkflowThatIsNotLiveStartsNothing(t *testing.T) {
	t.Parallel()
	d := newDoor(t, nil)
	d.hook.Live, d.hook.State = nil, "draft"
	d.drafts["calls"] = "format: young-trellis/1\nname: calls\ntrigger: {type: webhook, settings: {verify: none}}\nsteps: []\n"
	_, err := d.receive(http.Header{}, "")
	status, text := refusal(t, err)
	require.Equal(t, http.StatusConflict, status)
	require.Contains(t, text, "not live")
	d.drafts["calls"] = "\t: no document"
	_, err = d.receive(http.Header{}, "")
	status, _ = refusal(t, err)
	require.Equal(t, http.StatusNotFound, status, "a draft that cannot be read asks for the proof")
	require.Empty(t, d.started)
}

// While somebody waits for a sample, the next delivery becomes one; its run starts as
// well, and where the workflow is not live nothing does.
func TestTheNextDeliveryBecomesASample(t *testing.T) {
	t.Parallel()
	d := newDoor(t, nil)
	d.hook.Taking = true
	got, err := d.receive(proven(), `[{"b": 2, "a": 1}, {"c": 3}]`)
	require.NoError(t, err)
	require.Equal(t, Received{Run: d.started[0].Run, Runs: 1, Sample: true}, got)
	require.Equal(t, []string{`{"a":1,"b":2}`}, d.samples)
	require.Equal(t, "sample", d.noted[0].Verdict)
	got, err = d.receive(proven(), `{"a": 1}`)
	require.NoError(t, err)
	require.False(t, got.Sample)
	require.Len(t, d.started, 2)

	d.hook.Taking, d.hook.State = true, "draft"
	d.Forget(address)
	got, err = d.receive(proven(), `{"a": 2}`)
	require.NoError(t, err)
	require.Equal(t, Received{Sample: true}, got)
	require.Len(t, d.started, 2)

	d.hook.Taking, d.hook.State, d.sampleErr = true, "live", store.ErrSamplesFull
	d.Forget(address)
	got, err = d.receive(proven(), `{"a": 3}`)
	require.NoError(t, err, "a full store refuses nothing")
	require.Equal(t, 1, got.Runs)
	require.Contains(t, d.noted[len(d.noted)-1].Reason, "it was not kept: the workflow keeps 200 samples already")
	d.sampleErr = store.ErrUnavailable
	d.hook.Taking = true
	d.Forget(address)
	_, err = d.receive(proven(), `{"a": 4}`)
	require.ErrorIs(t, err, store.ErrUnavailable)
}

// What arrived and started nothing is kept with what it brought, where that could be
// read and is no stranger's.
func TestWhatStartedNothingIsKept(t *testing.T) {
	t.Parallel()
	d := newDoor(t, map[string]any{"key": "item.id"})
	last := func() store.Delivery { return d.noted[len(d.noted)-1] }
	_, err := d.receive(proven(), `{"n": 1}`)
	require.Error(t, err)
	require.Equal(t, `[{"n":1}]`, string(last().Items), "its key is empty")
	for range 2 {
		_, err = d.receive(proven(), `{"id": 1}`)
		require.NoError(t, err)
	}
	require.Equal(t, "duplicate", last().Verdict)
	require.Equal(t, `[{"id":1}]`, string(last().Items))
	d.hook.State = "draft"
	d.Forget(address)
	_, err = d.receive(proven(), `[{"id": 2}, {"id": 3}]`)
	require.Error(t, err)
	require.Equal(t, `[{"id":2},{"id":3}]`, string(last().Items), "the workflow is not live")
	_, err = d.receive(proven(), `{"id": "`+strings.Repeat("x", itemsKept)+`"}`)
	require.Error(t, err)
	require.Nil(t, last().Items, "that is too much")
	_, err = d.receive(proven(), `{"id": `)
	require.Error(t, err)
	require.Nil(t, last().Items, "that is none")
	_, err = d.receive(proven("Authorization", "Bearer wrong"), `{"id": 9}`)
	require.Error(t, err)
	require.Nil(t, last().Items, "that is somebody's")
}

// Faults of ours are no refusals: the caller may try again.
func TestFaultsOfOursAreNoRefusals(t *testing.T) {
	t.Parallel()
	for name, broken := range map[string]func(*door){
		"the hook cannot be read":      func(d *door) { d.hookErr = store.ErrUnavailable },
		"the plan cannot be read":      func(d *door) { d.planErr = store.ErrUnavailable },
		"the start cannot be accepted": func(d *door) { d.startErr = store.ErrUnavailable },
	} {
		d := newDoor(t, nil)
		broken(d)
		_, err := d.receive(proven(), `{}`)
		require.ErrorIs(t, err, store.ErrUnavailable, name)
		require.Empty(t, d.noted, name)
	}
}

func TestAStartByHand(t *testing.T) {
	t.Parallel()
	d := newDoor(t, nil)
	ctx, one := context.Background(), 1
	w := store.Workflow{ID: uuid.New(), Name: "calls", Live: &one}
	got, err := d.Start(ctx, store.Scope{}, w, ByHand{By: "Mara Quill", AtFirst: 5})
	require.NoError(t, err)
	require.Equal(t, Received{Run: d.started[0].Run, Runs: 1}, got)
	require.Equal(t, "[{}]", string(d.started[0].Items[0]), "no items are one empty item")
	require.Equal(t, "manual", d.started[0].Trigger)
	require.Equal(t, "Mara Quill", d.started[0].By)
	require.Equal(t, 5, d.started[0].AtFirst)

	many := make([]map[string]any, 2*itemsPerPage+1)
	for i := range many {
		many[i] = map[string]any{"n": int64(i)}
	}
	_, err = d.Start(ctx, store.Scope{}, w, ByHand{Items: many, By: "Mara Quill"})
	require.NoError(t, err)
	require.Len(t, d.started[1].Items, 3)
	require.Nil(t, d.started[1].Decoded, "only what is small is kept twice")
	_, err = d.Start(ctx, store.Scope{}, w, ByHand{Items: make([]map[string]any, MaxItems+1), By: "Mara Quill"})
	status, text := refusal(t, err)
	require.Equal(t, http.StatusUnprocessableEntity, status)
	require.Contains(t, text, "100,001 items were given; at most 100,000")
	d.Items = 2
	_, err = d.Start(ctx, store.Scope{}, w, ByHand{Items: make([]map[string]any, 3), By: "Mara Quill"})
	_, text = refusal(t, err)
	require.Contains(t, text, "3 items were given; at most 2 start with one run (--event-items")
	_, err = d.receive(proven(), "[{}, {}, {}]")
	_, text = refusal(t, err)
	require.Contains(t, text, "at most 2 start with one call (--event-items")
	d.Items = 0
	w.Live = nil
	_, err = d.Start(ctx, store.Scope{}, w, ByHand{By: "Mara Quill"})
	status, text = refusal(t, err)
	require.Equal(t, http.StatusConflict, status)
	require.Contains(t, text, "never been live")
	w.Live, d.planErr = &one, store.ErrUnavailable
	_, err = d.Start(ctx, store.Scope{}, w, ByHand{By: "Mara Quill"})
	require.ErrorIs(t, err, store.ErrUnavailable)
}

// A run that begins with the values at hand sees the same as one that reads
// them from the journal: however they came, they are what their text says.
func TestItemsAtHandAreWhatIsStored(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct{ kind, query, body string }{
		"JSON":                        {"application/json", "", `[{"a": 1, "b": 1.50, "c": 12345678901234567890123, "d": null, "e": [true, {"f": "ä\ud83d\ude00\uffff"}], "a": 2}]`},
		"a form":                      {"application/x-www-form-urlencoded", "", "a=1&b=x&b=y&%c3%a4=%ef%bf%bd"},
		"text":                        {"text/plain", "", "hello\x01"},
		"a query":                     {"", "a=1&a=2&b=%ef%bf%bd", ""},
		"an empty object":             {"application/json", "", "{}"},
		"deep":                        {"application/json", "", `{"a":` + strings.Repeat("[", 300) + strings.Repeat("]", 300) + "}"},
		"numbers at their very edges": {"application/json", "", `{"a": 9223372036854775807, "b": -9223372036854775808, "c": 9223372036854775808, "d": 1e400, "e": 1e-400, "f": -0.0, "g": 0.1}`},
	} {
		query, err := url.ParseQuery(c.query)
		require.NoError(t, err)
		fields, err := payload.Items(payload.Body{ContentType: c.kind, Query: query, Content: strings.NewReader(c.body), MostBytes: MaxBody, MostItems: MaxItems})
		require.NoError(t, err, name)
		d := newDoor(t, nil)
		s := &store.Start{}
		require.NoError(t, fill(s, d.plan, fields), name)
		require.NotNil(t, s.Decoded, name)
		stored, err := item.Decode(s.Items[0])
		require.NoError(t, err)
		for i, v := range stored.([]any) {
			require.True(t, reflect.DeepEqual(v, any(s.Decoded[i])), "%s: stored %#v, at hand %#v", name, v, s.Decoded[i])
		}
	}
}

func TestAFullQueueTakesNothingMore(t *testing.T) {
	t.Parallel()
	d := newDoor(t, nil)
	d.waiting, d.Queue = 3, 5
	one := 1
	w := store.Workflow{ID: uuid.New(), Name: "calls", Live: &one}
	for range 2 {
		_, err := d.receive(proven(), "{}")
		require.NoError(t, err)
	}
	require.Equal(t, 1, d.counted, "it is not counted for each")
	for _, start := range []func() error{
		func() error { _, err := d.receive(proven(), "{}"); return err },
		func() error {
			w.Live = &one
			_, err := d.Start(context.Background(), d.HookScope(d.hook), w, ByHand{By: "Mara Quill"})
			return err
		},
	} {
		err := start()
		status, text := refusal(t, err)
		require.Equal(t, http.StatusTooManyRequests, status)
		require.Contains(t, text, "5 runs of this workspace wait for their turn, as many as may (--queue-limit of the service). Nothing was started")
		var r *Refused
		require.ErrorAs(t, err, &r)
		require.Equal(t, 10*time.Second, r.After)
	}
	require.Len(t, d.started, 2)

	d = newDoor(t, nil)
	d.countErr = store.ErrUnavailable
	_, err := d.receive(proven(), "{}")
	require.ErrorIs(t, err, store.ErrUnavailable)
	require.Empty(t, d.started)
	require.Equal(t, MaxQueue, d.MostQueued())
}

func TestALaneIsToldAtTheDoor(t *testing.T) {
	t.Parallel()
	d := newDoor(t, nil)
	var err error
	d.plan, err = workflow.Compile(&workflow.Workflow{Name: "calls", Trigger: workflow.Trigger{Type: "webhook"}, Limits: map[string]any{"parallel_runs": int64(3), "one_at_a_time_by": "trigger.person"}}, &workflow.Catalog{})
	require.NoError(t, err)
	_, err = d.receive(proven(), `{"person": "ann"}`)
	require.NoError(t, err)
	require.Equal(t, store.Line{Lane: `"ann`, Limited: true}, d.started[0].Line)
	_, err = d.receive(proven(), `[{"person": "ann"}, {"person": "ben"}]`)
	status, text := refusal(t, err)
	require.Equal(t, http.StatusUnprocessableEntity, status)
	require.Contains(t, text, "items 1 and 2 belong to different lanes")
	require.Equal(t, "refused", d.noted[len(d.noted)-1].Verdict)
	one := 1
	_, err = d.Start(context.Background(), store.Scope{}, store.Workflow{ID: uuid.New(), Name: "calls", Live: &one}, ByHand{Items: []map[string]any{{"person": "ann"}, {"person": "ben"}}, By: "Mara Quill"})
	status, _ = refusal(t, err)
	require.Equal(t, http.StatusUnprocessableEntity, status)
	require.Len(t, d.started, 1)
}

// counted tells how much of it was read.
type counted struct {
	io.Reader
	read int
}

func (c *counted) Read(b []byte) (int, error) {
	n, err := c.Reader.Read(b)
	c.read += n
	return n, err
}

func TestWhatAStrangerSendsIsNotReadAndSeldomNoted(t *testing.T) {
	t.Parallel()
	d := newDoor(t, nil)
	stranger := http.Header{"Authorization": {"Bearer wrong"}, "Content-Type": {"application/json"}}
	for i := range 3 * notedBurst {
		from := &counted{Reader: strings.NewReader(strings.Repeat("x", MaxBody))}
		_, err := d.Receive(context.Background(), Call{Address: address, Method: http.MethodPost, Header: stranger, Body: from, Length: MaxBody})
		status, _ := refusal(t, err)
		require.Equal(t, http.StatusNotFound, status)
		require.LessOrEqual(t, from.read, excerptBytes, i)
	}
	require.GreaterOrEqual(t, len(d.noted), notedBurst)
	require.LessOrEqual(t, len(d.noted), notedBurst+5)
	require.Equal(t, MaxBody, d.noted[0].Bytes)
	_, err := d.receive(stranger, "short")
	require.Error(t, err)

	broken := errors.New("the line was cut")
	_, err = d.Receive(context.Background(), Call{Address: address, Method: http.MethodPost, Header: proven(), Body: iotest.ErrReader(broken), Length: -1})
	require.ErrorIs(t, err, broken)
	require.Empty(t, d.started)
}

// A call of what starts by something else since is told so, and starts nothing; it can
// still become a sample of a draft.
func TestACallOfWhatIsNotCalledAnyMore(t *testing.T) {
	t.Parallel()
	d := newDoor(t, nil)
	d.plan.Workflow.Trigger.Type = triggers.Manual
	for _, state := range []string{"live", "paused"} {
		d.hook.State = state
		d.Forget(address)
		_, err := d.receive(proven(), `{"caller": "Studio 7"}`)
		status, text := refusal(t, err)
		require.Equal(t, http.StatusGone, status)
		require.Contains(t, text, "not started by calls any more")
		require.Equal(t, "refused", d.noted[len(d.noted)-1].Verdict)
	}
	require.Empty(t, d.started)
	require.Empty(t, d.kept)
	_, err := d.receive(http.Header{}, `{}`)
	require.ErrorIs(t, err, errUnknown, "who does not prove itself learns nothing")
	d.hook.Taking = true
	d.Forget(address)
	got, err := d.receive(proven(), `{"caller": "Studio 7"}`)
	require.NoError(t, err)
	require.True(t, got.Sample)
}

// keptFiles are files in memory.
type keptFiles map[string]string

func (k keptFiles) Incoming(_ context.Context, _ uuid.UUID, name, kind string, content io.Reader) (*item.File, error) {
	b, err := io.ReadAll(content)
	if err != nil {
		return nil, err
	}
	k[name] = string(b)
	return &item.File{ID: fmt.Sprintf("sha256-%x", sha256.Sum256(b)), Name: name, Type: kind, Size: int64(len(b))}, nil
}

// Files come in as references, as many bytes as they have; from who proves nothing no
// more than any body may have.
func TestFilesComeInWithACall(t *testing.T) {
	t.Parallel()
	files := keptFiles{}
	d := newDoor(t, nil)
	d.Files = files
	picture := strings.Repeat("x", 2*MaxBody)
	parts := "--edge\r\nContent-Disposition: form-data; name=\"caller\"\r\n\r\nStudio 7\r\n--edge\r\nContent-Disposition: form-data; name=\"picture\"; filename=\"bowl.png\"\r\nContent-Type: image/png\r\n\r\n" + picture + "\r\n--edge--\r\n"
	long := 0
	receive := func(h http.Header, body string) (Received, error) {
		return d.Receive(context.Background(), Call{Address: address, Method: http.MethodPost, Header: h, Body: strings.NewReader(body), Length: int64(len(body)), Long: func() { long++ }})
	}
	_, err := receive(proven("Content-Type", "multipart/form-data; boundary=edge"), parts)
	require.NoError(t, err)
	require.Equal(t, picture, files["bowl.png"])
	require.Equal(t, "Studio 7", d.started[0].Label)
	require.Contains(t, string(d.started[0].Items[0]), `"name":"bowl.png","size":2097152,"type":"image/png"`)
	require.Equal(t, 1, long)

	d.plan.Start.Proof = proof.Rule{Way: proof.Open}
	h := http.Header{"Content-Type": {"multipart/form-data; boundary=edge"}}
	_, err = receive(h, parts)
	var large *payload.TooLarge
	require.ErrorAs(t, err, &large)
	require.Equal(t, "the body is larger than 1.0 MB", d.noted[len(d.noted)-1].Reason)
	require.Equal(t, 1, long, "who proves nothing gets no more time")
	_, err = receive(http.Header{"Content-Type": {"image/png"}}, "small")
	require.NoError(t, err)
	require.Len(t, d.started, 2)
	_, err = receive(proven(), `{"a": "`+picture+`"}`)
	require.ErrorAs(t, err, &large, "what is text is bounded for all")
}

// A signature is of the raw bytes; a delivery whose id is signed is taken once, and
// nobody learns why another is not.
func TestASignedDeliveryIsTakenOnce(t *testing.T) {
	t.Parallel()
	d := newDoor(t, map[string]any{"verify": "signature", "header": "x-kiln-signature", "signed": "{id}.{time}.{body}", "time_header": "X-Kiln-Time", "id_header": "X-Kiln-Delivery", "prefix": "v1="})
	signed := func(id, body string, at time.Time) http.Header {
		stamp := strconv.FormatInt(at.Unix(), 10)
		m := hmac.New(sha256.New, []byte(secret))
		m.Write([]byte(id + "." + stamp + "." + body))
		return http.Header{"X-Kiln-Signature": {fmt.Sprintf("v1=%x", m.Sum(nil))}, "X-Kiln-Time": {stamp}, "X-Kiln-Delivery": {id}, "Content-Type": {"application/json"}}
	}
	first, err := d.receive(signed("d1", `{"n": 1}`, time.Now()), `{"n": 1}`)
	require.NoError(t, err)
	require.Equal(t, 1, first.Runs)
	require.Equal(t, d.hook.Secrets[0].ID, d.used[0])
	again, err := d.receive(signed("d1", `{"n": 1}`, time.Now().Add(time.Minute)), `{"n": 1}`)
	require.NoError(t, err)
	require.True(t, again.Duplicate, "its sender sends it again with a time of its own")
	require.Equal(t, first.Run, again.Run)
	require.Len(t, d.used, 1, "that is noted once in a minute")
	list, err := d.receive(signed("d2", `[{"n": 1}, {"n": 2}]`, time.Now()), `[{"n": 1}, {"n": 2}]`)
	require.NoError(t, err)
	require.Equal(t, 1, list.Runs)

	for want, call := range map[string]struct {
		header http.Header
		body   string
	}{
		"is not that of what was sent":   {signed("d3", `{"n": 1}`, time.Now()), `{"n": 2}`},
		"is more than 5m0s from ours":    {signed("d3", `{"n": 1}`, time.Now().Add(-6*time.Minute)), `{"n": 1}`},
		"had no header X-Kiln-Signature": {http.Header{"Authorization": {"Bearer " + secret}}, `{"n": 1}`},
		"the body is larger than 1.0 MB": {signed("d3", "x", time.Now()), strings.Repeat("x", MaxBody+1)},
	} {
		_, err := d.receive(call.header, call.body)
		require.ErrorIs(t, err, errUnknown)
		require.Contains(t, d.noted[len(d.noted)-1].Reason, want)
	}
	require.Len(t, d.started, 2)

	d.plan.Start.Key = mustCompile(t, "item.n")
	_, err = d.receive(signed("d4", `{"n": 5}`, time.Now()), `{"n": 5}`)
	require.NoError(t, err)
	require.Equal(t, "5", d.started[2].Key, "where items have keys, these tell")
	d.hook.Secrets[0].Sealed = []byte("spoiled")
	d.Forget(address)
	_, err = d.receive(signed("d5", `{}`, time.Now()), `{}`)
	require.ErrorContains(t, err, "it cannot be opened")
}

// While callers change to another secret, both count; one that was ended does not.
func TestTwoSecretsCountAtOnce(t *testing.T) {
	t.Parallel()
	d := newDoor(t, nil)
	d.hook.Secrets = append([]store.HookSecret{{ID: uuid.New(), Sealed: []byte("sealed newer")}}, d.hook.Secrets...)
	for i, text := range []string{"newer", secret} {
		_, err := d.receive(proven("Authorization", "Bearer "+text), `{}`)
		require.NoError(t, err)
		require.Equal(t, d.hook.Secrets[i].ID, d.used[i])
	}
	d.hook.Secrets = d.hook.Secrets[:1]
	d.Forget(address)
	_, err := d.receive(proven(), `{}`)
	require.ErrorIs(t, err, errUnknown)
}

// Who calls from elsewhere, or by another method, gets no further; a call that only asks
// whether somebody is here is answered and starts nothing.
func TestWhichCallsAreLookedAt(t *testing.T) {
	t.Parallel()
	d := newDoor(t, map[string]any{"methods": []any{"PUT"}, "from": []any{"203.0.113.0/24"}, "challenge": "hello"})
	call := func(method, from, query, body string, h http.Header) (Received, error) {
		q, err := url.ParseQuery(query)
		require.NoError(t, err)
		return d.Receive(context.Background(), Call{Address: address, Method: method, From: from, Header: h, Query: q, Body: strings.NewReader(body), Length: int64(len(body))})
	}
	last := func() store.Delivery { return d.noted[len(d.noted)-1] }
	_, err := call("PUT", "198.51.100.1", "", "{}", proven())
	require.ErrorIs(t, err, errUnknown)
	require.Contains(t, last().Reason, "it came from 198.51.100.1, which is none of the addresses that may call")
	_, err = call("POST", "203.0.113.7", "", "{}", proven())
	status, text := refusal(t, err)
	require.Equal(t, http.StatusMethodNotAllowed, status)
	require.Equal(t, "The method POST is not taken here; taken is PUT.", text)
	_, err = call("POST", "203.0.113.7", "", "{}", http.Header{})
	require.ErrorIs(t, err, errUnknown, "who proves nothing does not learn which are")
	require.Empty(t, d.started)
	got, err := call("PUT", "203.0.113.7", "", "{}", proven())
	require.NoError(t, err)
	require.Equal(t, 1, got.Runs)

	got, err = call("GET", "203.0.113.7", "hello=4711&mode=x", "", http.Header{})
	require.NoError(t, err)
	require.Equal(t, Received{Here: "4711"}, got)
	require.Equal(t, "answered", last().Verdict)
	got, err = call("PUT", "203.0.113.7", "", `{"type": "check", "hello": "4712"}`, proven())
	require.NoError(t, err)
	require.Equal(t, Received{Here: "4712"}, got)
	for _, bad := range []string{"%3Cscript%3E", "a%0Ab", strings.Repeat("x", 501), "a%E2%80%AEb"} {
		_, err = call("GET", "203.0.113.7", "hello="+bad, "", http.Header{})
		require.ErrorIs(t, err, errUnknown, bad)
	}
	_, err = call("GET", "198.51.100.1", "hello=1", "", http.Header{})
	require.ErrorIs(t, err, errUnknown)
	require.Len(t, d.started, 1)
}

// Headers that a workflow asks for are fields of what a call brings; what proves who
// calls is none.
func TestHeadersOfACallBecomeFields(t *testing.T) {
	t.Parallel()
	d := newDoor(t, map[string]any{"headers": []any{"x-kiln-event", "X-Kiln-Other"}})
	_, err := d.receive(proven("X-Kiln-Event", "fired", "X-Else", "no"), `[{"n": 1}, {"n": 2, "headers": "mine"}]`)
	require.NoError(t, err)
	require.Equal(t, `[{"headers":{"x-kiln-event":"fired"},"n":1},{"headers":{"x-kiln-event":"fired"},"n":2}]`, string(d.started[0].Items[0]))
	k, _ := triggers.Find("webhook")
	for name, settings := range map[string]map[string]any{
		"a secret":    {"headers": []any{"Authorization"}},
		"a signature": {"headers": []any{"X-Sign"}, "verify": "signature", "header": "x-sign"},
		"no name":     {"headers": []any{"a b"}},
	} {
		_, errs := k.Start(settings)
		require.NotEmpty(t, errs, name)
	}
}
