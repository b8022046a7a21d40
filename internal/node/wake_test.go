package node

import (
	"context"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"youngtrellis/internal/core/engine"
	"youngtrellis/internal/core/workflow"
	"youngtrellis/internal/runs"
)

// A wake follows what is due: the rows and counts of the others stay as they
// are, on whatever page they stand, and the last wake leaves a lattice in order.
func TestAWakeFollowsWhatIsDue(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	ctx := context.Background()
	w.live("naps", `  - {name: rest, type: wait, settings: {for: 2h}}`+"\n"+keyedSteps)
	n := w.node("one", Config{})
	const items = 600
	s := w.start("naps", items)
	_, err := n.Accept(ctx, s)
	require.NoError(t, err)
	db := dial(t, w.database)
	waits := func() (out int) {
		require.NoError(t, db.QueryRow(ctx, "SELECT count(*) FROM waiting WHERE run_id = $1 AND page IS NOT NULL", s.Run).Scan(&out))
		return out
	}
	asleep := func() bool { return w.run(s.Run).State == string(engine.WaitingOn) }
	w.until(20*time.Second, "all wait", func() bool { return asleep() && waits() == items })

	// wake makes every k-th of those that wait still due.
	wake := func(k int) {
		before := waits()
		tag, err := db.Exec(ctx, `UPDATE waiting w SET due = now() FROM (SELECT address, row_number() OVER (ORDER BY address) AS n FROM waiting WHERE run_id = $1) x
			WHERE w.run_id = $1 AND w.address = x.address AND x.n % $2 = 0`, s.Run, k)
		require.NoError(t, err)
		_, err = db.Exec(ctx, "UPDATE live SET wake = now() WHERE run_id = $1", s.Run)
		require.NoError(t, err)
		w.until(20*time.Second, "they went on", func() bool { return waits() == before-int(tag.RowsAffected()) && asleep() })
	}
	for i, k := range []int{200, 7, 2} {
		wake(k)
		require.EqualValues(t, i+1, n.followed.Load())
		left := waits()
		counts := w.run(s.Run).Counts
		require.Equal(t, []int{items, items - left, left}, []int{counts.In, counts.Through, counts.Waiting})
		require.Equal(t, items-left, w.side.done())
		win, err := rowsOf(ctx, w, s.Run, 2*items)
		require.NoError(t, err)
		require.Equal(t, map[string]int{"waiting": left, "written": items - left}, win.Fates)
		seen := map[string]bool{}
		for j, row := range win.Rows {
			require.Equal(t, j+1, row.Number)
			require.False(t, seen[row.Address], "%s has two rows", row.Address)
			seen[row.Address] = true
		}
		require.Len(t, seen, items)
	}

	// Where nothing else waits, the run is looked at as a whole. By the node's own
	// clock two hours have not passed, so that this changes nothing.
	before := w.run(s.Run).Counts
	_, err = db.Exec(ctx, "WITH w AS (UPDATE waiting SET due = now() WHERE run_id = $1) UPDATE live SET wake = now() WHERE run_id = $1", s.Run)
	require.NoError(t, err)
	var claim int
	w.until(20*time.Second, "it waits again", func() bool {
		require.NoError(t, db.QueryRow(ctx, "SELECT claim FROM live WHERE run_id = $1", s.Run).Scan(&claim))
		return claim == 5 && asleep()
	})
	require.EqualValues(t, 3, n.followed.Load())
	require.Equal(t, before, w.run(s.Run).Counts)
	win, err := rowsOf(ctx, w, s.Run, 2*items)
	require.NoError(t, err)
	require.Len(t, win.Rows, items)
	require.Equal(t, map[string]int{"waiting": before.Waiting, "written": before.Through}, win.Fates)
	w.side.once(t, before.Through)
}

// Where nobody knows where the rows of due items stand, the run is looked at as a
// whole.
func TestAWakeWithoutPlacesLooksAtAll(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	ctx := context.Background()
	later := time.Now().Add(9 * 24 * time.Hour).UTC().Format(time.RFC3339)
	w.live("naps", `  - {name: rest, type: wait, settings: {until: "item.n < 5 ? run.started : \"`+later+`\""}}`+"\n"+keyedSteps)
	n := w.node("one", Config{})
	s := w.start("naps", 10)
	_, err := n.Accept(ctx, s)
	require.NoError(t, err)
	w.until(20*time.Second, "it waits", func() bool { return w.run(s.Run).State == "waiting" })
	db := dial(t, w.database)
	for _, sql := range []string{
		"UPDATE waiting SET due = now() WHERE run_id = $1 AND address IN (SELECT address FROM waiting WHERE run_id = $1 LIMIT 2)",
		"UPDATE waiting SET page = NULL WHERE run_id = $1", // as if its rows had never been written
		"UPDATE live SET wake = now() WHERE run_id = $1",
	} {
		_, err := db.Exec(ctx, sql, s.Run)
		require.NoError(t, err)
	}
	var claim int
	w.until(20*time.Second, "it waits again", func() bool {
		require.NoError(t, db.QueryRow(ctx, "SELECT claim FROM live WHERE run_id = $1", s.Run).Scan(&claim))
		return claim > 1 && w.run(s.Run).State == "waiting"
	})
	require.Zero(t, n.followed.Load())
	win, err := rowsOf(ctx, w, s.Run, 20)
	require.NoError(t, err)
	require.Equal(t, map[string]int{"waiting": 5, "written": 5}, win.Fates)
}

// A run whose owner died lets go of its place while its items wait, however
// short that is, and so nothing that befalls its node meanwhile counts against it.
func TestASuspectDoesNotStayWhileItsItemsWait(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.live("naps", `  - {name: rest, type: wait, settings: {for: 25s}}`+"\n"+keyedSteps)
	id := w.queued("naps", 1)[0]
	db := dial(t, w.database)
	_, err := db.Exec(context.Background(), "UPDATE live SET takeovers = 2, interrupted = now()")
	require.NoError(t, err)
	n := w.node("one", Config{})
	w.until(15*time.Second, "it waits", func() bool { return w.run(id).State == "waiting" })
	require.Zero(t, w.count("SELECT sum(takeovers) FROM live"))
	w.reconciled(10*time.Second, n)
}

// seen are the rows of a run's lattice, as it stands.
type seen struct {
	*runs.View
	Rows []runs.Placed
}

func rowsOf(ctx context.Context, w *hallWorld, run uuid.UUID, most int) (seen, error) {
	l, err := runs.OpenLattice(ctx, w.store, w.sc, run, &workflow.Plan{})
	if err != nil {
		return seen{}, err
	}
	rows, err := l.Rows(ctx, runs.Filter{}, runs.Range{Count: most})
	return seen{l.View(runs.Filter{}), rows}, err
}
