package store

import (
	"context"
	"fmt"
	"log/slog"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"youngtrellis/internal/cluster/clustertest"
	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/engine"
	"youngtrellis/internal/core/item"
)

func TestMain(m *testing.M) { clustertest.Main(m) }

type bench struct {
	*Store
	sc       Scope
	workflow Workflow
	session  uuid.UUID
	writer   *Committer
}

func open(t *testing.T) *bench {
	t.Helper()
	return openAt(t, clustertest.Database(t), slog.New(slog.DiscardHandler))
}

func openAt(t *testing.T, address string, log *slog.Logger) *bench {
	t.Helper()
	ctx := context.Background()
	s, err := Open(ctx, address, "node-a")
	require.NoError(t, err)
	b := &bench{Store: s}
	b.sc, err = s.CreateOwner(ctx, "Ottermere Clayworks", "mara@ottermere.example", "Mara Quill", "a password to test")
	require.NoError(t, err)
	b.workflow = live(t, s, b.sc)
	b.session, err = s.OpenSession(ctx, "node-a")
	require.NoError(t, err)
	b.writer = s.NewCommitter(b.session, log, nil)
	t.Cleanup(func() { b.writer.Close(); s.Close() })
	return b
}

// live makes a workflow that is live.
func live(t *testing.T, s *Store, sc Scope) Workflow {
	t.Helper()
	ctx := context.Background()
	_, err := s.CreateWorkflow(ctx, sc, "loads", "Loads", "format: young-trellis/1\n")
	require.NoError(t, err)
	w, err := s.GoLive(ctx, sc, "loads", GoingLive{})
	require.NoError(t, err)
	return w
}

// admin is a connection of the test's own, as the database's owner.
func admin(t *testing.T, database string) *pgx.Conn {
	t.Helper()
	c, err := pgx.Connect(context.Background(), database)
	require.NoError(t, err)
	t.Cleanup(func() { _ = c.Close(context.Background()) })
	return c
}

func (b *bench) start(key string) *Start {
	return &Start{Workspace: b.sc.workspace, Workflow: b.workflow.ID, Run: NewID(), Revision: 1, Trigger: "manual", By: "a test", Items: [][]byte{[]byte(`[{"n": 1}]`)}, Key: key, Expires: time.Now().Add(time.Hour), Accepted: time.Now()}
}

// begin starts a run and gives how that was settled.
func (b *bench) begin(ctx context.Context, s *Start) (Started, error) {
	return b.writer.Start(ctx, s, func(Started, error) {})
}

// append makes an entry durable.
func (b *bench) append(ctx context.Context, run uuid.UUID, e *engine.Entry) error {
	_, err := b.writer.Append(ctx, b.sc.workspace, run, e)
	return err
}

func entry(n uint32, result string) *engine.Entry {
	return &engine.Entry{Key: engine.Key{Pass: 1, Step: 2, Address: item.Root(n)}, Outcome: engine.Done, Attempts: 1, Started: time.Now(), Ended: time.Now(), Units: 1, Result: []byte(result), Request: &call.Sent{Method: "POST", URL: "https://x.example"}}
}

func TestAKeyStartsOneRunHoweverManyAsk(t *testing.T) {
	t.Parallel()
	b := open(t)
	const callers = 64
	runs := make([]Started, callers)
	var wait sync.WaitGroup
	for i := range callers {
		wait.Go(func() {
			var err error
			runs[i], err = b.begin(context.Background(), b.start(fmt.Sprintf("call-%d", i%4)))
			require.NoError(t, err)
		})
	}
	wait.Wait()
	fresh := map[uuid.UUID]int{}
	for _, r := range runs {
		if !r.Duplicate {
			fresh[r.Run]++
		}
	}
	require.Len(t, fresh, 4)
	for _, r := range runs {
		require.Contains(t, fresh, r.Run, "a duplicate is told the run that there is")
	}
	list, err := b.Runs(context.Background(), b.sc, RunFilter{Limit: 100})
	require.NoError(t, err)
	require.Len(t, list, 4)
}

// Starts that are made together are made all or none; a key that stands, also in one of
// them, starts nothing again.
func TestStartsThatAreMadeTogether(t *testing.T) {
	t.Parallel()
	b := open(t)
	ctx := within(t, time.Minute)
	known, err := b.begin(ctx, b.start("b"))
	require.NoError(t, err)
	list := []*Start{b.start("a"), b.start("b"), b.start(""), b.start("c"), b.start("c")}
	heard := make([]Started, len(list))
	got, err := b.writer.StartAll(ctx, list, func(i int, s Started, err error) {
		require.NoError(t, err)
		heard[i] = s
	})
	require.NoError(t, err)
	require.Equal(t, heard, got)
	require.Equal(t, Started{Run: list[0].Run}, got[0])
	require.Equal(t, Started{Run: known.Run, Duplicate: true}, got[1])
	require.Equal(t, Started{Run: list[2].Run}, got[2])
	require.Equal(t, Started{Run: list[3].Run}, got[3])
	require.Equal(t, Started{Run: list[3].Run, Duplicate: true}, got[4])

	bad := b.start("e")
	bad.Label = "\x00"
	refused := 0
	_, err = b.writer.StartAll(ctx, []*Start{b.start("d"), bad, b.start("f")}, func(_ int, _ Started, err error) {
		require.Error(t, err)
		refused++
	})
	var content *ContentError
	require.ErrorAs(t, err, &content)
	require.Equal(t, 3, refused)
	runs, err := b.Runs(ctx, b.sc, RunFilter{Limit: 100})
	require.NoError(t, err)
	require.Len(t, runs, 4, "nothing of what could not be stored")
	none, err := b.writer.StartAll(ctx, nil, nil)
	require.NoError(t, err)
	require.Empty(t, none)
}

func TestAnExpiredKeyStartsAgain(t *testing.T) {
	t.Parallel()
	b := open(t)
	s := b.start("x")
	s.Expires = time.Now().Add(-time.Second)
	_, err := b.begin(context.Background(), s)
	require.NoError(t, err)
	again, err := b.begin(context.Background(), b.start("x"))
	require.NoError(t, err)
	require.False(t, again.Duplicate)
}

func TestEntriesComeBackAsTheyWere(t *testing.T) {
	t.Parallel()
	b := open(t)
	ctx := context.Background()
	s, err := b.begin(ctx, b.start(""))
	require.NoError(t, err)
	long := `{"text": "` + fmt.Sprintf("%05000d", 7) + `", "id": 1234567890123456789}`
	e := entry(0, long)
	e.Failure = &call.Failure{Class: call.Refused, Status: 422, Message: "no"}
	e.InputHash = []byte{1, 2, 3}
	require.NoError(t, b.append(ctx, s.Run, e))
	require.NoError(t, b.append(ctx, s.Run, entry(0, "{}")), "a repeat of unknown fate changes nothing")
	j := &RunJournal{Store: b.Store, Workspace: b.sc.workspace, Run: s.Run}
	got, err := j.Entries(ctx, 1, 2, "", []item.Address{item.Root(0), item.Root(1)})
	require.NoError(t, err)
	require.Len(t, got, 1)
	require.Equal(t, long, string(got[0].Result))
	require.Nil(t, got[0].Request, "what was sent is only read to be shown")
	whole, err := j.Page(ctx, e.Key)
	require.NoError(t, err)
	require.Equal(t, e.Request, whole.Request)
	require.Equal(t, "no", got[0].Failure.Message)
	require.Equal(t, e.Ended.UTC().Truncate(time.Microsecond), got[0].Ended)
	items, err := (&TriggerItems{RunJournal: j}).Page(ctx, 0)
	require.NoError(t, err)
	require.Equal(t, []map[string]any{{"n": int64(1)}}, items.Items)
	other := &RunJournal{Store: b.Store, Workspace: uuid.New(), Run: s.Run}
	none, err := other.Page(ctx, e.Key)
	require.NoError(t, err)
	require.Nil(t, none, "the journal is kept by workspace")
}

// Only what had begun counts the death of its owner; of suspects that were
// claimed together, that is the one that says so.
func TestOnlyRunsThatHadBegunCountATakeover(t *testing.T) {
	t.Parallel()
	b := open(t)
	ctx := context.Background()
	var runs []uuid.UUID
	for range 4 {
		s, err := b.begin(ctx, b.start(""))
		require.NoError(t, err)
		runs = append(runs, s.Run)
	}
	die := func() {
		t.Helper()
		beats, err := b.Beats(ctx)
		require.NoError(t, err)
		for session, beat := range beats {
			_, err = b.TakeOver(ctx, session, beat)
			require.NoError(t, err)
		}
	}
	claim := func() (session uuid.UUID, takeovers map[uuid.UUID]int, unbegun int) {
		t.Helper()
		session, err := b.OpenSession(ctx, "node-b")
		require.NoError(t, err)
		claimed, err := b.Claim(ctx, session, Turn{}, 10)
		require.NoError(t, err)
		require.Len(t, claimed, len(runs))
		takeovers = map[uuid.UUID]int{}
		for _, c := range claimed {
			takeovers[c.Run] = c.Takeovers
			if c.Unbegun {
				unbegun++
			}
		}
		return session, takeovers, unbegun
	}
	for want := range Suspect { // all are carried out together
		_, takeovers, unbegun := claim()
		require.Equal(t, map[uuid.UUID]int{runs[0]: want, runs[1]: want, runs[2]: want, runs[3]: want}, takeovers)
		require.Zero(t, unbegun)
		die()
	}
	session, _, unbegun := claim()
	require.Equal(t, len(runs), unbegun)
	claimOf := func(run uuid.UUID) Owned { return Owned{Workspace: b.sc.workspace, Run: run, Claim: 3} }
	require.NoError(t, b.Begin(ctx, session, claimOf(runs[1])))
	require.ErrorIs(t, b.Begin(ctx, session, Owned{Workspace: b.sc.workspace, Run: runs[2], Claim: 2}), ErrFenced, "an older claim begins nothing")
	require.ErrorIs(t, b.Begin(ctx, b.session, claimOf(runs[2])), ErrFenced, "nor does another's session")
	die()
	_, takeovers, _ := claim()
	require.Equal(t, map[uuid.UUID]int{runs[0]: 2, runs[1]: 3, runs[2]: 2, runs[3]: 2}, takeovers)

	// Nodes die of other workflows as well.
	other := func(begun string) {
		_, err := b.node.Exec(ctx, "INSERT INTO node_session (id, node, ended, begun) VALUES ($1, 'node-c', now(), $2::uuid[])", uuid.New(), begun)
		require.NoError(t, err)
	}
	die()
	claims := 4
	again := func() int {
		claims++
		session, _, _ := claim()
		o := claimOf(runs[1])
		o.Claim = claims
		require.NoError(t, b.Begin(ctx, session, o))
		die()
		var n int
		require.NoError(t, b.node.QueryRow(ctx, "SELECT takeovers FROM live WHERE run_id = $1", runs[1]).Scan(&n))
		return n
	}
	_, err := b.node.Exec(ctx, "UPDATE node_session SET ended = ended - interval '3 minutes'")
	require.NoError(t, err)
	require.Equal(t, 4, again())
	other("{}")
	require.Equal(t, 5, again(), "one may be as guilty as it is")
	other("{" + uuid.New().String() + "}")
	require.Equal(t, 5, again(), "with more of them it is not the runs")
	_, err = b.node.Exec(ctx, "UPDATE node_session SET ended = ended - interval '3 minutes'")
	require.NoError(t, err)
	require.Equal(t, 6, again(), "but it is once nodes live otherwise")
}

func TestAnEndedSessionWritesNothingMore(t *testing.T) {
	t.Parallel()
	b := open(t)
	ctx := context.Background()
	claimed := b.start("")
	claimed.Claim = true
	s, err := b.begin(ctx, claimed)
	require.NoError(t, err)
	require.True(t, s.Claimed)
	beats, err := b.Beats(ctx)
	require.NoError(t, err)
	taken, err := b.TakeOver(ctx, b.session, beats[b.session]-1)
	require.NoError(t, err)
	require.False(t, taken, "a beat that moved on is left alone")
	require.NoError(t, b.append(ctx, s.Run, entry(0, "{}")))
	taken, err = b.TakeOver(ctx, b.session, beats[b.session])
	require.NoError(t, err)
	require.True(t, taken)
	require.ErrorIs(t, b.append(ctx, s.Run, entry(1, "{}")), ErrFenced)
	require.ErrorIs(t, b.Beat(ctx, b.session), ErrFenced)
	next, err := b.OpenSession(ctx, "node-b")
	require.NoError(t, err)
	runs, err := b.Claim(ctx, next, Turn{}, 10)
	require.NoError(t, err)
	require.Len(t, runs, 1)
	require.Equal(t, 2, runs[0].Claim)
	require.Zero(t, runs[0].Takeovers, "it was not begun by a claim")
	require.False(t, runs[0].Interrupted.IsZero(), "and still something of it may have been in flight")
	journal := &RunJournal{Store: b.Store, Workspace: b.sc.workspace, Run: s.Run}
	got, err := journal.Entries(ctx, 1, 2, "", []item.Address{item.Root(0), item.Root(1)})
	require.NoError(t, err)
	require.Len(t, got, 1)

	// What the old node still held is not lost: the new owner adopts it.
	require.NoError(t, b.Adopt(ctx, next))
	got, err = journal.Entries(ctx, 1, 2, "", []item.Address{item.Root(0), item.Root(1)})
	require.NoError(t, err)
	require.Len(t, got, 2)
	require.ErrorIs(t, b.Adopt(ctx, b.session), ErrFenced)
}

func TestRunIdsFindTheirDaysPartition(t *testing.T) {
	t.Parallel()
	b := open(t)
	s, err := b.begin(context.Background(), b.start(""))
	require.NoError(t, err)
	var where string
	require.NoError(t, b.node.QueryRow(context.Background(), "SELECT tableoid::regclass::text FROM journal WHERE run_id = $1", s.Run).Scan(&where))
	require.Equal(t, "journal_"+time.Now().UTC().Format("20060102"), where)
}

func TestADraftIsChangedByOneAtATime(t *testing.T) {
	t.Parallel()
	b := open(t)
	ctx := context.Background()
	_, err := b.SaveDraft(ctx, b.sc, "loads", 1, "Loads", "two")
	require.NoError(t, err)
	newer, err := b.SaveDraft(ctx, b.sc, "loads", 1, "Loads", "three")
	require.ErrorIs(t, err, ErrConflict)
	_ = newer
	w, err := b.Workflow(ctx, b.sc, "loads")
	require.NoError(t, err)
	require.Equal(t, "two", w.Draft)
	_, err = b.CreateWorkflow(ctx, b.sc, "loads", "x", "x")
	require.ErrorIs(t, err, ErrTaken)
	live, err := b.GoLive(ctx, b.sc, "loads", GoingLive{Numbers: map[string]uint16{"a": 1}})
	require.NoError(t, err)
	require.Equal(t, 2, *live.Live)
	again, err := b.GoLive(ctx, b.sc, "loads", GoingLive{Numbers: map[string]uint16{"a": 1}})
	require.NoError(t, err)
	require.Equal(t, 2, *again.Live, "going live unchanged makes no new revision")
}

func TestDevicesAreKnownByTheirPersonForAWhile(t *testing.T) {
	t.Parallel()
	b := open(t)
	ctx := context.Background()
	person, err := b.CheckPassword(ctx, "mara@ottermere.example", "a password to test")
	require.NoError(t, err)
	var first string
	for i := range mostDevices + 1 {
		device, err := b.AddDevice(ctx, person)
		require.NoError(t, err)
		if i == 0 {
			first = device
		}
		known, err := b.KnowsDevice(ctx, "MARA@ottermere.example ", device)
		require.NoError(t, err)
		require.True(t, known)
		known, err = b.KnowsDevice(ctx, "wren@ottermere.example", device)
		require.NoError(t, err)
		require.False(t, known, "it is known to its own account only")
	}
	known, err := b.KnowsDevice(ctx, "mara@ottermere.example", first)
	require.NoError(t, err)
	require.False(t, known, "the one that was not seen for the longest gives way")
	last, err := b.AddDevice(ctx, person)
	require.NoError(t, err)
	_, err = b.people.Exec(ctx, "UPDATE known_device SET seen = now() - interval '181 days'")
	require.NoError(t, err)
	known, err = b.KnowsDevice(ctx, "mara@ottermere.example", last)
	require.NoError(t, err)
	require.False(t, known)
	require.NoError(t, b.Sweep(ctx))
	var n int
	require.NoError(t, b.people.QueryRow(ctx, "SELECT count(*) FROM known_device").Scan(&n))
	require.Zero(t, n)
}

func TestWhoHasAnAccountKeepsItsPassword(t *testing.T) {
	t.Parallel()
	b := open(t)
	ctx := context.Background()
	_, err := b.CreateOwner(ctx, "A second workspace", "MARA@ottermere.example", "Mara", "another password")
	require.ErrorContains(t, err, "has an account here already")
	var n int
	require.NoError(t, b.people.QueryRow(ctx, "SELECT count(*) FROM workspace").Scan(&n))
	require.Equal(t, 1, n, "nothing was made")
	sc, err := b.CreateOwner(ctx, "A second workspace", "mara@ottermere.example", "Mara", "a password to test")
	require.NoError(t, err)
	require.Equal(t, b.sc.person, sc.person)
}

func TestSessionsOfBrowsersExpire(t *testing.T) {
	t.Parallel()
	b := open(t)
	ctx := context.Background()
	_, err := b.CheckPassword(ctx, "mara@ottermere.example", "wrong")
	require.ErrorIs(t, err, ErrSignIn)
	_, err = b.CheckPassword(ctx, "nobody@ottermere.example", "wrong")
	require.ErrorIs(t, err, ErrSignIn)
	person, err := b.CheckPassword(ctx, " MARA@ottermere.example", "a password to test")
	require.NoError(t, err)
	before, _, err := b.OpenBrowser(ctx, person, "")
	require.NoError(t, err)
	cookie, sc, err := b.OpenBrowser(ctx, person, before)
	require.NoError(t, err)
	require.Equal(t, b.sc.workspace, sc.workspace)
	_, err = b.ScopeOfSession(ctx, before)
	require.ErrorIs(t, err, ErrNotFound, "a sign-in ends the session that it came with")
	_, err = b.ScopeOfSession(ctx, cookie)
	require.NoError(t, err)
	_, err = b.people.Exec(ctx, "UPDATE browser_session SET seen = now() - interval '13 hours'")
	require.NoError(t, err)
	_, err = b.ScopeOfSession(ctx, cookie)
	require.ErrorIs(t, err, ErrNotFound)
	secret, _, err := b.CreateToken(ctx, b.sc, NewToken{Name: "t", Role: Owner})
	require.NoError(t, err)
	_, err = b.people.Exec(ctx, "UPDATE member SET role = 'viewer'")
	require.NoError(t, err)
	weaker, err := b.ScopeOfToken(ctx, secret)
	require.NoError(t, err)
	require.Equal(t, Viewer, weaker.role, "a token is never stronger than its maker")
	_, err = b.people.Exec(ctx, "DELETE FROM member")
	require.NoError(t, err)
	_, err = b.ScopeOfToken(ctx, secret)
	require.ErrorIs(t, err, ErrNotFound)
}
