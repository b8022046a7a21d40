package store

import (
	"context"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"youngtrellis/internal/cluster/clustertest"
	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/engine"
	"youngtrellis/internal/core/workflow"
)

// bound puts a next revision of the workflow live that has these limits.
func (b *bench) bound(t *testing.T, bounds workflow.Bounds) {
	t.Helper()
	ctx := context.Background()
	_, err := b.SaveDraft(ctx, b.sc, b.workflow.Name, 0, "Loads", "format: young-trellis/1 # "+NewID().String())
	require.NoError(t, err)
	b.workflow, err = b.GoLive(ctx, b.sc, b.workflow.Name, GoingLive{Bounds: bounds})
	require.NoError(t, err)
}

// inLane is a start of a lane that this node carries out if it is its turn.
func (b *bench) inLane(lane string) *Start {
	s := b.claimed("")
	s.Revision, s.Line.Lane = *b.workflow.Live, lane
	return s
}

// placed is a start of a workflow with parallel_runs.
func (b *bench) placed() *Start {
	s := b.inLane("")
	s.Line.Limited = true
	return s
}

func (b *bench) took(t *testing.T, s *Start) Started {
	t.Helper()
	started, err := b.begin(context.Background(), s)
	require.NoError(t, err)
	return started
}

// stands gives the state of a live run, with why it waits.
func (b *bench) stands(t *testing.T, run uuid.UUID) string {
	t.Helper()
	var state, reason string
	require.NoError(t, b.node.QueryRow(context.Background(), "SELECT state, reason FROM live WHERE run_id = $1", run).Scan(&state, &reason))
	if reason != "" {
		return state + ": " + reason
	}
	return state
}

func (b *bench) claims(t *testing.T, n int) (out []uuid.UUID) {
	t.Helper()
	claimed, err := b.Claim(context.Background(), b.session, Turn{}, n)
	require.NoError(t, err)
	for _, c := range claimed {
		out = append(out, c.Run)
	}
	return out
}

func TestRunsOfALaneComeOneBehindTheOther(t *testing.T) {
	t.Parallel()
	b := open(t)
	ann := []*Start{b.inLane(`"ann`), b.inLane(`"ann`), b.inLane(`"ann`)}
	slices.Reverse(ann) // their ids do not say in which order they came
	first := b.took(t, ann[0])
	require.True(t, first.Claimed)
	for _, s := range ann[1:] {
		require.False(t, b.took(t, s).Claimed)
		require.Equal(t, "waiting: lane", b.stands(t, s.Run))
	}
	ben, none := b.inLane(`"ben`), b.inLane("")
	require.True(t, b.took(t, ben).Claimed, "others are beside them")
	require.True(t, b.took(t, none).Claimed, "and those in no lane")
	require.Empty(t, b.claims(t, 10))

	wake := time.Now().Add(time.Hour)
	require.True(t, b.end(t, &End{Run: ann[0].Run, Workflow: b.workflow.ID, Claim: 1, State: engine.WaitingOn, Reason: call.ReasonWait, Wake: &wake, Total: -1, Line: ann[0].Line}))
	require.Equal(t, "waiting: lane", b.stands(t, ann[1].Run), "one that waits keeps its lane")
	_, err := b.node.Exec(context.Background(), "UPDATE live SET wake = now() WHERE run_id = $1", ann[0].Run)
	require.NoError(t, err)
	n, err := b.WakeDue(context.Background())
	require.NoError(t, err)
	require.EqualValues(t, 1, n)
	require.Equal(t, []uuid.UUID{ann[0].Run}, b.claims(t, 10))

	require.True(t, b.end(t, &End{Run: ann[0].Run, Workflow: b.workflow.ID, Claim: 2, State: engine.FailedRun, Total: -1, Line: ann[0].Line}))
	require.Equal(t, "queued", b.stands(t, ann[1].Run), "a failed one gives it up")
	require.Equal(t, "waiting: lane", b.stands(t, ann[2].Run))
	require.Equal(t, []uuid.UUID{ann[1].Run}, b.claims(t, 10))

	// The failed one lines up again when it is resumed, behind those that came meanwhile.
	require.NoError(t, b.NewPass(context.Background(), b.sc, ann[0].Run, Pass{Kind: "resume"}))
	require.Equal(t, "waiting: lane", b.stands(t, ann[0].Run))
	ended, err := b.CancelRun(context.Background(), b.sc, ann[2].Run)
	require.NoError(t, err)
	require.True(t, ended, "one in line is over at once")
	require.Equal(t, "running", b.stands(t, ann[1].Run), "and moves nobody")
	require.Equal(t, "waiting: lane", b.stands(t, ann[0].Run))
	require.True(t, b.end(t, &End{Run: ann[1].Run, Workflow: b.workflow.ID, Claim: 1, State: engine.Succeeded, Total: -1, Line: ann[1].Line}))
	require.Equal(t, []uuid.UUID{ann[0].Run}, b.claims(t, 10))
}

func TestALaneGoesOnWhenItsHolderIsCancelled(t *testing.T) {
	t.Parallel()
	b := open(t)
	ctx := context.Background()
	holder, next := b.inLane(`"ann`), b.inLane(`"ann`)
	b.took(t, holder)
	b.took(t, next)
	_, err := b.CancelRun(ctx, b.sc, holder.Run)
	require.NoError(t, err)
	require.Equal(t, "waiting: lane", b.stands(t, next.Run), "it is still on its way")
	require.NoError(t, b.CloseSession(ctx, b.session))
	require.Equal(t, "queued", b.stands(t, next.Run), "its node let it go")

	// Queued and cancelled before anybody took it on: the claim ends it.
	_, err = b.node.Exec(ctx, "UPDATE live SET cancel = 1, cancelled_by = 'a test' WHERE run_id = $1", next.Run)
	require.NoError(t, err)
	third := b.inLane(`"ann`)
	session := mustSession(t, b, "node-b")
	writer := b.NewCommitter(session, slog.New(slog.DiscardHandler), nil)
	defer writer.Close()
	_, err = writer.Start(ctx, third, func(Started, error) {})
	require.NoError(t, err)
	require.Equal(t, "waiting: lane", b.stands(t, third.Run))
	claimed, err := b.Claim(ctx, session, Turn{}, 10)
	require.NoError(t, err)
	require.Empty(t, claimed)
	require.Equal(t, "queued", b.stands(t, third.Run))
}

func TestOnlySoManyOfAWorkflowRunAtOnce(t *testing.T) {
	t.Parallel()
	b := open(t)
	ctx := context.Background()
	b.bound(t, workflow.Bounds{Parallel: 2})
	var runs []*Start
	for i := range 5 {
		runs = append(runs, b.placed())
		require.Equal(t, i < 2, b.took(t, runs[i]).Claimed)
	}
	require.Equal(t, "waiting: place", b.stands(t, runs[2].Run))
	require.Empty(t, b.claims(t, 10))

	// One that waits gives its place up, and needs one again.
	require.True(t, b.end(t, &End{Run: runs[0].Run, Workflow: b.workflow.ID, Claim: 1, State: engine.WaitingOn, Reason: call.ReasonConnection, Connection: "hall", Total: -1, Line: runs[0].Line}))
	require.Equal(t, "queued", b.stands(t, runs[2].Run))
	_, err := b.node.Exec(ctx, "UPDATE live SET wake = now() WHERE run_id = $1", runs[0].Run)
	require.NoError(t, err)
	_, err = b.WakeDue(ctx)
	require.NoError(t, err)
	require.Equal(t, "waiting: place", b.stands(t, runs[0].Run))
	n, err := b.WakeDue(ctx)
	require.NoError(t, err)
	require.Zero(t, n, "it is not woken again and again")
	require.Equal(t, []uuid.UUID{runs[2].Run}, b.claims(t, 10))
	require.True(t, b.end(t, &End{Run: runs[1].Run, Workflow: b.workflow.ID, Claim: 1, State: engine.Succeeded, Total: -1, Line: runs[1].Line}))
	require.Equal(t, []uuid.UUID{runs[0].Run}, b.claims(t, 10), "whoever came first goes first")
	require.Equal(t, "waiting: place", b.stands(t, runs[3].Run))

	// A takeover changes nothing of it.
	require.NoError(t, b.CloseSession(ctx, b.session))
	require.Equal(t, "queued", b.stands(t, runs[0].Run))
	require.Equal(t, "waiting: place", b.stands(t, runs[3].Run))
	b.session = mustSession(t, b, "node-b")

	b.bound(t, workflow.Bounds{Parallel: 3})
	require.Equal(t, "queued", b.stands(t, runs[3].Run), "a larger limit is a place more")
	require.Equal(t, "waiting: place", b.stands(t, runs[4].Run))
	b.bound(t, workflow.Bounds{Parallel: 1})
	require.Equal(t, "queued", b.stands(t, runs[3].Run), "a smaller one takes none away")
	b.bound(t, workflow.Bounds{})
	require.Equal(t, "queued", b.stands(t, runs[4].Run))
	require.Len(t, b.claims(t, 10), 4)
	b.bound(t, workflow.Bounds{Parallel: 1})
	require.Equal(t, 4, b.count(t, "SELECT count(*) FROM live WHERE limited AND state = 'running'"), "a new limit counts those that are on their way")
	late := b.placed()
	b.writer.Close()
	b.writer = b.NewCommitter(b.session, slog.New(slog.DiscardHandler), nil)
	require.False(t, b.took(t, late).Claimed)
	require.Equal(t, "waiting: place", b.stands(t, late.Run))
}

func TestALaneAndAPlaceAreBothNeeded(t *testing.T) {
	t.Parallel()
	b := open(t)
	b.bound(t, workflow.Bounds{Parallel: 1})
	start := func(lane string) *Start {
		s := b.placed()
		s.Line.Lane = lane
		b.took(t, s)
		return s
	}
	ann1, ben1, ann2 := start(`"ann`), start(`"ben`), start(`"ann`)
	require.Equal(t, []string{"running", "waiting: place", "waiting: lane"}, []string{b.stands(t, ann1.Run), b.stands(t, ben1.Run), b.stands(t, ann2.Run)})
	end := func(s *Start) {
		_, _, claim := b.state(t, s.Run)
		require.True(t, b.end(t, &End{Run: s.Run, Workflow: b.workflow.ID, Claim: claim, State: engine.Succeeded, Total: -1, Line: s.Line}))
	}
	end(ann1)
	require.Equal(t, []string{"queued", "waiting: place"}, []string{b.stands(t, ben1.Run), b.stands(t, ann2.Run)}, "the lane is free, and another waited longer for the place")
	require.Equal(t, []uuid.UUID{ben1.Run}, b.claims(t, 10))
	end(ben1)
	require.Equal(t, []uuid.UUID{ann2.Run}, b.claims(t, 10))
}

func TestADeadlineIsKnownAndWakesWhoeverWaits(t *testing.T) {
	t.Parallel()
	b := open(t)
	ctx := context.Background()
	b.bound(t, workflow.Bounds{Deadline: time.Hour})
	s := b.inLane("")
	started := b.took(t, s)
	require.WithinDuration(t, s.Accepted.Add(time.Hour), started.Deadline, time.Millisecond)
	far := time.Now().Add(48 * time.Hour)
	require.True(t, b.end(t, &End{Run: s.Run, Workflow: b.workflow.ID, Claim: 1, State: engine.WaitingOn, Reason: call.ReasonWait, Wake: &far, Total: -1}))
	var wake time.Time
	require.NoError(t, b.node.QueryRow(ctx, "SELECT wake FROM live WHERE run_id = $1", s.Run).Scan(&wake))
	require.WithinDuration(t, started.Deadline, wake, time.Millisecond)
	_, err := b.node.Exec(ctx, "UPDATE live SET state = 'queued' WHERE run_id = $1", s.Run)
	require.NoError(t, err)
	claimed, err := b.Claim(ctx, b.session, Turn{}, 1)
	require.NoError(t, err)
	require.WithinDuration(t, started.Deadline, claimed[0].Deadline, time.Millisecond)
	require.True(t, b.end(t, &End{Run: s.Run, Workflow: b.workflow.ID, Claim: 2, State: engine.FailedRun, Total: -1}))
	require.NoError(t, b.NewPass(ctx, b.sc, s.Run, Pass{Kind: "resume"}))
	claimed, err = b.Claim(ctx, b.session, Turn{}, 1)
	require.NoError(t, err)
	require.WithinDuration(t, time.Now().Add(time.Hour), claimed[0].Deadline, time.Minute, "a resumed one has as long again")
	require.Greater(t, claimed[0].Deadline, started.Deadline)

	b.bound(t, workflow.Bounds{})
	require.True(t, b.took(t, b.inLane("")).Deadline.IsZero())
}

func TestTheQueueIsCountedUpToALimit(t *testing.T) {
	t.Parallel()
	b := open(t)
	ctx := context.Background()
	other := b.another(t)
	other.queue(t, 3)
	for range 3 {
		b.took(t, b.inLane(`"ann`)) // one goes at once, two stand in line
	}
	b.queue(t, 4)
	for most, want := range map[int]int{100: 6, 6: 6, 5: 5, 1: 1} {
		n, err := b.Queued(ctx, b.sc.workspace, most)
		require.NoError(t, err)
		require.Equal(t, want, n)
	}
}

// Two writers begin, park, wake and end runs of few lanes and few places at random,
// and other hands cancel and claim between. At every moment no lane has two that are
// on their way, no more are on their way than may be, and each lane goes in the order
// in which its starts were acknowledged. In the end nothing stands in line.
func TestLinesHoldWhateverHappens(t *testing.T) {
	t.Parallel()
	const lanes, places, each = 4, 3, 40
	database := clustertest.Database(t)
	b := openAt(t, database, slog.New(slog.DiscardHandler))
	b.bound(t, workflow.Bounds{Parallel: places})
	ctx := within(t, 2*time.Minute)
	root := admin(t, database)
	writers := []*Committer{b.writer}
	sessions := []uuid.UUID{b.session, mustSession(t, b, "node-b")}
	writers = append(writers, b.NewCommitter(sessions[1], slog.New(slog.DiscardHandler), nil))
	t.Cleanup(writers[1].Close)

	var mu sync.Mutex
	order, began := map[string][]uuid.UUID{}, map[string][]uuid.UUID{}
	var all sync.WaitGroup
	begun := func(lane string, run uuid.UUID) {
		mu.Lock()
		defer mu.Unlock()
		if !slices.Contains(began[lane], run) {
			began[lane] = append(began[lane], run)
		}
	}
	finish := func(node int, c Claimed) {
		r := rand.New(rand.NewPCG(uint64(c.Claim), uint64(c.Run[15])))
		begun(c.Line.Lane, c.Run)
		e := &End{Workspace: c.Workspace, Run: c.Run, Workflow: c.Workflow, Pass: c.Pass, Claim: c.Claim, State: engine.Succeeded, Total: -1, Line: c.Line}
		if c.Claim < 3 && r.IntN(3) == 0 {
			now := time.Now()
			e.State, e.Reason, e.Wake = engine.WaitingOn, call.ReasonWait, &now
		}
		done := make(chan struct{})
		require.NoError(t, writers[node].End(e, func(bool, error) { close(done) }))
		<-done
	}
	left := make(chan struct{})
	var helpers sync.WaitGroup
	defer helpers.Wait()
	leave := sync.OnceFunc(func() { close(left) })
	defer leave()
	// going does something again and again until all is over.
	going := func(something func() bool) {
		helpers.Go(func() {
			for {
				select {
				case <-left:
					return
				case <-ctx.Done():
					return
				default:
				}
				if !something() {
					return
				}
			}
		})
	}
	for lane := range lanes {
		all.Go(func() {
			name := fmt.Sprintf(`"lane %d`, lane)
			for i := range each {
				node := (lane + i) % 2
				s := b.inLane(name)
				s.Line.Limited = true
				started, err := writers[node].Start(ctx, s, func(Started, error) {})
				if err != nil {
					t.Errorf("a start: %v", err)
					return
				}
				mu.Lock()
				order[name] = append(order[name], s.Run)
				mu.Unlock()
				if started.Claimed {
					finish(node, Claimed{Workspace: s.Workspace, Run: s.Run, Workflow: s.Workflow, Pass: 1, Claim: 1, Line: s.Line})
				}
			}
		})
	}
	for node := range writers {
		going(func() bool {
			_, err := b.WakeDue(ctx)
			if err != nil && !IsUnavailable(err) {
				t.Errorf("waking: %v", err)
			}
			claimed, err := b.Claim(ctx, sessions[node], Turn{}, 2)
			if err != nil && !IsUnavailable(err) {
				t.Errorf("claiming: %v", err)
			}
			for _, c := range claimed {
				finish(node, c)
			}
			return true
		})
	}
	going(func() bool {
		var most, placed int
		if err := root.QueryRow(ctx, `SELECT coalesce(max(n), 0), coalesce(sum(n), 0) FROM (SELECT count(*) AS n FROM live WHERE state IN ('queued', 'running') GROUP BY lane) x`).Scan(&most, &placed); err != nil {
			t.Errorf("looking: %v", err)
			return false
		}
		if most > 1 || placed > places {
			t.Errorf("%d of one lane and %d in all are on their way", most, placed)
		}
		return most <= 1 && placed <= places
	})
	all.Wait()
	require.Eventually(t, func() bool { return b.count(t, "SELECT count(*) FROM live") == 0 }, time.Minute, 5*time.Millisecond, "nothing stands in line for ever")
	leave()
	helpers.Wait()
	require.Equal(t, lanes*each, b.count(t, "SELECT count(*) FROM run WHERE state = 'succeeded'"))
	require.Equal(t, order, began)
}
