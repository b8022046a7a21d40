package test

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/url"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	api "youngtrellis/api/client"
	"youngtrellis/internal/cluster/clustertest"
	"youngtrellis/internal/ottermere"
	"youngtrellis/internal/store"
)

// works is the other side: it counts what arrives, and knows a repeat by its
// Idempotency-Key.
type works struct {
	*httptest.Server
	gate chan struct{} // nil, or calls wait until it is closed

	mu      sync.Mutex // protects the following fields
	effects map[string]int
	keys    map[string]string
	repeats int
}

func newWorks(t *testing.T, gate chan struct{}) *works {
	w := &works{gate: gate, effects: map[string]int{}, keys: map[string]string{}}
	w.Server = httptest.NewServer(w)
	t.Cleanup(func() { w.CloseClientConnections(); w.Close() })
	return w
}

// ServeHTTP implements http.Handler.
func (w *works) ServeHTTP(rw http.ResponseWriter, r *http.Request) {
	var in struct {
		ID string `json:"id"`
	}
	if err := json.NewDecoder(r.Body).Decode(&in); err != nil {
		http.Error(rw, err.Error(), http.StatusBadRequest)
		return
	}
	if w.gate != nil {
		select {
		case <-w.gate:
		case <-r.Context().Done():
			return
		}
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	key := r.Header.Get("Idempotency-Key")
	if _, known := w.keys[key]; known {
		w.repeats++
	} else {
		w.keys[key] = in.ID
		w.effects[in.ID]++
	}
	_, _ = fmt.Fprintf(rw, `{"fired": %q}`, in.ID)
}

func (w *works) happened() int {
	w.mu.Lock()
	defer w.mu.Unlock()
	return len(w.keys)
}

const firing = `format: young-trellis/1
name: firing
trigger: {type: webhook, settings: {verify: none, key: item.event}}
steps:
  - {name: fired, type: http, parallel: 2, retry: {attempts: 10, first: 50ms, max: 1s}, settings: {method: POST, url: "SIDE/fire", repeat: keyed, json: {id: "(= item.id )"}}}
`

// owned is a service on the real binary, each node behind a proxy of its own
// before PostgreSQL.
type owned struct {
	database, folder string
	direct           *pgxpool.Pool
	proxy            *clustertest.Proxy
	side             *works
	hook, token      string
	first            *process
	extra            []string // flags
}

func newOwned(t *testing.T, ctx context.Context, gate chan struct{}, extra ...string) *owned {
	t.Helper()
	o := &owned{database: clustertest.Database(t), folder: clustertest.Folder(t), side: newWorks(t, gate), extra: extra}
	var err error
	o.direct, err = pgxpool.New(ctx, o.database)
	require.NoError(t, err)
	t.Cleanup(o.direct.Close)
	o.proxy = clustertest.NewProxy(t, o.database)
	o.first = serve(t, o.proxy.URL(), o.data("one"), extra...)
	s, err := store.Open(ctx, o.database, "")
	require.NoError(t, err)
	t.Cleanup(s.Close)
	sc, err := s.CreateOwner(ctx, "Ottermere Clayworks", "mara@ottermere.example", "Mara Quill", "a password to test")
	require.NoError(t, err)
	o.token, _, err = s.CreateToken(ctx, sc, store.NewToken{Name: "test", Role: store.Owner})
	require.NoError(t, err)
	require.NoError(t, s.Allow(ctx, sc, strings.TrimPrefix(o.side.URL, "http://")))
	client := clientOf(t, o.first.address, o.token)
	_, err = ottermere.Answer[api.Workflow](client.CreateWorkflow(ctx, api.Document{Document: strings.ReplaceAll(firing, "SIDE", o.side.URL)}))
	require.NoError(t, err)
	_, err = ottermere.Answer[api.Workflow](client.GoLive(ctx, "firing", &api.GoLiveParams{}))
	require.NoError(t, err)
	sheet, err := ottermere.Answer[api.CallSheet](client.CallSheet(ctx, "firing"))
	require.NoError(t, err)
	u, err := url.Parse(sheet.Address)
	require.NoError(t, err)
	o.hook = u.Path
	return o
}

func (o *owned) data(name string) string { return filepath.Join(o.folder, name) }

// again starts the first node anew.
func (o *owned) again(t *testing.T) {
	t.Helper()
	o.first = serve(t, o.proxy.URL(), o.data("one"), o.extra...)
}

// tell calls the webhook with so many items of one event.
func (o *owned) tell(ctx context.Context, p *process, event string, items int) (run uuid.UUID, status int, err error) {
	list := make([]string, items)
	for i := range list {
		list[i] = fmt.Sprintf(`{"event": %q, "id": "%s-%d"}`, event, event, i)
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, p.address+o.hook, strings.NewReader("["+strings.Join(list, ",")+"]"))
	if err != nil {
		return run, 0, err
	}
	req.Header.Set("Content-Type", "application/json")
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		return run, 0, err
	}
	defer res.Body.Close()
	var said struct {
		Run uuid.UUID `json:"run"`
	}
	if err := json.NewDecoder(res.Body).Decode(&said); err != nil {
		return run, res.StatusCode, err
	}
	return said.Run, res.StatusCode, nil
}

// insist tells of an event again until it is accepted, and gives how often it was
// told to come back.
func (o *owned) insist(t *testing.T, ctx context.Context, event string, items int) (refused int64) {
	for {
		_, status, err := o.tell(ctx, o.first, event, items)
		switch {
		case err == nil && status < 300:
			return refused
		case status == http.StatusServiceUnavailable:
			refused++
		default:
			require.NoError(t, err)
			require.Fail(t, "neither accepted nor told to come back", "%d", status)
		}
		time.Sleep(20 * time.Millisecond)
	}
}

// carriedOut waits until nothing is under way, and holds that there are just
// these runs, that all succeeded, and that each of so many effects came once.
func (o *owned) carriedOut(t *testing.T, ctx context.Context, runs, effects int) {
	t.Helper()
	require.EventuallyWithT(t, func(c *assert.CollectT) {
		var live, ended int
		require.NoError(c, o.direct.QueryRow(ctx, "SELECT (SELECT count(*) FROM live), (SELECT count(*) FROM run)").Scan(&live, &ended))
		require.Equal(c, []int{0, runs}, []int{live, ended})
	}, time.Until(deadline(ctx)), 50*time.Millisecond)
	rows, err := o.direct.Query(ctx, "SELECT state, message FROM run WHERE state <> 'succeeded'")
	require.NoError(t, err)
	for rows.Next() {
		var state, message string
		require.NoError(t, rows.Scan(&state, &message))
		require.Fail(t, "a run did not succeed", "%s: %s", state, message)
	}
	require.NoError(t, rows.Err())
	o.side.mu.Lock()
	defer o.side.mu.Unlock()
	require.Len(t, o.side.effects, effects, "none is missing")
	for id, n := range o.side.effects {
		require.Equal(t, 1, n, "%s happened once", id)
	}
}

func deadline(ctx context.Context) time.Time {
	d, _ := ctx.Deadline()
	return d.Add(-time.Second)
}

// A caller that gives up while its event is being accepted leaves a run that is
// carried out, once; and is told that run when it comes back.
func TestACallersLeavingLosesNothing(t *testing.T) {
	t.Parallel()
	ctx := within(t, time.Minute)
	o := newOwned(t, ctx, nil)
	tx, err := o.direct.Begin(ctx)
	require.NoError(t, err)
	defer func() { _ = tx.Rollback(ctx) }()
	_, err = tx.Exec(ctx, "LOCK TABLE live IN EXCLUSIVE MODE") // so that accepting takes long
	require.NoError(t, err)
	var wait sync.WaitGroup
	for i := range 20 {
		wait.Go(func() {
			impatient, leave := context.WithTimeout(ctx, time.Duration(1000+50*i)*time.Millisecond)
			defer leave()
			_, _, err := o.tell(impatient, o.first, fmt.Sprintf("e%d", i), 3)
			require.ErrorIs(t, err, context.DeadlineExceeded)
		})
	}
	wait.Wait()
	require.NoError(t, tx.Rollback(ctx))
	// What was on its way to the database when its caller left is carried out
	// though nobody comes back.
	eventually(t, "runs that nobody waits for", 30*time.Second, func() bool {
		var live, ended int
		require.NoError(t, o.direct.QueryRow(ctx, "SELECT (SELECT count(*) FROM live), (SELECT count(*) FROM run)").Scan(&live, &ended))
		return live == 0 && ended > 0
	})
	for i := range 20 {
		var known uuid.UUID
		run, status, err := o.tell(ctx, o.first, fmt.Sprintf("e%d", i), 3)
		require.NoError(t, err)
		require.Less(t, status, 300)
		require.NoError(t, o.direct.QueryRow(ctx, "SELECT run_id FROM start_key WHERE key = $1", fmt.Sprintf("\"e%d", i)).Scan(&known))
		require.Equal(t, known, run)
	}
	o.carriedOut(t, ctx, 20, 60)
}

// The answer to a COMMIT is lost: of a start, an entry, an end, a claim.
func TestALostCommitAnswerLosesNothing(t *testing.T) {
	t.Parallel()
	for what, statement := range map[string]string{"of a start": "INSERT INTO start_key", "of an entry": "INSERT INTO journal", "of an end": "DELETE FROM live"} {
		for how, cut := range map[string]clustertest.Cut{"lost whole": clustertest.After, "lost in half": clustertest.Within, "lost in silence": clustertest.Mute} {
			t.Run(what+", "+how, func(t *testing.T) {
				t.Parallel()
				ctx := within(t, 90*time.Second)
				o := newOwned(t, ctx, nil)
				fired := o.proxy.On(statement, cut, 1)
				run, status, err := o.tell(ctx, o.first, "e", 40)
				require.NoError(t, err)
				require.Less(t, status, 300)
				<-fired
				o.carriedOut(t, ctx, 1, 40)
				again, _, err := o.tell(ctx, o.first, "e", 40)
				require.NoError(t, err)
				require.Equal(t, run, again)
			})
		}
	}
	t.Run("of a claim", func(t *testing.T) {
		t.Parallel()
		ctx := within(t, 90*time.Second)
		gate := make(chan struct{})
		o := newOwned(t, ctx, gate)
		_, status, err := o.tell(ctx, o.first, "e", 40)
		require.NoError(t, err)
		require.Less(t, status, 300)
		require.NoError(t, o.first.Process.Kill())
		_ = o.first.Wait()
		var cut atomic.Bool // the answer that tells of the run, not one that tells of none
		o.proxy.Each(func(_ int, sql string) (clustertest.Cut, bool) {
			if !strings.Contains(sql, "FROM spaces") || cut.Load() {
				return 0, false
			}
			var queued bool
			if err := o.direct.QueryRow(ctx, "SELECT EXISTS (SELECT FROM live WHERE state = 'queued')").Scan(&queued); err != nil || !queued {
				return 0, false
			}
			cut.Store(true)
			return clustertest.After, true
		})
		o.again(t)
		eventually(t, "the claim's answer is lost", 30*time.Second, cut.Load)
		close(gate)
		o.carriedOut(t, ctx, 1, 40)
	})
}

// PostgreSQL is read-only for three seconds while runs are under way: callers
// are told so, and what was under way goes on by itself.
func TestThreeSecondsOfReadOnlyLoseNothing(t *testing.T) {
	t.Parallel()
	ctx := within(t, 2*time.Minute)
	o := newOwned(t, ctx, nil)
	_, status, err := o.tell(ctx, o.first, "long", 1500)
	require.NoError(t, err)
	require.Less(t, status, 300)
	eventually(t, "some effects", 30*time.Second, func() bool { return o.side.happened() > 100 })
	clustertest.ReadOnly(t, o.database, true)
	ends := time.Now().Add(3 * time.Second)
	var refused atomic.Int64
	var wait sync.WaitGroup
	for i := range 4 {
		wait.Go(func() {
			refused.Add(o.insist(t, ctx, fmt.Sprintf("e%d", i), 5))
		})
	}
	time.Sleep(time.Until(ends))
	require.Less(t, o.side.happened(), 1500, "it is still under way")
	clustertest.ReadOnly(t, o.database, false)
	wait.Wait()
	require.Positive(t, refused.Load())
	o.carriedOut(t, ctx, 5, 1500+20)
	require.Zero(t, o.side.repeats, "what was done and not yet written down is held, not done again")
}

// Connections that go silent, as after a loss of power in between, are given
// up long before the operating system would.
func TestSilentConnectionsHoldNothingUp(t *testing.T) {
	t.Parallel()
	t.Run("those that there are, for good", func(t *testing.T) {
		t.Parallel()
		ctx := within(t, 2*time.Minute)
		o := newOwned(t, ctx, nil)
		_, _, err := o.tell(ctx, o.first, "long", 1500)
		require.NoError(t, err)
		eventually(t, "some effects", 30*time.Second, func() bool { return o.side.happened() > 100 })
		o.proxy.Silence()
		began := time.Now()
		o.insist(t, ctx, "new", 5) // it may be told to come back, as long as the silence is not noticed
		o.carriedOut(t, ctx, 2, 1505)
		require.Less(t, time.Since(began), 60*time.Second)
	})
	t.Run("the way to PostgreSQL, for sixty seconds", func(t *testing.T) {
		t.Parallel()
		ctx := within(t, 3*time.Minute)
		o := newOwned(t, ctx, nil)
		_, _, err := o.tell(ctx, o.first, "long", 1500)
		require.NoError(t, err)
		eventually(t, "some effects", 30*time.Second, func() bool { return o.side.happened() > 100 })
		o.proxy.SetMute(true)
		o.proxy.Silence()
		ends := time.Now().Add(60 * time.Second)
		refused := 0
		for time.Now().Before(ends) {
			began := time.Now()
			_, status, err := o.tell(ctx, o.first, "new", 5)
			require.NoError(t, err)
			require.Equal(t, http.StatusServiceUnavailable, status)
			require.Less(t, time.Since(began), 40*time.Second, "nobody waits for nothing")
			refused++
		}
		require.Less(t, o.side.happened(), 1500, "nothing goes on that cannot be written down")
		o.proxy.SetMute(false)
		eventually(t, "events are accepted again", 30*time.Second, func() bool {
			_, status, err := o.tell(ctx, o.first, "new", 5)
			return err == nil && status < 300
		})
		o.carriedOut(t, ctx, 2, 1505)
		t.Logf("%d calls were told to come back", refused)
	})
}

// A node dies within a batch: PostgreSQL has heard half of it, holds the row of
// the node's session, and hears no goodbye. The other node takes over all the
// same.
func TestANodeThatDiedWithinABatchIsTakenOver(t *testing.T) {
	t.Parallel()
	ctx := within(t, 2*time.Minute)
	o := newOwned(t, ctx, nil, "--lease", "3s")
	sameVault(t, o.data("one"), o.data("two"))
	second := clustertest.NewProxy(t, o.database)
	two := serve(t, second.URL(), o.data("two"), o.extra...)
	_, _, err := o.tell(ctx, o.first, "long", 400)
	require.NoError(t, err)
	eventually(t, "some effects", 30*time.Second, func() bool { return o.side.happened() > 50 })
	stuck := o.proxy.On("INSERT INTO journal", clustertest.Stuck, 1)
	select {
	case <-stuck:
	case <-ctx.Done():
		t.Fatal("the node never wrote to the journal again")
	}
	require.NoError(t, o.first.Process.Signal(syscall.SIGSTOP)) // it says no goodbye
	locked := func() bool {
		_, err := o.direct.Exec(ctx, "SELECT FROM node_session WHERE id = (SELECT session_id FROM live WHERE state = 'running' LIMIT 1) FOR UPDATE NOWAIT")
		return err != nil
	}
	// What came before the statement is on its way to the server, which carries it out in its own time.
	eventually(t, "the dead node's session is held by its half of a batch", 10*time.Second, locked)
	require.NoError(t, o.first.Process.Kill())
	_ = o.first.Wait()
	require.True(t, locked(), "still")
	o.carriedOut(t, ctx, 1, 400)
	require.LessOrEqual(t, o.side.repeats, 2+64, "only calls of the lost batch are made again")
	_, status, err := o.tell(ctx, two, "next", 5)
	require.NoError(t, err)
	require.Less(t, status, 300)
	o.carriedOut(t, ctx, 2, 405)
	var takeovers int
	require.NoError(t, o.direct.QueryRow(ctx, "SELECT count(*) FROM node_session WHERE ended IS NOT NULL").Scan(&takeovers))
	require.Equal(t, 1, takeovers)
}
