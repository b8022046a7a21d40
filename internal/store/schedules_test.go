package store

import (
	"context"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"youngtrellis/internal/core/lists"
)

// hang makes so many workflows live, each with a schedule that is due at a moment.
func (b *bench) hang(t *testing.T, n int, due time.Time) (ids []uuid.UUID) {
	t.Helper()
	ctx := context.Background()
	for i := range n {
		name := "hung-" + string(rune('a'+i%26)) + "-" + NewID().String()[30:]
		_, err := b.CreateWorkflow(ctx, b.sc, name, name, "format: young-trellis/1\n")
		require.NoError(t, err)
		w, err := b.GoLive(ctx, b.sc, name, GoingLive{Times: func(_ uuid.UUID, known []Scheduled, now time.Time) []Scheduled {
			require.Empty(t, known)
			require.WithinDuration(t, time.Now(), now, time.Minute)
			return []Scheduled{{Cadence: "every 10 minutes", Zone: "UTC", Rules: "r1", Anchor: due, Previous: due.Add(-time.Hour), Due: due, Key: "k1", Next: due, Missed: "once", Most: 100}}
		}})
		require.NoError(t, err)
		ids = append(ids, w.ID)
	}
	return ids
}

func TestWhatIsDueIsClaimedByOneAtATime(t *testing.T) {
	t.Parallel()
	b := open(t)
	ctx := within(t, time.Minute)
	due := time.Now().Add(-time.Second).UTC().Truncate(time.Microsecond)
	ids := b.hang(t, 6, due)
	later := due.Add(time.Hour)
	b.hang(t, 1, later)
	b.exec(t, "UPDATE revision SET library = library + 1")
	n, _, err := b.ClaimDue(ctx, 3, nil)
	require.NoError(t, err)
	require.Zero(t, n, "a newer node starts what only that knows")
	b.exec(t, "UPDATE revision SET library = library - 1")
	// Two claim at the same time, and each gets others; what one does not move on stays.
	var mu sync.Mutex
	var got []uuid.UUID
	both := make(chan struct{}, 2)
	var wait sync.WaitGroup
	for range 2 {
		wait.Go(func() {
			n, wait, err := b.ClaimDue(ctx, 3, func(now time.Time, list []DueNow) (on []Scheduled, missed []MissedTimes) {
				both <- struct{}{}
				require.Eventually(t, func() bool { return len(both) == 2 }, 20*time.Second, time.Millisecond)
				for _, d := range list {
					require.Equal(t, b.sc.workspace, d.Workspace)
					require.Equal(t, due, d.Due.UTC())
					require.Equal(t, 1, d.Live)
					mu.Lock()
					got = append(got, d.Workflow)
					mu.Unlock()
					x := d.Scheduled
					x.Previous, x.Due, x.Key, x.Next = d.Due, later, "k2", later
					on = append(on, x)
				}
				missed = append(missed, MissedTimes{Workspace: list[0].Workspace, Workflow: list[0].Workflow, First: due, Last: due, Times: 2, Started: 1})
				return on, missed
			})
			require.NoError(t, err)
			require.Equal(t, 3, n)
			require.InDelta(t, time.Hour, wait, float64(time.Minute))
		})
	}
	wait.Wait()
	require.Len(t, got, 6)
	for _, id := range ids {
		require.Contains(t, got, id)
	}
	n, _, err = b.ClaimDue(ctx, 3, nil)
	require.NoError(t, err)
	require.Zero(t, n)
	list, now, err := b.ScheduleList(ctx, b.sc, uuid.Nil, 100)
	require.NoError(t, err)
	require.Len(t, list, 7)
	require.WithinDuration(t, time.Now(), now, time.Minute)
	require.Equal(t, due, list[0].Previous.UTC())
	require.Equal(t, "live", list[0].State)
	missed, err := b.Missed(ctx, b.sc, uuid.Nil, 100)
	require.NoError(t, err)
	require.Len(t, missed, 2)
	require.Equal(t, 2, missed[0].Times)
	missed, err = b.Missed(ctx, b.sc, got[0], 100)
	require.NoError(t, err)
	require.Len(t, missed, 1)
	of, err := b.SchedulesOf(ctx, b.sc, ids)
	require.NoError(t, err)
	require.Len(t, of, 6)
	require.Equal(t, "k2", of[ids[0]][0].Key)

	other := b.another(t)
	list, _, err = other.ScheduleList(ctx, other.sc, uuid.Nil, 100)
	require.NoError(t, err)
	require.Empty(t, list, "a workspace sees its own")
	of, err = other.SchedulesOf(ctx, other.sc, ids)
	require.NoError(t, err)
	require.Empty(t, of)
	missed, err = other.Missed(ctx, other.sc, uuid.Nil, 100)
	require.NoError(t, err)
	require.Empty(t, missed)
}

// Whoever stands still with a claim in hand lets go of it.
func TestAClaimOfWhatStandsStillIsLetGo(t *testing.T) {
	t.Parallel()
	b := open(t)
	ctx := within(t, time.Minute)
	b.hang(t, 1, time.Now().Add(-time.Second))
	stands, goes := make(chan struct{}), make(chan struct{})
	var wait sync.WaitGroup
	wait.Go(func() {
		_, _, err := b.ClaimDue(ctx, 10, func(_ time.Time, list []DueNow) ([]Scheduled, []MissedTimes) {
			close(stands)
			<-goes
			x := list[0].Scheduled
			x.Key = "of the one that stood still"
			return []Scheduled{x}, nil
		})
		require.Error(t, err, "it is not its own any more")
	})
	<-stands
	require.Eventually(t, func() bool {
		n, _, err := b.ClaimDue(ctx, 10, func(_ time.Time, list []DueNow) ([]Scheduled, []MissedTimes) {
			x := list[0].Scheduled
			x.Due, x.Key, x.Next = time.Time{}, "", time.Time{}
			return []Scheduled{x}, nil
		})
		return err == nil && n == 1
	}, 40*time.Second, 100*time.Millisecond)
	close(goes)
	wait.Wait()
	list, _, err := b.ScheduleList(ctx, b.sc, uuid.Nil, 10)
	require.NoError(t, err)
	require.Empty(t, list[0].Key)
	require.True(t, list[0].Due.IsZero() && list[0].Next.IsZero())
}

func TestSchedulesFollowTheStateOfTheirWorkflow(t *testing.T) {
	t.Parallel()
	b := open(t)
	ctx := within(t, time.Minute)
	due := time.Now().Add(time.Hour).UTC().Truncate(time.Microsecond)
	id := b.hang(t, 1, due)[0]
	w, err := b.WorkflowByID(ctx, b.sc, id)
	require.NoError(t, err)
	require.Equal(t, "Mara Quill", w.StatedBy)
	since := w.Stated
	cleared := func(_ uuid.UUID, known []Scheduled, _ time.Time) []Scheduled {
		require.Len(t, known, 1)
		known[0].Due, known[0].Next = time.Time{}, time.Time{}
		return known
	}
	w, err = b.SetState(ctx, b.sc, w.Name, "paused", GoingLive{Times: cleared})
	require.NoError(t, err)
	require.True(t, w.Stated.After(since))
	again, err := b.SetState(ctx, b.sc, w.Name, "paused", GoingLive{Times: cleared})
	require.NoError(t, err)
	require.Equal(t, w.Stated, again.Stated, "it was paused before")
	list, _, err := b.Schedules(ctx, b.sc, id)
	require.NoError(t, err)
	require.True(t, list[0].Due.IsZero())
	// Live again with each reader at an hour of their own, and then by nothing.
	_, err = b.GoLive(ctx, b.sc, w.Name, GoingLive{Times: func(_ uuid.UUID, known []Scheduled, _ time.Time) []Scheduled {
		out := []Scheduled{}
		for _, reader := range []string{"Wren", "Mara"} {
			x := known[0]
			x.Reader, x.Due, x.Next = reader, due, due
			out = append(out, x)
		}
		return out
	}})
	require.NoError(t, err)
	list, _, err = b.Schedules(ctx, b.sc, id)
	require.NoError(t, err)
	require.Equal(t, []string{"Mara", "Wren"}, []string{list[0].Reader, list[1].Reader})
	_, err = b.GoLive(ctx, b.sc, w.Name, GoingLive{})
	require.NoError(t, err)
	list, _, err = b.Schedules(ctx, b.sc, id)
	require.NoError(t, err)
	require.Empty(t, list)
	require.NoError(t, b.DeleteWorkflow(ctx, b.sc, w.Name))
}

func TestZonesAreWorkedOutAnew(t *testing.T) {
	t.Parallel()
	b := open(t)
	ctx := within(t, time.Minute)
	ids := b.hang(t, 5, time.Now().Add(time.Hour))
	zones, err := b.ZonesInUse(ctx)
	require.NoError(t, err)
	require.Equal(t, []ZoneRules{{"UTC", "r1"}}, zones)
	var seen []uuid.UUID
	for n := 1; n > 0; {
		n, err = b.Rework(ctx, zones[0], 2, func(list []Scheduled) []Scheduled {
			for i := range list {
				seen = append(seen, list[i].Workflow)
				list[i].Rules = "r2"
			}
			return list
		})
		require.NoError(t, err)
	}
	require.Len(t, seen, 5)
	for _, id := range ids {
		require.True(t, slices.Contains(seen, id))
	}
	zones, err = b.ZonesInUse(ctx)
	require.NoError(t, err)
	require.Equal(t, []ZoneRules{{"UTC", "r2"}}, zones)
}

// The schedules of readers are made anew once their list has changed, by one of all who
// look, and of nobody else's list.
func TestTheSchedulesOfReadersFollowTheirList(t *testing.T) {
	t.Parallel()
	b := open(t)
	ctx := within(t, time.Minute)
	soon := time.Now().Add(time.Hour).UTC().Truncate(time.Microsecond)
	own := Scheduled{Cadence: "every day at 07:00", Zone: "UTC", Rules: "r1", Anchor: soon, Previous: soon, Missed: "once", Most: 100, List: "readers", ListVersion: NoVersion}
	_, err := b.CreateWorkflow(ctx, b.sc, "plan", "Plan", "format: young-trellis/1\n")
	require.NoError(t, err)
	plan, err := b.GoLive(ctx, b.sc, "plan", GoingLive{Times: func(uuid.UUID, []Scheduled, time.Time) []Scheduled { return []Scheduled{own} }})
	require.NoError(t, err)
	b.hang(t, 1, soon)

	// work gives each row of the list an hour.
	var seen []int
	work := func(_ time.Time, r Readers) ([]Scheduled, error) {
		require.Equal(t, plan.ID, r.Workflow)
		require.Equal(t, 1, r.Live)
		seen = append(seen, r.Version)
		out := []Scheduled{r.Known[0]}
		out[0].ListVersion = r.Version
		_, table, err := b.CurrentList(ctx, r.Workspace, "readers", 0)
		if err != nil {
			out[0].Trouble = "There is no list."
			return out, nil
		}
		for _, row := range table.Rows {
			x := own
			x.Workspace, x.Reader, x.Due, x.Key, x.Next, x.List, x.ListVersion = r.Workspace, row.Key, soon, "k", soon, "", 0
			out = append(out, x)
		}
		return out, nil
	}
	sync := func() (n int) {
		for {
			found, err := b.SyncReaders(ctx, work)
			require.NoError(t, err)
			if !found {
				return n
			}
			n++
		}
	}
	who := func() (out []string) {
		list, _, err := b.ScheduleList(ctx, b.sc, plan.ID, 100)
		require.NoError(t, err)
		for _, x := range list {
			out = append(out, x.Reader)
		}
		return out
	}
	require.Equal(t, 1, sync())
	require.Equal(t, []int{0}, seen)
	of, err := b.SchedulesOf(ctx, b.sc, []uuid.UUID{plan.ID})
	require.NoError(t, err)
	require.Equal(t, "There is no list.", of[plan.ID][0].Trouble)
	require.Empty(t, who())

	_, err = b.AddList(ctx, b.sc, List{Name: "readers"}, tableFrom(t, "address", "mara", "tam"), "created")
	require.NoError(t, err)
	other := b.another(t)
	_, err = other.AddList(ctx, other.sc, List{Name: "readers"}, tableFrom(t, "address", "jo"), "created")
	require.NoError(t, err)
	require.Equal(t, 1, sync())
	require.Equal(t, []string{"mara", "tam"}, who())
	require.Zero(t, sync(), "until it changes again")
	_, _, err = b.ChangeList(ctx, b.sc, "readers", edit(lists.Change{Key: "mara", Remove: true}))
	require.NoError(t, err)
	paused, err := b.SetState(ctx, b.sc, "plan", "paused", GoingLive{Times: func(_ uuid.UUID, known []Scheduled, _ time.Time) []Scheduled { return known }})
	require.NoError(t, err)
	require.Equal(t, "paused", paused.State)
	require.Zero(t, sync(), "a paused one rests")
	_, err = b.SetState(ctx, b.sc, "plan", "live", GoingLive{Times: func(_ uuid.UUID, known []Scheduled, _ time.Time) []Scheduled { return known }})
	require.NoError(t, err)
	require.Equal(t, 1, sync())
	require.Equal(t, []string{"tam"}, who())

	row, err := b.ReaderRow(ctx, b.sc.workspace, "readers", "tam")
	require.NoError(t, err)
	require.Equal(t, map[string]any{"address": "tam"}, row)
	for list, key := range map[string]string{"readers": "mara", "others": "tam"} {
		_, err = b.ReaderRow(ctx, b.sc.workspace, list, key)
		require.ErrorIs(t, err, ErrNotFound)
	}
}
