package store

import (
	"context"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"youngtrellis/internal/cluster/clustertest"
	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/engine"
	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/item"
)

// proxied is a store whose way to the database can be cut.
func proxied(t *testing.T) (*bench, *clustertest.Proxy, string) {
	t.Helper()
	database := clustertest.Database(t)
	p := clustertest.NewProxy(t, database)
	return openAt(t, p.URL(), slog.New(slog.DiscardHandler)), p, database
}

func (b *bench) state(t *testing.T, run uuid.UUID) (state string, session *uuid.UUID, claim int) {
	t.Helper()
	err := b.node.QueryRow(context.Background(), "SELECT state, session_id, claim FROM live WHERE run_id = $1", run).Scan(&state, &session, &claim)
	require.NoError(t, err)
	return state, session, claim
}

// claimed is a start that this node carries out.
func (b *bench) claimed(key string) *Start {
	s := b.start(key)
	s.Claim = true
	return s
}

func within(t *testing.T, d time.Duration) context.Context {
	ctx, cancel := context.WithTimeout(context.Background(), d)
	t.Cleanup(cancel)
	return ctx
}

// Wherever a start is cut, its caller hears of a run that is there once, or the
// start is settled as one that certainly did not happen.
func TestAStartIsThereOnceWhereverItIsCut(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		name string
		cut  clustertest.Cut
	}{{"before the server hears of it", clustertest.Before}, {"within the answer", clustertest.Within}, {"when the answer to its commit is lost", clustertest.After}, {"when the server goes silent", clustertest.Mute}} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			b, p, _ := proxied(t)
			ctx := within(t, time.Minute)
			for _, key := range []string{"", "call-7"} {
				p.On("INSERT INTO start_key", c.cut, 1)
				s, err := b.begin(ctx, b.claimed(key))
				require.NoError(t, err)
				require.False(t, s.Duplicate, "its own first try is no duplicate")
				require.True(t, s.Claimed)
				state, session, claim := b.state(t, s.Run)
				require.Equal(t, "running", state)
				require.Equal(t, b.session, *session)
				require.Equal(t, 1, claim)
			}
			again, err := b.begin(ctx, b.claimed("call-7"))
			require.NoError(t, err)
			require.True(t, again.Duplicate)
			list, err := b.Runs(ctx, b.sc, RunFilter{Limit: 10})
			require.NoError(t, err)
			require.Len(t, list, 2)
		})
	}
}

// A start that is repeated after its run has ended does not bring it to life.
func TestARepeatedStartDoesNotResurrect(t *testing.T) {
	t.Parallel()
	b := open(t)
	ctx := context.Background()
	s := b.claimed("")
	started, err := b.begin(ctx, s)
	require.NoError(t, err)
	b.end(t, &End{Run: started.Run, Claim: 1, State: engine.Succeeded})
	again, err := b.begin(ctx, s)
	require.NoError(t, err)
	require.Equal(t, Started{Run: started.Run}, again, "it is told its run, and that it is not its own any more")
	require.Equal(t, 0, b.count(t, "SELECT count(*) FROM live"))
	require.Equal(t, 1, b.count(t, "SELECT count(*) FROM run"))
}

func (b *bench) count(t *testing.T, sql string, args ...any) (n int) {
	t.Helper()
	require.NoError(t, b.node.QueryRow(context.Background(), sql, args...).Scan(&n))
	return n
}

// end ends a run and tells whether that applied.
func (b *bench) end(t *testing.T, e *End) (applied bool) {
	t.Helper()
	e.Workspace = b.sc.workspace
	if e.Pass == 0 {
		e.Pass = 1
	}
	done := make(chan bool, 1)
	require.NoError(t, b.writer.End(e, func(applied bool, err error) {
		require.NoError(t, err)
		done <- applied
	}))
	return <-done
}

// A caller who leaves takes nothing along: the start is written, and settled.
func TestACallerWhoLeavesLeavesTheStartBehind(t *testing.T) {
	t.Parallel()
	b, p, database := proxied(t)
	conn := admin(t, database)
	_, err := conn.Exec(context.Background(), "BEGIN; LOCK TABLE live IN ACCESS EXCLUSIVE MODE")
	require.NoError(t, err)
	ctx, leave := context.WithTimeout(context.Background(), 100*time.Millisecond)
	defer leave()
	settled := make(chan Started, 1)
	_, err = b.writer.Start(ctx, b.claimed(""), func(s Started, err error) {
		require.NoError(t, err)
		settled <- s
	})
	require.ErrorIs(t, err, context.DeadlineExceeded)
	_, err = conn.Exec(context.Background(), "COMMIT")
	require.NoError(t, err)
	s := <-settled
	require.True(t, s.Claimed)
	state, _, _ := b.state(t, s.Run)
	require.Equal(t, "running", state)
	_ = p
}

// lines takes what is logged.
type lines chan string

// Write implements io.Writer.
func (l lines) Write(b []byte) (int, error) {
	select {
	case l <- string(b):
	default:
	}
	return len(b), nil
}

// While the database takes nothing, starts are refused and results are held,
// which is logged after a second; afterwards everything goes on.
func TestAReadOnlyDatabaseHoldsResultsAndRefusesStarts(t *testing.T) {
	t.Parallel()
	database := clustertest.Database(t)
	log := make(lines, 100)
	b := openAt(t, database, slog.New(slog.NewTextHandler(log, nil)))
	ctx := within(t, time.Minute)
	s, err := b.begin(ctx, b.claimed(""))
	require.NoError(t, err)
	clustertest.ReadOnly(t, database, true)
	held := make(chan error, 1)
	go func() { held <- b.append(ctx, s.Run, entry(0, `{"n": 1}`)) }()
	ended := make(chan bool, 1)
	_, err = b.begin(ctx, b.start(""))
	require.ErrorIs(t, err, ErrUnavailable, "the caller can try again")
	select {
	case err := <-held:
		require.Fail(t, "the entry was not held", "%v", err)
	case line := <-log:
		require.Contains(t, line, "results are held: the database does not take them")
	}
	clustertest.ReadOnly(t, database, false)
	require.NoError(t, <-held)
	require.NoError(t, b.writer.End(&End{Workspace: b.sc.workspace, Run: s.Run, Pass: 1, Claim: 1, State: engine.Succeeded, Total: -1}, func(applied bool, err error) { ended <- applied && err == nil }))
	require.True(t, <-ended)
	_, err = b.begin(ctx, b.start(""))
	require.NoError(t, err)
}

// What a database's error says decides whether it is tried again, and whose
// write it was.
func TestAnErrorOfTheDatabaseHasItsBlame(t *testing.T) {
	t.Parallel()
	b := open(t)
	ctx := context.Background()
	for sql, want := range map[string]blame{
		"SELECT 1/0": content, "SELECT E'\\xff'": content, "INSERT INTO node_session (id, node) VALUES (gen_random_uuid(), NULL)": content,
		"SELECT FROM nothing_there": odd, "SELECT nonsense(": odd,
		"DO $$ BEGIN RAISE EXCEPTION 'x' USING ERRCODE = '25006'; END $$": passing, "DO $$ BEGIN RAISE EXCEPTION 'x' USING ERRCODE = '53100'; END $$": passing,
		"DO $$ BEGIN RAISE EXCEPTION 'x' USING ERRCODE = '40P01'; END $$": passing, "DO $$ BEGIN RAISE EXCEPTION 'x' USING ERRCODE = '57014'; END $$": passing,
		"DO $$ BEGIN RAISE EXCEPTION 'x' USING ERRCODE = '58030'; END $$": passing, "DO $$ BEGIN RAISE EXCEPTION 'x' USING ERRCODE = '55P03'; END $$": passing,
		"DO $$ BEGIN RAISE EXCEPTION 'x' USING ERRCODE = '08006'; END $$": passing, "DO $$ BEGIN RAISE EXCEPTION 'x' USING ERRCODE = '54000'; END $$": content,
	} {
		_, err := b.node.Exec(ctx, sql)
		require.Error(t, err, sql)
		require.Equal(t, want, blameOf(err), sql)
		require.Equal(t, want == passing, IsUnavailable(err), sql)
	}
	require.False(t, IsUnavailable(nil))
	require.False(t, IsUnavailable(context.Canceled))
	require.Equal(t, passing, blameOf(errSilent))
}

// One bad entry fails alone, however many share its batch; and an error that
// says nothing is not tried for ever.
func TestABadEntryFailsAloneAndNothingLoopsInSilence(t *testing.T) {
	t.Parallel()
	database := clustertest.Database(t)
	b := openAt(t, database, slog.New(slog.DiscardHandler))
	ctx := within(t, time.Minute)
	s, err := b.begin(ctx, b.start(""))
	require.NoError(t, err)
	_, err = admin(t, database).Exec(ctx, `CREATE FUNCTION refuse() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN
		IF NEW.units = 13 THEN RAISE EXCEPTION 'an odd one' USING ERRCODE = 'XX000'; END IF; RETURN NEW; END $$;
		CREATE TRIGGER refuse BEFORE INSERT ON journal FOR EACH ROW EXECUTE FUNCTION refuse()`)
	require.NoError(t, err)
	var wait sync.WaitGroup
	errs := make([]error, 30)
	for i := range errs {
		wait.Go(func() {
			e := entry(uint32(i), "{}")
			switch i {
			case 11:
				e.Units = 13
			case 17:
				e.Outcome = "bad \x00 text" // PostgreSQL takes no NUL
			}
			errs[i] = b.append(ctx, s.Run, e)
		})
	}
	wait.Wait()
	for i, err := range errs {
		var refused *ContentError
		switch i {
		case 11:
			require.ErrorContains(t, err, "an odd one")
			require.NotErrorAs(t, err, &refused, "nobody knows whose fault that is")
		case 17:
			require.ErrorAs(t, err, &refused)
		default:
			require.NoError(t, err)
		}
	}
}

func TestAClosedWriterSaysSo(t *testing.T) {
	t.Parallel()
	b := open(t)
	ctx := context.Background()
	var wait sync.WaitGroup
	var refused, taken atomic.Int64
	for range 8 {
		wait.Go(func() {
			for {
				_, err := b.begin(ctx, b.start(""))
				if err != nil {
					require.ErrorIs(t, err, ErrClosed)
					refused.Add(1)
					return
				}
				taken.Add(1)
			}
		})
	}
	require.Eventually(t, func() bool { return taken.Load() > 20 }, 10*time.Second, time.Millisecond)
	b.writer.Close()
	wait.Wait()
	require.EqualValues(t, 8, refused.Load())
	require.ErrorIs(t, b.append(ctx, NewID(), entry(0, "{}")), ErrClosed)
	require.ErrorIs(t, b.writer.End(&End{}, nil), ErrClosed)
	require.Equal(t, int(taken.Load()), b.count(t, "SELECT count(*) FROM live"), "what was acknowledged is there")
	b.writer.Close() // twice is once
}

// What stands in the journal is what counts, and a write applies only with it.
func TestAppendHandsBackWhatStands(t *testing.T) {
	t.Parallel()
	b, p, _ := proxied(t)
	ctx := within(t, time.Minute)
	s, err := b.begin(ctx, b.start(""))
	require.NoError(t, err)
	first, err := b.writer.Append(ctx, b.sc.workspace, s.Run, entry(0, `{"by": "first"}`))
	require.NoError(t, err)
	require.JSONEq(t, `{"by": "first"}`, string(first.Result))
	_, err = b.node.Exec(ctx, "UPDATE live SET takeovers = 2")
	require.NoError(t, err)
	progress := Progress{Workspace: b.sc.workspace, Run: s.Run}
	second, err := b.writer.Append(ctx, b.sc.workspace, s.Run, entry(0, `{"by": "second"}`), progress)
	require.NoError(t, err)
	require.JSONEq(t, `{"by": "first"}`, string(second.Result), "another was there first")
	require.Equal(t, 2, b.count(t, "SELECT takeovers FROM live"), "and nothing was applied beside it")
	for i, cut := range []clustertest.Cut{clustertest.After, clustertest.Within, clustertest.Before} {
		_, err = b.node.Exec(ctx, "UPDATE live SET takeovers = 2")
		require.NoError(t, err)
		p.On("INSERT INTO journal", cut, 1)
		n := uint32(1 + i)
		third, err := b.writer.Append(ctx, b.sc.workspace, s.Run, entry(n, `{"by": "third"}`), progress)
		require.NoError(t, err)
		require.JSONEq(t, `{"by": "third"}`, string(third.Result), "a repeat of our own is our own")
		require.Equal(t, 0, b.count(t, "SELECT takeovers FROM live"))
	}
	_, err = b.writer.Append(ctx, b.sc.workspace, s.Run, entry(9, "{}"), foreignWrite{})
	require.ErrorContains(t, err, "not a change of our own state")
}

type foreignWrite struct{}

func (foreignWrite) JournalWrite() {}

// An end that is repeated under another owner, or under the next claim of the
// same one, touches nothing.
func TestAnEndTouchesOnlyItsOwnClaim(t *testing.T) {
	t.Parallel()
	b, p, _ := proxied(t)
	ctx := within(t, time.Minute)
	s, err := b.begin(ctx, b.claimed(""))
	require.NoError(t, err)
	p.On("session_id = NULL", clustertest.After, 1)
	applied := b.end(t, &End{Run: s.Run, Claim: 1, State: engine.Queued, Total: -1})
	require.False(t, applied, "the first try did it; the repeat found nothing of its own")
	claimed, err := b.Claim(ctx, b.session, Turn{}, 5)
	require.NoError(t, err)
	require.Len(t, claimed, 1)
	require.Equal(t, 2, claimed[0].Claim)
	require.False(t, b.end(t, &End{Run: s.Run, Claim: 1, State: engine.Succeeded, Total: -1}), "the former claim has no say")
	require.False(t, b.end(t, &End{Run: s.Run, Claim: 2, Pass: 7, State: engine.Succeeded, Total: -1}), "nor has another pass")
	state, session, claim := b.state(t, s.Run)
	require.Equal(t, "running", state)
	require.Equal(t, b.session, *session)
	require.Equal(t, 2, claim)
	other := b.NewCommitter(mustSession(t, b, "node-b"), slog.New(slog.DiscardHandler), nil)
	t.Cleanup(other.Close)
	done := make(chan bool, 1)
	require.NoError(t, other.End(&End{Workspace: b.sc.workspace, Run: s.Run, Pass: 1, Claim: 2, State: engine.Succeeded, Total: -1}, func(applied bool, _ error) { done <- applied }))
	require.False(t, <-done, "nor has another node")
	require.True(t, b.end(t, &End{Run: s.Run, Claim: 2, State: engine.Succeeded, Total: -1}))
	require.Equal(t, 0, b.count(t, "SELECT count(*) FROM live"))
}

func mustSession(t *testing.T, b *bench, node string) uuid.UUID {
	id, err := b.OpenSession(context.Background(), node)
	require.NoError(t, err)
	return id
}

// A cancel that was acknowledged is obeyed by whatever comes next: a park, a
// hand-back, an end, a claim, a takeover.
func TestACancelIsObeyedByEverythingThatFollows(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		name string
		next func(t *testing.T, b *bench, run uuid.UUID)
	}{
		{"a park", func(t *testing.T, b *bench, run uuid.UUID) {
			wake := time.Now().Add(time.Hour)
			require.True(t, b.end(t, &End{Run: run, Claim: 1, State: engine.WaitingOn, Wake: &wake, Reason: call.ReasonToldToWait, Total: -1}))
		}},
		{"a hand-back", func(t *testing.T, b *bench, run uuid.UUID) {
			require.True(t, b.end(t, &End{Run: run, Claim: 1, State: engine.Queued, Total: -1}))
		}},
		{"an end", func(t *testing.T, b *bench, run uuid.UUID) {
			require.True(t, b.end(t, &End{Run: run, Claim: 1, State: engine.FailedRun, Message: "it failed", Total: -1}))
		}},
		{"a takeover", func(t *testing.T, b *bench, _ uuid.UUID) {
			taken, err := b.TakeOver(context.Background(), b.session, 0)
			require.NoError(t, err)
			require.True(t, taken)
		}},
		{"the node's own restart", func(t *testing.T, b *bench, _ uuid.UUID) { mustSession(t, b, "node-a") }},
		{"an orderly stop", func(t *testing.T, b *bench, _ uuid.UUID) {
			require.NoError(t, b.CloseSession(context.Background(), b.session))
		}},
		{"a hand-back by reconciling, and a claim", func(t *testing.T, b *bench, run uuid.UUID) {
			ctx := context.Background()
			require.NoError(t, b.HandBack(ctx, b.session, []Owned{{b.sc.workspace, run, 1}}))
			claimed, err := b.Claim(ctx, mustSession(t, b, "node-b"), Turn{}, 5)
			require.NoError(t, err)
			require.Empty(t, claimed)
		}},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			b := open(t)
			ctx := context.Background()
			s, err := b.begin(ctx, b.claimed(""))
			require.NoError(t, err)
			ended, err := b.CancelRun(ctx, b.sc, s.Run)
			require.NoError(t, err)
			require.False(t, ended, "it is on its way")
			c.next(t, b, s.Run)
			r, err := b.Run(ctx, b.sc, s.Run)
			require.NoError(t, err)
			require.Equal(t, "cancelled", r.State)
			require.Equal(t, "cancelled by Mara Quill", r.Message)
		})
	}
}

// Every batch tells the node which of its runs somebody wants to end.
func TestEveryBatchTellsOfCancels(t *testing.T) {
	t.Parallel()
	b := open(t)
	ctx := within(t, time.Minute)
	heard := make(chan []Cancelled, 10)
	w := b.NewCommitter(b.session, slog.New(slog.DiscardHandler), func(list []Cancelled) { heard <- list })
	t.Cleanup(w.Close)
	start := b.claimed("")
	s, err := w.Start(ctx, start, func(Started, error) {})
	require.NoError(t, err)
	for want := 1; want <= 2; want++ {
		_, err = b.CancelRun(ctx, b.sc, s.Run)
		require.NoError(t, err)
		_, err = w.Append(ctx, b.sc.workspace, s.Run, entry(uint32(want), "{}"))
		require.NoError(t, err)
		require.Equal(t, []Cancelled{{Run: s.Run, Cancel: want}}, <-heard)
	}
	_, err = b.CancelRun(ctx, b.sc, s.Run)
	require.NoError(t, err)
	list, err := b.Cancelled(ctx, b.session)
	require.NoError(t, err)
	require.Equal(t, []Cancelled{{Run: s.Run, Cancel: 2}}, list)
}

// What a node brings after it has lost its run is taken in, whenever it comes,
// and never in place of what somebody has decided since.
func TestStraysAreTakenInHoweverLate(t *testing.T) {
	t.Parallel()
	b := open(t)
	ctx := context.Background()
	s, err := b.begin(ctx, b.claimed(""))
	require.NoError(t, err)
	doubt := entry(0, "")
	doubt.Outcome, doubt.Failure = engine.Unknown, &call.Failure{Class: call.InDoubt, Message: "may have been sent"}
	taken, err := b.TakeOver(ctx, b.session, 0)
	require.NoError(t, err)
	require.True(t, taken)
	next := mustSession(t, b, "node-b")
	owner := b.NewCommitter(next, slog.New(slog.DiscardHandler), nil)
	t.Cleanup(owner.Close)
	claimed, err := b.Claim(ctx, next, Turn{}, 5)
	require.NoError(t, err)
	require.Len(t, claimed, 1)
	_, err = owner.Append(ctx, b.sc.workspace, s.Run, doubt)
	require.NoError(t, err)
	_, err = owner.Append(ctx, b.sc.workspace, s.Run, entry(1, `{"by": "the new owner"}`))
	require.NoError(t, err)

	for i := range uint32(3) { // the woken node brings what it still held
		require.ErrorIs(t, b.append(ctx, s.Run, entry(i, `{"by": "the old owner"}`)), ErrFenced)
	}
	require.Equal(t, 3, b.count(t, "SELECT count(*) FROM stray"))
	require.NoError(t, b.Adopt(ctx, next))
	require.Zero(t, b.count(t, "SELECT count(*) FROM stray"))
	j := &RunJournal{Store: b.Store, Workspace: b.sc.workspace, Run: s.Run}
	got, err := j.Entries(ctx, 1, 2, "", []item.Address{item.Root(0), item.Root(1), item.Root(2)})
	require.NoError(t, err)
	by := map[item.Address]string{}
	for _, e := range got {
		require.Equal(t, engine.Done, e.Outcome)
		by[e.Address] = string(e.Result)
	}
	require.Contains(t, by[item.Root(0)], "the old owner", "what nobody knew is known now")
	require.Contains(t, by[item.Root(1)], "the new owner", "what stands stays")
	require.Contains(t, by[item.Root(2)], "the old owner")

	// The run has ended, and somebody has decided about another such item.
	done := make(chan bool, 1)
	require.NoError(t, owner.End(&End{Workspace: b.sc.workspace, Run: s.Run, Pass: 1, Claim: 2, State: engine.Partial, Total: -1}, func(applied bool, _ error) { done <- applied }))
	require.True(t, <-done)
	require.NoError(t, b.NewPass(ctx, b.sc, s.Run, Pass{Kind: "retry", Chosen: []string{"0"}, Revision: 1}))
	require.ErrorIs(t, b.append(ctx, s.Run, entry(3, `{"by": "the old owner"}`)), ErrFenced)
	third := mustSession(t, b, "node-c")
	_, err = b.Claim(ctx, third, Turn{}, 5)
	require.NoError(t, err)
	require.NoError(t, b.Adopt(ctx, third))
	require.Zero(t, b.count(t, "SELECT count(*) FROM journal WHERE address = $1", []byte(item.Root(3))), "it belongs to a pass that is over")
	require.Zero(t, b.count(t, "SELECT count(*) FROM stray"))

	require.ErrorIs(t, b.append(ctx, NewID(), entry(4, "{}")), ErrFenced)
	_, err = b.node.Exec(ctx, "UPDATE stray SET came = now() - interval '2 hours'")
	require.NoError(t, err)
	require.NoError(t, b.AdoptEnded(ctx))
	require.Zero(t, b.count(t, "SELECT count(*) FROM stray"), "and what belongs to no run is swept")
}

// A node that goes silent in the middle of a batch does not keep its takeover
// waiting; nobody else's sessions are ended for it.
func TestATakeoverEndsOnlyWhatBlocksIt(t *testing.T) {
	t.Parallel()
	database := clustertest.Database(t)
	b := openAt(t, database, slog.New(slog.DiscardHandler))
	ctx := within(t, time.Minute)
	s, err := b.begin(ctx, b.claimed(""))
	require.NoError(t, err)
	named := func(name string) *pgx.Conn {
		c := admin(t, database)
		_, err := c.Exec(ctx, "SET application_name = '"+name+"'")
		require.NoError(t, err)
		return c
	}
	// The first half of a batch has reached the server and holds the session's
	// row; then nothing is heard any more.
	silent, bystander := named("trellis node-a"), named("trellis node-c")
	_, err = silent.Exec(ctx, "BEGIN")
	require.NoError(t, err)
	_, err = silent.Exec(ctx, "SELECT hold_session($1)", b.session)
	require.NoError(t, err)

	other := openOther(t, database, "node-b")
	began := time.Now()
	taken, err := other.TakeOver(ctx, b.session, 0)
	require.NoError(t, err)
	require.True(t, taken)
	require.Less(t, time.Since(began), 8*time.Second)
	require.Error(t, silent.Ping(ctx), "the dead node's session was ended")
	require.NoError(t, bystander.Ping(ctx))
	next, err := other.OpenSession(ctx, "node-b")
	require.NoError(t, err)
	claimed, err := other.Claim(ctx, next, Turn{}, 5)
	require.NoError(t, err)
	require.Equal(t, s.Run, claimed[0].Run)

	// A takeover that another node holds up ends nothing of that one.
	_, err = bystander.Exec(ctx, "BEGIN")
	require.NoError(t, err)
	_, err = bystander.Exec(ctx, "SELECT hold_session($1)", next)
	require.NoError(t, err)
	waiting, stop := context.WithTimeout(ctx, 2*time.Second)
	defer stop()
	taken, err = b.TakeOver(waiting, next, 0)
	require.Error(t, err)
	require.False(t, taken)
	require.NoError(t, bystander.Ping(ctx))
}

// A node that starts anew does not wait for what its former self has left half said,
// also where no other node is there to end that.
func TestANodeThatStartsAnewEndsWhatItHadLeft(t *testing.T) {
	t.Parallel()
	database := clustertest.Database(t)
	b := openAt(t, database, slog.New(slog.DiscardHandler))
	ctx := within(t, time.Minute)
	s, err := b.begin(ctx, b.claimed(""))
	require.NoError(t, err)
	silent := admin(t, database)
	for _, sql := range []string{"SET application_name = 'trellis node-a'", "BEGIN", "SELECT hold_session('" + b.session.String() + "')"} {
		_, err = silent.Exec(ctx, sql)
		require.NoError(t, err)
	}
	began := time.Now()
	next, err := openOther(t, database, "node-a").OpenSession(ctx, "node-a")
	require.NoError(t, err)
	require.Less(t, time.Since(began), 8*time.Second)
	require.Error(t, silent.Ping(ctx), "that was ended")
	claimed, err := b.Claim(ctx, next, Turn{}, 5)
	require.NoError(t, err)
	require.Equal(t, s.Run, claimed[0].Run)
}

func openOther(t *testing.T, database, node string) *Store {
	t.Helper()
	s, err := Open(context.Background(), database, node)
	require.NoError(t, err)
	t.Cleanup(s.Close)
	return s
}

// The server has heard a batch but for its end when the connection goes silent,
// and holds what a repeat of the batch wants. Nobody takes over from a node that
// lives, so it helps itself.
func TestABatchThatTheServerStillHoldsIsRepeated(t *testing.T) {
	t.Parallel()
	b, p, database := proxied(t)
	ctx := within(t, time.Minute)
	s, err := b.begin(ctx, b.claimed(""))
	require.NoError(t, err)
	stuck := p.On(cancelledSQL, clustertest.Stuck, 1)
	began := time.Now()
	require.NoError(t, b.append(ctx, s.Run, entry(0, `{"n": 1}`)))
	select {
	case <-stuck:
	case <-ctx.Done():
		t.Fatal("the batch never asked who wants an end")
	}
	require.Less(t, time.Since(began), 2*answerWithin)
	require.NoError(t, b.Beat(ctx, b.session), "its lease is as it was")
	var n int
	require.NoError(t, admin(t, database).QueryRow(ctx, "SELECT count(*) FROM journal WHERE step > 0").Scan(&n))
	require.Equal(t, 1, n)
}

// A connection that has gone silent is found within seconds, and so are those
// beside it.
func TestSilentConnectionsAreGivenUp(t *testing.T) {
	t.Parallel()
	b, p, _ := proxied(t)
	ctx := within(t, time.Minute)
	s, err := b.begin(ctx, b.claimed(""))
	require.NoError(t, err)
	var warm sync.WaitGroup // so that several are open
	for range 8 {
		warm.Go(func() { _, _ = b.node.Exec(ctx, "SELECT pg_sleep(0.05)") })
	}
	warm.Wait()
	p.Silence()
	began := time.Now()
	j := &RunJournal{Store: b.Store, Workspace: b.sc.workspace, Run: s.Run}
	for err = ErrUnavailable; err != nil; {
		_, err = j.Page(ctx, engine.Key{Pass: 1})
		require.True(t, err == nil || IsUnavailable(err), "%v", err)
	}
	require.NoError(t, b.append(ctx, s.Run, entry(0, "{}")))
	require.NoError(t, b.Beat(ctx, b.session))
	require.Less(t, time.Since(began), 3*answerWithin, "the first to notice tells for all")
}

// Claims take the workspaces in turn, and each claim begins after the one that
// was served last.
func TestClaimsAreFairAtAnyLength(t *testing.T) {
	t.Parallel()
	b := open(t)
	ctx := within(t, time.Minute)
	flood := b.queue(t, 1200)
	quiet := b.another(t)
	one := quiet.queue(t, 1)
	claimed, err := b.Claim(ctx, b.session, Turn{}, 4)
	require.NoError(t, err)
	runs := map[uuid.UUID]bool{}
	for _, c := range claimed {
		runs[c.Run] = true
	}
	require.True(t, runs[one[0]], "the other workspace's only run is among the first")
	require.True(t, runs[flood[0]] && runs[flood[1]], "and the flood's oldest are")

	many := make([]*bench, 9)
	for i := range many {
		many[i] = b.another(t)
		many[i].queue(t, 3)
	}
	served := map[uuid.UUID]int{}
	after := uuid.Nil
	for range 9 { // three at a time, from ten workspaces
		claimed, err := b.Claim(ctx, b.session, Turn{After: after}, 3)
		require.NoError(t, err)
		require.Len(t, claimed, 3)
		for _, c := range claimed {
			served[c.Workspace]++
			after = c.Workspace
		}
	}
	for _, m := range many {
		require.GreaterOrEqual(t, served[m.sc.workspace], 1, "nobody waits for the flood")
	}
	left, err := b.Claim(ctx, b.session, Turn{Without: []uuid.UUID{b.sc.workspace}}, 64)
	require.NoError(t, err)
	for _, c := range left {
		require.NotEqual(t, b.sc.workspace, c.Workspace)
	}
}

// queue starts so many runs that nobody carries out.
func (b *bench) queue(t *testing.T, n int) []uuid.UUID {
	t.Helper()
	runs := make([]uuid.UUID, n)
	var wait sync.WaitGroup
	for i := range runs {
		s := b.start("")
		runs[i] = s.Run
		wait.Go(func() {
			_, err := b.begin(context.Background(), s)
			require.NoError(t, err)
		})
	}
	wait.Wait()
	return runs
}

// another is a further workspace of the same store.
func (b *bench) another(t *testing.T) *bench {
	t.Helper()
	ctx := context.Background()
	sc, err := b.CreateOwner(ctx, "Another workspace", fmt.Sprintf("%s@ottermere.example", NewID()), "Somebody", "a password to test")
	require.NoError(t, err)
	w := live(t, b.Store, sc)
	return &bench{Store: b.Store, sc: sc, workflow: w, session: b.session, writer: b.writer}
}

// A node neither begins nor takes on a run whose functions it does not know, also
// where a later pass of it is the first that uses them.
func TestARunWaitsForANodeThatKnowsItsFunctions(t *testing.T) {
	t.Parallel()
	b := open(t)
	ctx := context.Background()
	newer := func(by int) {
		_, err := b.node.Exec(ctx, "UPDATE revision SET library = $1", expr.Library+by)
		require.NoError(t, err)
	}
	known := b.claimed("")
	started, err := b.begin(ctx, known)
	require.NoError(t, err)
	require.True(t, started.Claimed)

	newer(1)
	s := b.claimed("")
	started, err = b.begin(ctx, s)
	require.NoError(t, err)
	require.False(t, started.Claimed, "it is taken in all the same")
	state, _, _ := b.state(t, s.Run)
	require.Equal(t, "queued", state)
	taken, err := b.Claim(ctx, b.session, Turn{}, 10)
	require.NoError(t, err)
	require.Empty(t, taken)

	b.end(t, &End{Run: known.Run, Claim: 1, State: engine.FailedRun})
	require.NoError(t, b.NewPass(ctx, b.sc, known.Run, Pass{Kind: "resume"}))
	taken, err = b.Claim(ctx, b.session, Turn{}, 10)
	require.NoError(t, err)
	require.Empty(t, taken)

	newer(0)
	late := b.start("")
	_, err = b.begin(ctx, late)
	require.NoError(t, err)
	taken, err = b.Claim(ctx, b.session, Turn{}, 10)
	require.NoError(t, err)
	require.Len(t, taken, 1, "others are not held up")
	require.Equal(t, late.Run, taken[0].Run)
}

// A claimed run that nobody has carried out brings its items along.
func TestAClaimBringsTheItemsOfWhatBegins(t *testing.T) {
	t.Parallel()
	b := open(t)
	ctx := context.Background()
	small, large, none := b.start(""), b.start(""), b.start("")
	large.Items = [][]byte{[]byte(`[{"n": 1}]`), []byte(`[{"n": 2}]`), []byte(`[{"n": 3}]`)}
	large.Ordinals = []uint32{0, 1, 2}
	none.Items = nil
	for _, s := range []*Start{small, large, none} {
		_, err := b.begin(ctx, s)
		require.NoError(t, err)
	}
	claimed, err := b.Claim(ctx, b.session, Turn{}, 10)
	require.NoError(t, err)
	require.Len(t, claimed, 3)
	for _, c := range claimed {
		require.True(t, c.Begins())
		source := &TriggerItems{RunJournal: &RunJournal{Store: b.Store, Workspace: c.Workspace, Run: c.Run}, First: c.First, Whole: c.Whole}
		require.Equal(t, c.Run != large.Run, c.Whole)
		var all []map[string]any
		for page := 0; ; page++ {
			got, err := source.Page(ctx, page)
			if err != nil {
				break
			}
			require.Equal(t, uint32(len(all)), got.First)
			all = append(all, got.Items...)
		}
		for n := range all {
			page, err := source.Find(ctx, uint32(n))
			require.NoError(t, err)
			require.Equal(t, n, page, "one item a page")
		}
		require.Len(t, all, map[uuid.UUID]int{small.Run: 1, large.Run: 3, none.Run: 0}[c.Run])
	}
}

// What is due wakes, and every node is told.
func TestWhatIsDueWakesAndEveryNodeIsTold(t *testing.T) {
	t.Parallel()
	b := open(t)
	ctx := within(t, time.Minute)
	var heard atomic.Int64
	listening, stop := context.WithCancel(ctx)
	done := make(chan struct{})
	go func() {
		defer close(done)
		b.Listen(listening, func(channel string) {
			if channel == QueueChannel {
				heard.Add(1)
			}
		})
	}()
	require.Eventually(t, func() bool {
		_, err := b.node.Exec(ctx, "NOTIFY trellis_queue")
		return err == nil && heard.Load() > 0
	}, 10*time.Second, 10*time.Millisecond)
	s, err := b.begin(ctx, b.claimed(""))
	require.NoError(t, err)
	past := time.Now().Add(-time.Second)
	require.True(t, b.end(t, &End{Run: s.Run, Claim: 1, State: engine.WaitingOn, Reason: call.ReasonToldToWait, Wake: &past, Total: -1}))
	before := heard.Load()
	n, err := b.WakeDue(ctx)
	require.NoError(t, err)
	require.EqualValues(t, 1, n)
	require.Eventually(t, func() bool { return heard.Load() > before }, 10*time.Second, 10*time.Millisecond)
	stop()
	<-done
}

// handed is a part of a workspace, that is not written.
type handed struct {
	workspace uuid.UUID
	n, bytes  int
}

func (h *handed) of() uuid.UUID { return h.workspace }
func (h *handed) size() int     { return h.bytes }
func (*handed) join(*batch)     {}
func (*handed) settle(error)    {}

// What one workspace hands in waits for little of what another has handed in before,
// and in its own order.
func TestBatchesAreShared(t *testing.T) {
	t.Parallel()
	loud, quiet, third := uuid.New(), uuid.New(), uuid.New()
	hand := func(c *Committer, of uuid.UUID, from, n, bytes int) {
		for i := range n {
			require.NoError(t, c.hand(&write{part: &handed{of, from + i, bytes}}))
		}
	}
	count := func(list []*write) map[uuid.UUID]int {
		out := map[uuid.UUID]int{}
		for _, w := range list {
			out[w.of()]++
		}
		return out
	}
	fresh := func() *Committer { return &Committer{line: map[uuid.UUID]int{}, more: make(chan struct{}, 1)} }

	c := fresh()
	hand(c, loud, 0, 1000, 10)
	require.Len(t, c.take(), batchMost, "alone it has all of a long batch")
	hand(c, quiet, 0, 3, 10)
	require.Equal(t, map[uuid.UUID]int{loud: batchMixed - 3, quiet: 3}, count(c.take()))
	require.Len(t, c.take(), batchMixed, "and batches stay short for a while")
	hand(c, quiet, 3, 100, 10)
	hand(c, third, 0, 100, 10)
	require.Equal(t, map[uuid.UUID]int{loud: 22, quiet: 21, third: 21}, count(c.take()))
	c.mixed = time.Now().Add(-time.Hour)
	order := map[uuid.UUID]int{loud: 512 + batchMixed - 3 + batchMixed + 22, quiet: 3 + 21, third: 21}
	for len(c.queue) > 0 {
		for _, w := range c.take() {
			require.Equal(t, order[w.of()], w.part.(*handed).n, "each keeps its order")
			order[w.of()]++
		}
	}
	require.Equal(t, map[uuid.UUID]int{loud: 1000, quiet: 103, third: 100}, order, "and none is lost")
	require.Empty(t, c.line)

	c = fresh()
	hand(c, loud, 0, 10, batchByte/2)
	hand(c, quiet, 0, 1, batchByte/4)
	require.Equal(t, map[uuid.UUID]int{loud: 1, quiet: 1}, count(c.take()), "however long they are")
	hand(c, quiet, 1, 1, 2*batchByte)
	for len(c.queue) > 0 {
		require.NotEmpty(t, c.take(), "one that is too long goes alone")
	}

	// Everything at random: nothing is lost, nothing overtaken, nothing too much.
	r := rand.New(rand.NewPCG(7, 7))
	c = fresh()
	put, got := map[uuid.UUID]int{}, map[uuid.UUID]int{}
	for range 3000 {
		of := []uuid.UUID{loud, loud, loud, quiet, third}[r.IntN(5)]
		n := r.IntN(20)
		hand(c, of, put[of], n, r.IntN(batchByte/8))
		put[of] += n
		if r.IntN(2) == 0 && len(c.queue) > 0 {
			bytes, list := 0, c.take()
			require.NotEmpty(t, list)
			require.LessOrEqual(t, len(list), batchMost)
			for _, w := range list {
				require.Equal(t, got[w.of()], w.part.(*handed).n)
				got[w.of()]++
				bytes += w.size()
			}
			require.True(t, bytes <= batchByte || len(list) == 1)
		}
	}
	for len(c.queue) > 0 {
		for _, w := range c.take() {
			got[w.of()]++
		}
	}
	require.Equal(t, put, got)
}
