package store

import (
	"context"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"youngtrellis/internal/core/engine"
	"youngtrellis/internal/core/item"
)

// says appends an entry by which an item answers.
func (b *bench) says(t *testing.T, run uuid.UUID, address, reply string, lasts time.Duration) {
	t.Helper()
	now := time.Now().UTC().Truncate(time.Microsecond)
	key := engine.Key{Pass: 1, Step: 3, Address: item.Address(address)}
	_, err := b.writer.Append(context.Background(), b.sc.workspace, run, &engine.Entry{Key: key, Outcome: engine.Done, Started: now, Ended: now, Result: []byte(reply)}, engine.Answers{Key: key, Reply: []byte(reply), Lasts: lasts})
	require.NoError(t, err)
}

func (b *bench) answer(t *testing.T, run uuid.UUID) Answered {
	t.Helper()
	list, err := b.Answers(context.Background(), []uuid.UUID{b.sc.workspace}, []uuid.UUID{run})
	require.NoError(t, err)
	require.Len(t, list, 1)
	return list[0]
}

// The first item that answers is heard, whoever else says something, and however often.
func TestTheFirstAnswerStands(t *testing.T) {
	t.Parallel()
	b := open(t)
	ctx := context.Background()
	s, err := b.begin(ctx, b.claimed(""))
	require.NoError(t, err)
	a := b.answer(t, s.Run)
	require.Nil(t, a.Reply)
	require.Equal(t, engine.Running, a.State)
	b.says(t, s.Run, "a", `{"status":200}`, 0)
	b.says(t, s.Run, "b", `{"status":404}`, 0)
	b.says(t, s.Run, "a", `{"status":500}`, 0) // an entry that stands already
	a = b.answer(t, s.Run)
	require.Equal(t, `{"status":200}`, string(a.Reply))
	require.Equal(t, "a", string(a.Key.Address))
	require.EqualValues(t, 3, a.Key.Step)
	of, err := b.Answer(ctx, b.sc, s.Run)
	require.NoError(t, err)
	require.Equal(t, a, of)

	require.True(t, b.end(t, &End{Run: s.Run, Workflow: b.workflow.ID, State: engine.FailedRun, Message: "no glaze", Claim: 1, Total: -1}))
	a = b.answer(t, s.Run)
	require.Equal(t, engine.FailedRun, a.State)
	require.Equal(t, "no glaze", a.Message)
	require.Equal(t, `{"status":200}`, string(a.Reply), "the answer outlasts its run")
}

func TestAnAnswerIsFoundByItsTokenForAWhile(t *testing.T) {
	t.Parallel()
	b := open(t)
	ctx := context.Background()
	s, err := b.begin(ctx, b.claimed(""))
	require.NoError(t, err)
	p := Placed{Workspace: b.sc.workspace, Workflow: b.workflow.ID, Run: s.Run}
	for range 2 { // said twice, it is the same
		require.NoError(t, b.PlaceAnswer(ctx, p, "a token"))
	}
	got, err := b.AnswerPlaced(ctx, "a token")
	require.NoError(t, err)
	require.Equal(t, s.Run, got.Run)
	require.NotEmpty(t, got.Hook)
	_, err = b.AnswerPlaced(ctx, "another")
	require.ErrorIs(t, err, ErrNotFound)
	b.says(t, s.Run, "a", `{"status":200}`, 90*24*time.Hour)
	require.Equal(t, `{"status":200}`, string(b.answer(t, s.Run).Reply), "it comes where somebody waits for it")
	require.Equal(t, 1, b.count(t, "SELECT count(*) FROM answer WHERE expires > now() + interval '89 days'"), "as long as its start is known")

	b.exec(t, "UPDATE answer SET placed = now() - interval '7 days 1 minute'")
	_, err = b.AnswerPlaced(ctx, "a token")
	require.ErrorIs(t, err, ErrNotFound)
	b.exec(t, "UPDATE answer SET expires = now() - interval '1 minute'")
	require.NoError(t, b.Sweep(ctx))
	require.Zero(t, b.count(t, "SELECT count(*) FROM answer"))
}

// What another workspace's run answered is not read with one's own scope.
func TestAnAnswerIsOfItsWorkspace(t *testing.T) {
	t.Parallel()
	b := open(t)
	s, err := b.begin(context.Background(), b.claimed(""))
	require.NoError(t, err)
	b.says(t, s.Run, "a", `{"status":200}`, 0)
	other := b.another(t)
	a, err := b.Answer(context.Background(), other.sc, s.Run)
	require.NoError(t, err)
	require.Nil(t, a.Reply)
	require.Empty(t, a.State)
}

// Two workflows never have one path, and a path can be given up.
func TestAPathIsOfOneWorkflow(t *testing.T) {
	t.Parallel()
	b := open(t)
	ctx := context.Background()
	w, err := b.GoLive(ctx, b.sc, b.workflow.Name, GoingLive{Path: "kiln-hall"})
	require.NoError(t, err)
	require.Equal(t, "kiln-hall", w.Path)
	h, err := b.HookByAddress(ctx, "kiln-hall")
	require.NoError(t, err)
	require.Equal(t, w.ID, h.Workflow)
	_, err = b.CreateWorkflow(ctx, b.sc, "another", "another", "format: young-trellis/1\n")
	require.NoError(t, err)
	_, err = b.GoLive(ctx, b.sc, "another", GoingLive{Path: "kiln-hall"})
	require.ErrorIs(t, err, ErrPathTaken)
	w, err = b.GoLive(ctx, b.sc, b.workflow.Name, GoingLive{})
	require.NoError(t, err)
	require.Empty(t, w.Path)
	_, err = b.GoLive(ctx, b.sc, "another", GoingLive{Path: "kiln-hall"})
	require.NoError(t, err)
	_, err = b.HookByAddress(ctx, w.Hook)
	require.NoError(t, err, "the random address goes on")
}

func TestFormsAreCountedByTheDay(t *testing.T) {
	t.Parallel()
	b := open(t)
	ctx := context.Background()
	h := Hook{Workspace: b.sc.workspace, Workflow: b.workflow.ID}
	for want := 1; want <= 3; want++ {
		n, err := b.Filled(ctx, h)
		require.NoError(t, err)
		require.Equal(t, want, n)
	}
	b.exec(t, "UPDATE workflow SET filled_on = filled_on - 1")
	n, err := b.Filled(ctx, h)
	require.NoError(t, err)
	require.Equal(t, 1, n)
}
