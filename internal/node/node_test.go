package node

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"youngtrellis/internal/cluster/clustertest"
	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/connector"
	"youngtrellis/internal/core/engine"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/workflow"
	"youngtrellis/internal/runs"
	"youngtrellis/internal/store"
	"youngtrellis/internal/workflows"
)

func TestMain(m *testing.M) { clustertest.Main(m) }

const hall = `
format: young-trellis-connector/1
name: hall
title: The hall
version: 1
base: https://hall.example
sign_in: [{method: bearer, title: Token, secret: Token}]
check: {request: {method: GET, path: /me}, says: (= output.name )}
failure: {message: (= response.error )}
actions:
  send:
    title: Send
    sentence: Send {n}
    effect: write
    repeat: keyed
    fields: {type: object, properties: {n: {type: integer}}}
    request: {method: POST, path: /send, json: {n: (= input.n )}}
    sample: {n: 0}
  poke:
    title: Poke
    sentence: Poke {n}
    effect: write
    fields: {type: object, properties: {n: {type: integer}}}
    request: {method: POST, path: /poke, json: {n: (= input.n )}}
    sample: {n: 0}
`

// side is the other side, and what stands between us and it.
type side struct {
	mu      sync.Mutex
	calls   int
	arrived map[string]int // by Idempotency-Key
	byN     map[int]int    // what took effect, by number
	script  func(ctx context.Context, n int, key string) (*call.Answer, error)
	opening func() error // a fault of ours while a connection is opened
	held    []time.Duration
}

func newSide() *side { return &side{arrived: map[string]int{}, byN: map[int]int{}} }

func (s *side) Sign(context.Context, string, string) ([]byte, error) { return nil, nil }
func (s *side) Open(context.Context, string) (engine.Connection, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.opening != nil {
		if err := s.opening(); err != nil {
			return nil, err
		}
	}
	return s, nil
}

func (s *side) Account() engine.Account { return engine.Account{} }

func (s *side) Hold(_ context.Context, d time.Duration, _ string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.held = append(s.held, d)
	return nil
}

func (s *side) Send(ctx context.Context, c *call.Call, key string) (*call.Answer, *call.Sent, error) {
	var in struct{ N int }
	_ = json.Unmarshal(c.Body, &in)
	s.mu.Lock()
	s.calls++
	script := s.script
	s.mu.Unlock()
	if script != nil {
		if answer, err := script(ctx, in.N, key); answer != nil || err != nil {
			return answer, c.Show(nil), err
		}
	}
	s.effect(in.N, key)
	return answer(200, string(c.Body)), c.Show(nil), nil
}

// effect is what a call does; the other side knows repeats by their key.
func (s *side) effect(n int, key string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.arrived[key]++; s.arrived[key] == 1 {
		s.byN[n]++
	}
}

func (s *side) done() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return len(s.byN)
}

func (s *side) once(t *testing.T, n int) {
	t.Helper()
	s.mu.Lock()
	defer s.mu.Unlock()
	require.Len(t, s.byN, n)
	for i, times := range s.byN {
		require.Equal(t, 1, times, "number %d took effect once", i)
	}
}

func (s *side) set(script func(ctx context.Context, n int, key string) (*call.Answer, error)) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.script = script
}

func answer(status int, body string) *call.Answer {
	return &call.Answer{Status: status, Header: http.Header{"Content-Type": {"application/json"}}, Body: []byte(body)}
}

// Callback implements engine.Callbacks.
func (s *side) Callback(context.Context, uint16, item.Rounds, item.Address) (string, error) {
	return "https://trellis.example/callbacks/x", nil
}

// Seal implements engine.Sealer.
func (s *side) Seal(_ context.Context, plain []byte) ([]byte, error) { return plain, nil }

// Unseal implements engine.Sealer.
func (s *side) Unseal(_ context.Context, sealed []byte) ([]byte, error) { return sealed, nil }

// Digest implements engine.Sealer.
func (s *side) Digest(_ context.Context, b []byte) ([]byte, error) { return b, nil }

// documents gives the one connector of these tests.
type documents struct{ hall *connector.Connector }

func (d documents) At(context.Context, uuid.UUID, map[string]int) (map[string]*connector.Connector, error) {
	return map[string]*connector.Connector{"hall": d.hall}, nil
}

// worlds prepares runs against the side.
type worlds struct {
	*runs.Reader
	side   *side
	mended bool
}

func (w *worlds) Outside(_, _ uuid.UUID, owner Owner) Outside { return &owned{w.side, owner} }

func (w *worlds) Mended(context.Context, uuid.UUID, string) bool { return w.mended }

// owned makes calls for one owner.
type owned struct {
	*side
	owner Owner
}

func (o *owned) Sign(context.Context, string, string) ([]byte, error) { return nil, nil }
func (o *owned) Open(ctx context.Context, name string) (engine.Connection, error) {
	if _, err := o.side.Open(ctx, name); err != nil {
		return nil, err
	}
	return o, nil
}

func (o *owned) Send(ctx context.Context, c *call.Call, key string) (*call.Answer, *call.Sent, error) {
	if err := o.owner.Alive(ctx); err != nil {
		return nil, nil, err
	}
	return o.side.Send(ctx, c, key)
}

// hallWorld is a database with a workspace and live workflows, and the other side.
type hallWorld struct {
	*testing.T
	store     *store.Store // of the test itself, straight to the database
	database  string
	sc        store.Scope
	side      *side
	documents documents
	workflows map[string]uuid.UUID
}

const keyedSteps = `  - {name: sent, type: hall.send, connection: hall, input: {n: (= item.n )}, output: keep, retry: {first: 50ms, max: 200ms}}`

func newWorld(t *testing.T) *hallWorld {
	t.Helper()
	ctx := context.Background()
	w := &hallWorld{T: t, database: clustertest.Database(t), side: newSide(), workflows: map[string]uuid.UUID{}}
	var err error
	w.store, err = store.Open(ctx, w.database, "")
	require.NoError(t, err)
	t.Cleanup(w.store.Close)
	w.sc, err = w.store.CreateOwner(ctx, "Ottermere Clayworks", "mara@ottermere.example", "Mara Quill", "a password to test")
	require.NoError(t, err)
	w.documents.hall, err = connector.Parse([]byte(hall))
	require.NoError(t, err)
	w.live("loads", keyedSteps)
	return w
}

// live puts a workflow of these steps live, as its first or next revision.
func (w *hallWorld) live(name, steps string) {
	w.Helper()
	ctx := context.Background()
	text := "format: young-trellis/1\nname: " + name + "\ntrigger: {type: manual}\nsteps:\n" + steps + "\n"
	catalog := &workflow.Catalog{Connectors: map[string]*connector.Connector{"hall": w.documents.hall}, Connections: []workflow.Connection{{Name: "hall", Connector: "hall", State: "ok"}}}
	parsed, problems := workflow.Check([]byte(text), catalog)
	require.False(w, workflow.HasErrors(problems), "%v", problems)
	known, err := w.store.Workflow(ctx, w.sc, name)
	if errors.Is(err, store.ErrNotFound) {
		known, err = w.store.CreateWorkflow(ctx, w.sc, name, name, text)
	} else if err == nil {
		known, err = w.store.SaveDraft(ctx, w.sc, name, 0, name, text)
	}
	require.NoError(w, err)
	bounds, _ := parsed.Bounds()
	_, err = w.store.GoLive(ctx, w.sc, name, store.GoingLive{Numbers: parsed.Numbers(known.Numbers), Bounds: bounds})
	require.NoError(w, err)
	w.workflows[name] = known.ID
}

// node starts a worker. Its way to the database is address, or straight.
func (w *hallWorld) node(name string, c Config, address ...string) *Node {
	w.Helper()
	n, stop := w.begin(name, c, address...)
	w.Cleanup(stop)
	return n
}

// begin does the same; stop ends it in order.
func (w *hallWorld) begin(name string, c Config, address ...string) (n *Node, stop func()) {
	w.Helper()
	ctx := context.Background()
	s, err := store.Open(ctx, append(address, w.database)[0], name)
	require.NoError(w, err)
	c.Name = name
	if c.Lease == 0 {
		c.Lease = 2 * time.Second
	}
	c.Log = slog.New(slog.NewTextHandler(testLog{w.T}, &slog.HandlerOptions{Level: slog.LevelWarn}))
	n, err = New(ctx, c, s, &worlds{Reader: &runs.Reader{Store: s, Plans: &workflows.Plans{Revisions: s, Documents: w.documents}}, side: w.side})
	require.NoError(w, err)
	var once sync.Once
	return n, func() {
		once.Do(func() {
			n.Close()
			s.Close()
		})
	}
}

type testLog struct{ t *testing.T }

func (l testLog) Write(b []byte) (int, error) {
	l.t.Log(strings.TrimSpace(string(b)))
	return len(b), nil
}

// start is a run of a workflow over items numbered from 0.
func (w *hallWorld) start(name string, items int) *store.Start {
	list := make([]string, items)
	for i := range list {
		list[i] = fmt.Sprintf(`{"n": %d}`, i)
	}
	return &store.Start{Workspace: w.sc.Workspace(), Workflow: w.workflows[name], Run: store.NewID(), Revision: 1, Trigger: "manual", By: "a test",
		Items: [][]byte{[]byte("[" + strings.Join(list, ",") + "]")}, Accepted: time.Now().UTC().Truncate(time.Microsecond), Expires: time.Now().Add(time.Hour)}
}

func (w *hallWorld) run(id uuid.UUID) store.Run {
	w.Helper()
	r, err := w.store.Run(context.Background(), w.sc, id)
	require.NoError(w, err)
	return r
}

// ended waits for a run's end.
func (w *hallWorld) ended(id uuid.UUID, within time.Duration) store.Run {
	w.Helper()
	var r store.Run
	w.until(within, "the run ends", func() bool {
		var err error
		r, err = w.store.Run(context.Background(), w.sc, id)
		require.True(w, err == nil || errors.Is(err, store.ErrNotFound), "%v", err)
		return r.Ended != nil
	})
	return r
}

func (w *hallWorld) until(within time.Duration, what string, holds func() bool) {
	w.Helper()
	deadline := time.Now().Add(within)
	for !holds() {
		if time.Now().After(deadline) {
			require.Fail(w, "it did not become so", what)
		}
		time.Sleep(5 * time.Millisecond)
	}
}

// reconciled holds that the database says "running" only of what a node has in
// hand.
func (w *hallWorld) reconciled(within time.Duration, nodes ...*Node) {
	w.Helper()
	w.until(within, "nothing is running that nobody carries out", func() bool {
		held := map[uuid.UUID]bool{}
		for _, n := range nodes {
			_, list := n.Executing()
			for _, e := range list {
				held[e.Run] = true
			}
		}
		list, err := w.store.Runs(context.Background(), w.sc, store.RunFilter{State: "running", Limit: 1000})
		require.NoError(w, err)
		for _, r := range list {
			if !held[r.ID] {
				return false
			}
		}
		return true
	})
}

func TestAcceptedRunsAreCarriedOut(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	n := w.node("one", Config{Runs: 4, Taken: 8})
	var all []uuid.UUID
	for range 40 { // more than there are places, in memory or beyond it
		s := w.start("loads", 1)
		started, err := n.Accept(context.Background(), s)
		require.NoError(t, err)
		all = append(all, started.Run)
	}
	for _, id := range all {
		r := w.ended(id, time.Minute)
		require.Equal(t, "succeeded", r.State, r.Message)
		require.Equal(t, 1, r.Counts.Through)
	}
	w.reconciled(10*time.Second, n)
	_, list := n.Executing()
	require.Empty(t, list)
}

// Starts that come together are carried out as others are: a node claims no more of
// them than it has room for.
func TestStartsThatComeTogetherAreCarriedOut(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	n := w.node("one", Config{Runs: 1, Taken: 8})
	list := make([]*store.Start, 40)
	for i := range list {
		list[i] = w.start("loads", 1)
	}
	started, err := n.AcceptAll(context.Background(), list)
	require.NoError(t, err)
	require.Len(t, started, len(list))
	claimed := 0
	for _, s := range started {
		if s.Claimed {
			claimed++
		}
	}
	require.LessOrEqual(t, claimed, 8)
	require.Positive(t, claimed)
	for _, s := range started {
		r := w.ended(s.Run, time.Minute)
		require.Equal(t, "succeeded", r.State, r.Message)
	}
	w.reconciled(10*time.Second, n)
}

// C1: a caller who leaves before the start is durable takes nothing along.
func TestACallerMayLeaveBeforeItsStartIsDurable(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	p := clustertest.NewProxy(t, w.database)
	n := w.node("one", Config{}, p.URL())
	release := w.lockLive()
	ctx, leave := context.WithTimeout(context.Background(), 100*time.Millisecond)
	defer leave()
	s := w.start("loads", 3)
	_, err := n.Accept(ctx, s)
	require.ErrorIs(t, err, context.DeadlineExceeded)
	release()
	r := w.ended(s.Run, 20*time.Second)
	require.Equal(t, "succeeded", r.State, r.Message)
	w.side.once(t, 3)
}

// Nobody waits for nothing: whoever brought an event is told in time that it
// cannot be told what became of it; it is carried out all the same, and known.
func TestWhoeverBringsAnEventIsToldInTime(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	n := w.node("one", Config{AcceptWithin: 100 * time.Millisecond})
	release := w.lockLive()
	s := w.start("loads", 3)
	s.Key = "call-1"
	_, err := n.Accept(context.Background(), s)
	require.ErrorIs(t, err, store.ErrUncertain)
	require.True(t, store.IsUnavailable(err), "it is answered like any other trouble of the database")
	release()
	require.Equal(t, "succeeded", w.ended(s.Run, 20*time.Second).State)
	again := w.start("loads", 3)
	again.Key = "call-1"
	w.until(10*time.Second, "the same key is known", func() bool {
		started, err := n.Accept(context.Background(), again)
		return err == nil && started.Duplicate && started.Run == s.Run
	})
	w.side.once(t, 3)
}

// lockLive keeps every write to the table of live runs waiting.
func (w *hallWorld) lockLive() (release func()) {
	w.Helper()
	ctx := context.Background()
	conn := dial(w.T, w.database)
	_, err := conn.Exec(ctx, "BEGIN; LOCK TABLE live IN ACCESS EXCLUSIVE MODE")
	require.NoError(w, err)
	return func() {
		_, err := conn.Exec(ctx, "COMMIT")
		require.NoError(w, err)
	}
}

// C2: where the answer to a start's commit is lost, the run is carried out, and
// its key is known.
func TestAStartWhoseAnswerIsLostIsCarriedOutOnce(t *testing.T) {
	t.Parallel()
	for name, cut := range map[string]clustertest.Cut{"lost": clustertest.After, "half": clustertest.Within, "never sent": clustertest.Before} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			w := newWorld(t)
			p := clustertest.NewProxy(t, w.database)
			n := w.node("one", Config{}, p.URL())
			p.On("INSERT INTO start_key", cut, 1)
			s := w.start("loads", 2)
			s.Key = "call-1"
			started, err := n.Accept(context.Background(), s)
			require.NoError(t, err)
			require.False(t, started.Duplicate)
			again := w.start("loads", 2)
			again.Key = "call-1"
			second, err := n.Accept(context.Background(), again)
			require.NoError(t, err)
			require.True(t, second.Duplicate)
			require.Equal(t, started.Run, second.Run)
			require.Equal(t, "succeeded", w.ended(started.Run, 20*time.Second).State)
			w.side.once(t, 2)
		})
	}
}

// A start that waits in the queue and whose answer is lost may be claimed by this
// very node before the start is repeated: then it is carried out already.
func TestAStartThatWasClaimedBeforeItsRepeatIsCarriedOutOnce(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.live("pokes", `  - {name: poked, type: hall.poke, connection: hall, input: {n: (= item.n )}, output: keep, parallel: 2}`)
	p := clustertest.NewProxy(t, w.database)
	n := w.node("one", Config{Taken: -1}, p.URL()) // what it accepts has to be claimed
	lost := false
	p.Each(func(_ int, sql string) (clustertest.Cut, bool) {
		switch {
		case !strings.Contains(sql, "INSERT INTO start_key"):
			return 0, false
		case !lost:
			lost = true
			return clustertest.After, true
		}
		_, list := n.Executing()
		return clustertest.Before, len(list) != 1 || list[0].Stage != executing.String()
	})
	s := w.start("pokes", 4)
	started, err := n.Accept(context.Background(), s)
	require.NoError(t, err)
	require.Equal(t, store.Started{Run: s.Run}, store.Started{Run: started.Run, Duplicate: started.Duplicate})
	require.Equal(t, "succeeded", w.ended(s.Run, 20*time.Second).State)
	w.reconciled(10*time.Second, n)
	w.side.mu.Lock()
	defer w.side.mu.Unlock()
	require.Equal(t, 4, w.side.calls, "nothing was sent twice")
}

// C3: where the answer to a claim is lost, the runs go back to the queue.
func TestAClaimWhoseAnswerIsLostIsReconciled(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.queued("loads", 5)
	p := clustertest.NewProxy(t, w.database)
	var claiming, lost int
	p.Each(func(conn int, sql string) (clustertest.Cut, bool) {
		if strings.Contains(sql, "WITH RECURSIVE") {
			claiming = conn
		}
		if sql == "commit" && conn == claiming && lost == 0 {
			lost++
			return clustertest.After, true
		}
		return 0, false
	})
	n := w.node("one", Config{}, p.URL())
	w.until(20*time.Second, "they were claimed, and nobody knows", func() bool {
		return w.count("SELECT count(*) FROM live WHERE state = 'running' AND claim = 1") == 5
	})
	_, list := n.Executing()
	require.Empty(t, list)
	w.until(30*time.Second, "all are done", func() bool { return w.count("SELECT count(*) FROM run WHERE state = 'succeeded'") == 5 })
	w.reconciled(10*time.Second, n)
	require.Zero(t, w.count("SELECT coalesce(sum(takeovers), 0) FROM live"))
}

// queued puts runs into the queue that no node has taken.
func (w *hallWorld) queued(name string, n int) (all []uuid.UUID) {
	w.Helper()
	ctx := context.Background()
	session, err := w.store.OpenSession(ctx, "a starter")
	require.NoError(w, err)
	c := w.store.NewCommitter(session, slog.New(slog.DiscardHandler), nil)
	defer c.Close()
	var wait sync.WaitGroup
	for range n {
		s := w.start(name, 1)
		all = append(all, s.Run)
		wait.Go(func() {
			_, err := c.Start(ctx, s, func(store.Started, error) {})
			require.NoError(w, err)
		})
	}
	wait.Wait()
	return all
}

func (w *hallWorld) count(sql string, args ...any) (n int) {
	w.Helper()
	require.NoError(w, dial(w.T, w.database).QueryRow(context.Background(), sql, args...).Scan(&n))
	return n
}

// C4: three seconds of a database that takes no writes change nothing: results
// are held, and ends are written when it is back.
func TestThreeSecondsOfReadOnlyLoseNothing(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	n := w.node("one", Config{Runs: 4})
	w.side.set(func(context.Context, int, string) (*call.Answer, error) {
		time.Sleep(2 * time.Millisecond)
		return nil, nil
	})
	var all []uuid.UUID
	s := w.start("loads", 400)
	started, err := n.Accept(context.Background(), s)
	require.NoError(t, err)
	all = append(all, started.Run)
	for i := range 20 {
		s := w.start("loads", 0)
		s.Items = [][]byte{fmt.Appendf(nil, `[{"n": %d}]`, 1000+i)}
		started, err := n.Accept(context.Background(), s)
		require.NoError(t, err)
		all = append(all, started.Run)
	}
	w.until(20*time.Second, "some are done", func() bool { return w.side.done() > 30 })
	clustertest.ReadOnly(t, w.database, true)
	began := time.Now()
	refused := 0
	for time.Since(began) < 3*time.Second { // callers are told, and may try again
		ctx, cancel := context.WithTimeout(context.Background(), time.Second)
		if _, err := n.Accept(ctx, w.start("loads", 0)); err != nil {
			refused++
		}
		cancel()
	}
	require.Positive(t, refused)
	clustertest.ReadOnly(t, w.database, false)
	for _, id := range all {
		r := w.ended(id, 30*time.Second)
		require.Equal(t, "succeeded", r.State, r.Message)
	}
	w.side.once(t, 420)
	w.reconciled(10*time.Second, n)
	require.Zero(t, w.count("SELECT count(*) FROM live"))
}

// C5: where the answer to a hand-over is lost, the run has one owner all the same.
func TestAHandOverWhoseAnswerIsLostHasOneOwner(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	p := clustertest.NewProxy(t, w.database)
	n := w.start("loads", 200)
	w.side.set(func(context.Context, int, string) (*call.Answer, error) {
		time.Sleep(5 * time.Millisecond)
		return nil, nil
	})
	w.node("two", Config{}) // it claims what is handed over
	one, stopOne := w.begin("three", Config{}, p.URL())
	_, err := one.Accept(context.Background(), n)
	require.NoError(t, err)
	w.until(20*time.Second, "some are done", func() bool { return w.side.done() > 20 })
	p.On("session_id = NULL", clustertest.After, 1)
	stopOne()
	r := w.ended(n.Run, 30*time.Second)
	require.Equal(t, "succeeded", r.State, r.Message)
	w.side.once(t, 200)
	require.Equal(t, 200, r.Counts.Through)
}

// C7, H9: a node whose way to the database goes silent for good is taken over;
// when it wakes up, what it brings is not done a second time.
func TestANodeThatGoesSilentInABatchIsTakenOver(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	p := clustertest.NewProxy(t, w.database)
	one := w.node("one", Config{Lease: time.Second}, p.URL())
	two := w.node("two", Config{Lease: time.Second, Runs: 2})
	w.side.set(func(context.Context, int, string) (*call.Answer, error) {
		time.Sleep(5 * time.Millisecond)
		return nil, nil
	})
	s := w.start("loads", 150)
	_, err := one.Accept(context.Background(), s)
	require.NoError(t, err)
	w.until(20*time.Second, "some are done", func() bool { return w.side.done() > 20 })
	p.SetMute(true)
	p.Silence()
	r := w.ended(s.Run, 40*time.Second)
	require.Equal(t, "succeeded", r.State, r.Message)
	w.side.once(t, 150)
	p.SetMute(false)
	w.until(40*time.Second, "the first node has a new session", func() bool {
		started, err := one.Accept(within(t, 5*time.Second), w.start("loads", 1))
		return err == nil && !started.Duplicate
	})
	w.until(30*time.Second, "all is done", func() bool { return w.count("SELECT count(*) FROM live") == 0 })
	w.reconciled(10*time.Second, one, two)
}

func within(t *testing.T, d time.Duration) context.Context {
	ctx, cancel := context.WithTimeout(context.Background(), d)
	t.Cleanup(cancel)
	return ctx
}

// H1: a stop in order while calls are being tried again is no failure of theirs.
func TestAStopInOrderDuringARetryFailsNothing(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.live("patient", `  - {name: sent, type: hall.send, connection: hall, input: {n: (= item.n )}, output: keep, parallel: 4, on_error: set_aside, retry: {attempts: 3, first: 30s}}`)
	w.live("once", `  - {name: sent, type: hall.send, connection: hall, input: {n: (= item.n )}, output: keep, parallel: 4, retry: {attempts: 2, first: 30s}}`)
	one, stop := w.begin("one", Config{})
	w.side.set(func(context.Context, int, string) (*call.Answer, error) {
		return nil, &call.Failure{Class: call.NotSent, Message: "nobody answers there"}
	})
	a, b := w.start("patient", 6), w.start("once", 6)
	for _, s := range []*store.Start{a, b} {
		_, err := one.Accept(context.Background(), s)
		require.NoError(t, err)
	}
	w.until(20*time.Second, "calls wait for another try", func() bool {
		w.side.mu.Lock()
		defer w.side.mu.Unlock()
		return w.side.calls >= 2
	})
	began := time.Now()
	stop()
	require.Less(t, time.Since(began), 10*time.Second, "nobody waits for a pause")
	w.side.set(nil)
	w.node("two", Config{})
	for _, s := range []*store.Start{a, b} {
		r := w.ended(s.Run, 30*time.Second)
		require.Equal(t, "succeeded", r.State, r.Message)
		require.Equal(t, 6, r.Counts.Through)
	}
}

// H2: trouble of our own database while a call is prepared is booked on nobody.
func TestTroubleOfOursIsNotBookedOnItems(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.live("careful", `  - {name: sent, type: hall.send, connection: hall, input: {n: (= item.n )}, output: keep, parallel: 4, on_error: set_aside, retry: {attempts: 1}}`)
	n := w.node("one", Config{})
	left := 7
	w.side.opening = func() error {
		if left--; left > 0 {
			return fmt.Errorf("%w: the vault's table is away", store.ErrUnavailable)
		}
		return nil
	}
	s := w.start("careful", 8)
	_, err := n.Accept(context.Background(), s)
	require.NoError(t, err)
	r := w.ended(s.Run, time.Minute)
	require.Equal(t, "succeeded", r.State, r.Message)
	require.Equal(t, 8, r.Counts.Through)
	require.Equal(t, 8, r.Counts.Calls, "no attempt was counted for it")
}

// H4: a cancel while one call is in flight and another has parked the run is
// obeyed; a second one cuts the call.
func TestACancelIsObeyedAndASecondOneCuts(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.live("slow", `  - {name: sent, type: hall.poke, connection: hall, input: {n: (= item.n )}, output: keep, parallel: 2}`)
	n := w.node("one", Config{})
	inside := make(chan int, 10)
	release := make(chan struct{})
	w.side.set(func(ctx context.Context, n int, key string) (*call.Answer, error) {
		inside <- n
		if n == 1 {
			return nil, &call.Failure{Class: call.Refused, Status: 429, Message: "wait", Retryable: true, RetryAfter: time.Hour}
		}
		select {
		case <-release:
			return nil, nil
		case <-ctx.Done():
			return nil, context.Cause(ctx)
		}
	})
	// Chunks begin at one item, so that the second call is not begun before the
	// first is over: two runs make the two calls.
	s := w.start("slow", 40)
	_, err := n.Accept(context.Background(), s)
	require.NoError(t, err)
	require.Equal(t, 0, <-inside)
	ended, err := w.store.CancelRun(context.Background(), w.sc, s.Run)
	require.NoError(t, err)
	require.False(t, ended, "a call is in flight")
	close(release)
	r := w.ended(s.Run, 20*time.Second)
	require.Equal(t, "cancelled", r.State)
	require.Equal(t, 1, w.side.calls, "nothing was begun after it")

	cut := w.start("slow", 3)
	w.side.set(func(ctx context.Context, n int, _ string) (*call.Answer, error) {
		inside <- n
		<-ctx.Done()
		return nil, context.Cause(ctx)
	})
	_, err = n.Accept(context.Background(), cut)
	require.NoError(t, err)
	<-inside
	for range 2 {
		_, err = w.store.CancelRun(context.Background(), w.sc, cut.Run)
		require.NoError(t, err)
	}
	r = w.ended(cut.Run, 20*time.Second)
	require.Equal(t, "cancelled", r.State)
	require.Equal(t, 1, r.Counts.InDoubt, "of the call that was cut nobody knows")
}

// A run that waits is over at once when it is cancelled, and a run that was
// cancelled while its node died is not carried on.
func TestACancelledRunIsNotTakenOver(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	p := clustertest.NewProxy(t, w.database)
	one := w.node("one", Config{Lease: time.Second}, p.URL())
	hang := make(chan struct{})
	t.Cleanup(func() { close(hang) })
	begun := make(chan struct{}, 10)
	w.side.set(func(ctx context.Context, _ int, _ string) (*call.Answer, error) {
		begun <- struct{}{}
		select {
		case <-hang:
		case <-ctx.Done():
		}
		return nil, context.Cause(ctx)
	})
	s := w.start("loads", 3)
	_, err := one.Accept(context.Background(), s)
	require.NoError(t, err)
	<-begun
	p.SetMute(true)
	p.Silence()
	_, err = w.store.CancelRun(context.Background(), w.sc, s.Run)
	require.NoError(t, err)
	w.node("two", Config{Lease: time.Second})
	r := w.ended(s.Run, 40*time.Second)
	require.Equal(t, "cancelled", r.State)
	require.Len(t, begun, 0, "no call was made again")
	p.SetMute(false)
}

// H8: a workspace's flood delays nobody else, in memory and in the queue.
func TestAFloodDelaysNobodyElse(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	other := w.workspace()
	n := w.node("one", Config{Runs: 2, Taken: 50})
	gate := make(chan struct{})
	var mu sync.Mutex
	var order []int
	w.side.set(func(_ context.Context, n int, _ string) (*call.Answer, error) {
		<-gate
		time.Sleep(10 * time.Millisecond) // as calls do
		mu.Lock()
		defer mu.Unlock()
		order = append(order, n)
		return nil, nil
	})
	for range 120 { // two at work, fifty in memory, the rest queued
		_, err := n.Accept(context.Background(), w.start("loads", 1))
		require.NoError(t, err)
	}
	late := other.start("loads", 0)
	late.Items = [][]byte{[]byte(`[{"n": 999}]`)}
	_, err := n.Accept(context.Background(), late)
	require.NoError(t, err)
	close(gate)
	r := other.ended(late.Run, 20*time.Second)
	require.Equal(t, "succeeded", r.State)
	mu.Lock()
	place := len(order)
	for i, n := range order {
		if n == 999 {
			place = i
		}
	}
	mu.Unlock()
	require.Less(t, place, 40, "it did not wait for the flood")
	w.until(time.Minute, "the flood is done too", func() bool { return w.count("SELECT count(*) FROM live") == 0 })
}

// workspace is another one beside the first.
func (w *hallWorld) workspace() *hallWorld {
	w.Helper()
	sc, err := w.store.CreateOwner(context.Background(), "Another", "ada@ottermere.example", "Ada Moss", "a password to test")
	require.NoError(w, err)
	other := *w
	other.sc, other.workflows = sc, map[string]uuid.UUID{}
	other.live("loads", keyedSteps)
	return &other
}

// Within a workspace nobody is overtaken: what waits is older than what arrives.
func TestNobodyIsOvertaken(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	gate := make(chan struct{})
	var mu sync.Mutex
	var order []int
	w.side.set(func(_ context.Context, n int, _ string) (*call.Answer, error) {
		<-gate
		mu.Lock()
		defer mu.Unlock()
		order = append(order, n)
		return nil, nil
	})
	n := w.node("one", Config{Runs: 1, Taken: 3})
	for i := range 30 {
		s := w.start("loads", 0)
		s.Items = [][]byte{fmt.Appendf(nil, `[{"n": %d}]`, i)}
		_, err := n.Accept(context.Background(), s)
		require.NoError(t, err)
	}
	close(gate)
	w.until(time.Minute, "all are done", func() bool { return w.side.done() == 30 })
	for i := range order {
		require.Equal(t, i, order[i])
	}
}

// M6: pages that an earlier execution of a pass wrote beyond its last are gone.
func TestNoPageOfTheLatticeStaysBehind(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	one, stop := w.begin("one", Config{})
	var mu sync.Mutex
	calls := 0
	w.side.set(func(_ context.Context, n int, _ string) (*call.Answer, error) {
		mu.Lock()
		defer mu.Unlock()
		calls++
		if n == 299 {
			return nil, &call.Failure{Class: call.NotSent, Message: "nobody answers there"}
		}
		return nil, nil
	})
	w.live("many", `  - {name: sent, type: hall.send, connection: hall, input: {n: (= item.n )}, output: keep, parallel: 16, retry: {attempts: 2, first: 1m}}`)
	s := w.start("many", 300)
	_, err := one.Accept(context.Background(), s)
	require.NoError(t, err)
	w.until(30*time.Second, "the last waits for another try", func() bool {
		mu.Lock()
		defer mu.Unlock()
		return calls >= 300
	})
	// A page of an execution that went further, as it was before a fault.
	_, err = dial(t, w.database).Exec(context.Background(), "INSERT INTO lattice (workspace_id, run_id, pass, page, body, shape, keys) VALUES ($1, $2, 1, 7, '', '', '')", w.sc.Workspace(), s.Run)
	require.NoError(t, err)
	stop()
	w.side.set(nil)
	w.node("two", Config{})
	require.Equal(t, "succeeded", w.ended(s.Run, time.Minute).State)
	win, err := rowsOf(context.Background(), w, s.Run, 400)
	require.NoError(t, err)
	require.Equal(t, 300, win.Total)
	require.Len(t, win.Rows, 300)
	require.Zero(t, win.Fates["waiting"])
}

// M7: whoever watches a run is told of no counts of a node that has lost it.
func TestALostRunLeavesNoCountsBehind(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	n := w.node("one", Config{})
	blocked := make(chan struct{})
	w.side.set(func(ctx context.Context, n int, _ string) (*call.Answer, error) {
		if n < 5 {
			return nil, nil
		}
		select {
		case <-blocked:
		case <-ctx.Done():
		}
		return nil, context.Cause(ctx)
	})
	t.Cleanup(func() { close(blocked) })
	s := w.start("loads", 20)
	_, err := n.Accept(context.Background(), s)
	require.NoError(t, err)
	w.until(20*time.Second, "it has counts", func() bool {
		_, ok := n.Events.Counts(s.Run)
		return ok
	})
	_, err = dial(t, w.database).Exec(context.Background(), "UPDATE live SET session_id = NULL, state = 'queued', claim = claim + 1 WHERE run_id = $1", s.Run)
	require.NoError(t, err)
	w.until(20*time.Second, "the node has noticed", func() bool {
		_, list := n.Executing()
		for _, e := range list {
			if e.Run == s.Run && e.Claim == 1 {
				return false
			}
		}
		return true
	})
	w.until(20*time.Second, "and says nothing of it any more", func() bool {
		c, ok := n.Events.Counts(s.Run)
		return !ok || c.Through < 5
	})
}

// M8: what arrives while a session is renewed is answered with an error, and the
// node goes on.
func TestARenewedSessionAnswersWithErrorsAndGoesOn(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	n := w.node("one", Config{Lease: time.Second})
	stop := make(chan struct{})
	var wait sync.WaitGroup
	var mu sync.Mutex
	var accepted []uuid.UUID
	for range 4 {
		wait.Go(func() {
			for {
				select {
				case <-stop:
					return
				default:
				}
				ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
				started, err := n.Accept(ctx, w.start("loads", 1))
				cancel()
				if err == nil {
					mu.Lock()
					accepted = append(accepted, started.Run)
					mu.Unlock()
				} else {
					require.True(t, errors.Is(err, store.ErrClosed) || errors.Is(err, engine.ErrDropped) || store.IsUnavailable(err), "%v", err)
				}
			}
		})
	}
	for range 3 {
		session, _ := n.Executing()
		w.until(20*time.Second, "it is taken over", func() bool { // it may beat in between
			beats, err := w.store.Beats(context.Background())
			require.NoError(t, err)
			taken, err := w.store.TakeOver(context.Background(), session, beats[session])
			require.NoError(t, err)
			return taken
		})
		w.until(20*time.Second, "the node has a new session", func() bool {
			now, _ := n.Executing()
			return now != session
		})
	}
	w.until(20*time.Second, "starts are accepted again", func() bool {
		mu.Lock()
		defer mu.Unlock()
		return len(accepted) > 0
	})
	close(stop)
	wait.Wait()
	for _, id := range accepted {
		r := w.ended(id, time.Minute)
		require.Equal(t, "succeeded", r.State, r.Message)
	}
	w.reconciled(10*time.Second, n)
}

// M9: a lost notice leaves nothing waiting.
func TestALostNoticeLeavesNothingWaiting(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	p := clustertest.NewProxy(t, w.database)
	n := w.node("one", Config{}, p.URL())
	p.Each(func(_ int, sql string) (clustertest.Cut, bool) {
		return clustertest.Before, strings.Contains(sql, "LISTEN")
	})
	p.CutAll()
	all := w.queued("loads", 3)
	for _, id := range all {
		require.Equal(t, "succeeded", w.ended(id, 20*time.Second).State)
	}
	w.reconciled(10*time.Second, n)
}

// A run that seems to stop its nodes is carried out alone before it is given up.
func TestARunThatStopsItsNodesIsCarriedOutAlone(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	poison := w.queued("loads", 1)[0]
	hopeless := w.queued("loads", 1)[0]
	beside := w.queued("loads", 6)
	_, err := dial(t, w.database).Exec(context.Background(), "UPDATE live SET takeovers = CASE run_id WHEN $1 THEN 2 ELSE 5 END, claim = 3 WHERE run_id IN ($1, $2)", poison, hopeless)
	require.NoError(t, err)
	n := w.node("one", Config{Runs: 8})
	r := w.ended(poison, 30*time.Second)
	require.Equal(t, "succeeded", r.State, r.Message)
	for _, id := range beside {
		require.Equal(t, "succeeded", w.ended(id, 30*time.Second).State)
	}
	w.reconciled(10*time.Second, n)

	r = w.ended(hopeless, 30*time.Second)
	require.Equal(t, "failed", r.State)
	require.Contains(t, r.Message, "died five times")
}

// Suspects that wait for one another are not condemned by the deaths of their
// node: only the one that is carried out is.
func TestSuspectsThatWaitAreNotCondemned(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	all := w.queued("loads", 6)
	_, err := dial(t, w.database).Exec(context.Background(), "UPDATE live SET takeovers = 2, claim = 2")
	require.NoError(t, err)
	var open atomic.Bool
	called := make(chan struct{}, 1000)
	w.side.set(func(ctx context.Context, _ int, _ string) (*call.Answer, error) {
		called <- struct{}{}
		for !open.Load() && ctx.Err() == nil {
			time.Sleep(time.Millisecond)
		}
		return nil, context.Cause(ctx)
	})
	n := w.node("one", Config{Runs: 8})
	for deaths := 1; deaths <= 2; deaths++ {
		<-called
		session, _ := n.Executing()
		w.until(20*time.Second, "it is taken over", func() bool {
			beats, err := w.store.Beats(context.Background())
			require.NoError(t, err)
			taken, err := w.store.TakeOver(context.Background(), session, beats[session])
			require.NoError(t, err)
			return taken
		})
		require.Empty(t, called, "nothing runs beside it")
		require.Equal(t, 2*len(all)+deaths, w.count("SELECT sum(takeovers) FROM live"), "one counts it, and each time the same")
		require.Equal(t, 2+deaths, w.count("SELECT max(takeovers) FROM live"))
	}
	open.Store(true)
	for _, id := range all {
		r := w.ended(id, 30*time.Second)
		require.Equal(t, "succeeded", r.State, r.Message)
	}
	w.reconciled(10*time.Second, n)
}

// H3 of security: an error text of the other side with a character that cannot
// be stored ends the run as any other.
func TestTextThatCannotBeStoredEndsARunAsAnyOther(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	n := w.node("one", Config{})
	w.side.set(func(context.Context, int, string) (*call.Answer, error) {
		return answer(400, `{"error": "bad \u0000 thing"}`), nil
	})
	s := w.start("loads", 2)
	_, err := n.Accept(context.Background(), s)
	require.NoError(t, err)
	r := w.ended(s.Run, 20*time.Second)
	require.Equal(t, "failed", r.State)
	require.Contains(t, r.Message, "bad \ufffd thing")
}

// What the database refuses of a run fails that run, in words; what is nobody's
// fault lets it wait.
func TestARunWhoseEndIsRefusedDoesNotHang(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	conn := dial(t, w.database)
	_, err := conn.Exec(context.Background(), `CREATE FUNCTION refuse() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN
		IF NEW.counts IS NOT NULL AND NEW.state = 'succeeded' THEN RAISE EXCEPTION 'an odd one' USING ERRCODE = 'XX000'; END IF; RETURN NEW; END $$;
		CREATE TRIGGER refuse BEFORE INSERT ON run FOR EACH ROW EXECUTE FUNCTION refuse()`)
	require.NoError(t, err)
	n := w.node("one", Config{})
	s := w.start("loads", 1)
	_, err = n.Accept(context.Background(), s)
	require.NoError(t, err)
	w.until(20*time.Second, "it waits for us", func() bool {
		r := w.run(s.Run)
		return r.State == "waiting" && r.Reason == call.ReasonOurs && r.Wake != nil
	})
	require.NotContains(t, w.run(s.Run).Message, "odd one", "what went wrong here is in the log")
	_, err = conn.Exec(context.Background(), "DROP TRIGGER refuse ON run; UPDATE live SET wake = now()")
	require.NoError(t, err)
	require.Equal(t, "succeeded", w.ended(s.Run, 20*time.Second).State)
	w.side.once(t, 1)
}

// A connection that was mended while its run ended does not keep it waiting.
func TestAConnectionThatWasMendedMeanwhile(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	n := w.node("one", Config{})
	w.side.set(func(context.Context, int, string) (*call.Answer, error) {
		return nil, &call.Parked{Reason: call.ReasonConnection, Connection: "hall", Message: "the token was refused"}
	})
	s := w.start("loads", 2)
	_, err := n.Accept(context.Background(), s)
	require.NoError(t, err)
	w.until(20*time.Second, "it waits for the connection", func() bool {
		r := w.run(s.Run)
		return r.State == "waiting" && r.Reason == call.ReasonConnection && r.Connection == "hall"
	})
	w.side.set(nil)
	n.Worlds.(*worlds).mended = true
	_, err = dial(t, w.database).Exec(context.Background(), "UPDATE live SET state = 'queued' WHERE run_id = $1", s.Run)
	require.NoError(t, err)
	require.Equal(t, "succeeded", w.ended(s.Run, 20*time.Second).State)
}

// A revision that cannot be made ready any more ends its runs in words.
func TestARunThatCannotBeMadeReadyFails(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	_, err := dial(t, w.database).Exec(context.Background(), "UPDATE revision SET document = 'format: something else'")
	require.NoError(t, err)
	n := w.node("one", Config{})
	s := w.start("loads", 1)
	_, err = n.Accept(context.Background(), s)
	require.NoError(t, err)
	r := w.ended(s.Run, 20*time.Second)
	require.Equal(t, "failed", r.State)
	require.Contains(t, r.Message, "cannot be read any more")
}

func TestALeaseHasItsBounds(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	_, err := New(context.Background(), Config{Name: "x", Lease: time.Millisecond, Log: slog.New(slog.DiscardHandler)}, w.store, nil)
	require.ErrorContains(t, err, "too short")
}
