package store

import (
	"context"
	"fmt"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"youngtrellis/internal/core/lists"
)

func tableFrom(t *testing.T, lines ...string) *lists.Table {
	t.Helper()
	out, err := lists.ReadCSV([]byte(strings.Join(lines, "\n")), nil)
	require.NoError(t, err)
	return out
}

func shownAs(t *testing.T, x *lists.Table) string {
	t.Helper()
	var s strings.Builder
	require.NoError(t, x.WriteCSV(&s))
	return strings.ReplaceAll(strings.TrimSpace(s.String()), "\r\n", " | ")
}

// edit is a change of rows.
func edit(edits ...lists.Change) Changing {
	return func(_ *List, now *lists.Table, _ Earlier) (*lists.Table, string, error) {
		then, err := now.Apply(edits)
		return then, "", err
	}
}

func set(key, column string, v any) lists.Change {
	return lists.Change{Key: key, Fields: map[string]any{column: v}}
}

func TestAListKeepsItsHistory(t *testing.T) {
	t.Parallel()
	b := open(t)
	ctx := within(t, time.Minute)
	duty := tableFrom(t, "short,phone,floor", "wren,1,1", "tam,2,2", "ash,3,3")
	l, err := b.AddList(ctx, b.sc, List{Name: "duty", Title: "On duty"}, duty, "created")
	require.NoError(t, err)
	require.Equal(t, 1, l.Version)
	_, err = b.AddList(ctx, b.sc, List{Name: "duty"}, duty, "created")
	require.ErrorIs(t, err, ErrTaken)

	_, d, err := b.ChangeList(ctx, b.sc, "duty", edit(set("tam", "phone", "22"), lists.Change{Key: "wren", Remove: true}, lists.Change{Fields: map[string]any{"short": "elm"}}))
	require.NoError(t, err)
	require.Equal(t, "1 row added, 1 row changed and 1 row removed", d.String())
	l, d, err = b.ChangeList(ctx, b.sc, "duty", edit(set("tam", "phone", "22")))
	require.NoError(t, err)
	require.True(t, d.None())
	require.Equal(t, 2, l.Version, "what is no change makes no version")
	_, _, err = b.ChangeList(ctx, b.sc, "duty", edit(set("wren", "phone", "5")))
	require.ErrorContains(t, err, `There is no row "wren".`)
	l, _, err = b.ChangeList(ctx, b.sc, "duty", func(l *List, now *lists.Table, _ Earlier) (*lists.Table, string, error) {
		l.Title = "Who is on duty"
		then, err := now.Reshape([]lists.Column{{Name: "name", Type: lists.Text, Was: "short"}, {Name: "phone", Type: lists.Text}})
		return then, "columns changed", err
	})
	require.NoError(t, err)
	require.Equal(t, "Who is on duty", l.Title)
	_, d, err = b.ChangeList(ctx, b.sc, "duty", func(_ *List, now *lists.Table, _ Earlier) (*lists.Table, string, error) {
		in, err := lists.ReadCSV([]byte("name,phone\nelm,9\nash,3"), now.Columns)
		require.NoError(t, err)
		then, err := now.Join(in, lists.Replace)
		return then, "", err
	})
	require.NoError(t, err)
	require.Equal(t, "1 row changed, 1 row removed and the order changed", d.String())
	_, d, err = b.ChangeList(ctx, b.sc, "duty", func(_ *List, now *lists.Table, _ Earlier) (*lists.Table, string, error) {
		then := &lists.Table{Columns: now.Columns, Rows: append([]lists.Row{{Key: "oak", Fields: map[string]any{"name": "oak"}}}, now.Rows...)}
		return then, "", nil
	})
	require.NoError(t, err)
	require.Equal(t, "1 row added", d.String())
	l, _, err = b.ChangeList(ctx, b.sc, "duty", func(_ *List, _ *lists.Table, earlier Earlier) (*lists.Table, string, error) {
		then, err := earlier(2)
		return then, "put back as it was at version 2", err
	})
	require.NoError(t, err)
	require.Equal(t, 6, l.Version)

	want := []string{
		"short,phone,floor | wren,1,1 | tam,2,2 | ash,3,3",
		"short,phone,floor | tam,22,2 | ash,3,3 | elm,,",
		"name,phone | tam,22 | ash,3 | elm,",
		"name,phone | elm,9 | ash,3",
		"name,phone | oak, | elm,9 | ash,3",
		"short,phone,floor | tam,22,2 | ash,3,3 | elm,,",
	}
	for i, w := range want {
		before, after, err := b.ListAt(ctx, b.sc, "duty", i+1)
		require.NoError(t, err)
		require.Equal(t, w, shownAs(t, after), "version %d", i+1)
		if i > 0 {
			require.Equal(t, want[i-1], shownAs(t, before))
		} else {
			require.Nil(t, before)
		}
	}
	_, now, err := b.CurrentList(ctx, b.sc.workspace, "duty", 4)
	require.NoError(t, err)
	require.Equal(t, want[5], shownAs(t, now))
	_, now, err = b.CurrentList(ctx, b.sc.workspace, "duty", 6)
	require.NoError(t, err)
	require.Nil(t, now, "what is known is not read again")
	changes, err := b.ListChanges(ctx, b.sc, "duty", 0, 10)
	require.NoError(t, err)
	require.Len(t, changes, 6)
	require.Equal(t, "put back as it was at version 2", changes[0].What)
	require.Equal(t, "1 row added, 1 row changed and 1 row removed", changes[4].What)
	require.Equal(t, "Mara Quill", changes[5].ChangedBy)
	changes, err = b.ListChanges(ctx, b.sc, "duty", 3, 1)
	require.NoError(t, err)
	require.Equal(t, 2, changes[0].Version)
	_, _, err = b.ListAt(ctx, b.sc, "duty", 7)
	require.ErrorIs(t, err, ErrNotFound)

	require.NoError(t, b.RemoveList(ctx, b.sc, "duty"))
	require.ErrorIs(t, b.RemoveList(ctx, b.sc, "duty"), ErrNotFound)
	_, _, err = b.ListTable(ctx, b.sc, "duty")
	require.ErrorIs(t, err, ErrNotFound)
}

func TestChangesOfAListComeOneAfterTheOther(t *testing.T) {
	t.Parallel()
	b := open(t)
	ctx := within(t, time.Minute)
	_, err := b.AddList(ctx, b.sc, List{Name: "count"}, tableFrom(t, "key,n", "a,0"), "created")
	require.NoError(t, err)
	add := func(_ *List, now *lists.Table, _ Earlier) (*lists.Table, string, error) {
		n, _ := now.Rows[0].Fields["n"].(int64)
		then, err := now.Apply([]lists.Change{set("a", "n", n+1), {Fields: map[string]any{"key": fmt.Sprint("k", n)}}})
		return then, "", err
	}
	const people = 24
	var all sync.WaitGroup
	for range people {
		all.Go(func() {
			_, _, err := b.ChangeList(ctx, b.sc, "count", add)
			require.NoError(t, err)
		})
	}
	all.Wait()
	l, x, err := b.ListTable(ctx, b.sc, "count")
	require.NoError(t, err)
	require.Equal(t, people+1, l.Version)
	require.Equal(t, int64(people), x.Rows[0].Fields["n"])
	for i := range people {
		require.Equal(t, fmt.Sprint("k", i), x.Rows[i+1].Key, "what is added stands last")
	}
}

func TestAFullListIsChangedRowByRow(t *testing.T) {
	t.Parallel()
	b := open(t)
	ctx := within(t, time.Minute)
	lines := []string{"key,n"}
	for i := range lists.MaxRows {
		lines = append(lines, fmt.Sprintf("k%d,%d", i, i))
	}
	l, err := b.AddList(ctx, b.sc, List{Name: "studios"}, tableFrom(t, lines...), "created")
	require.NoError(t, err)
	change := func(n int) {
		t.Helper()
		_, _, err := b.ChangeList(ctx, b.sc, "studios", edit(set("k9", "n", int64(n))))
		require.NoError(t, err)
	}
	for n := range 3 {
		change(100 + n)
	}
	// The middle ones need not be made one by one.
	_, err = admin(t, b.node.Config().ConnString()).Exec(ctx, "UPDATE list SET version = $2 WHERE id = $1", l.ID, MaxListChanges)
	require.NoError(t, err)
	change(-1)
	change(-2)
	_, _, err = b.ListAt(ctx, b.sc, "studios", 1)
	require.ErrorIs(t, err, ErrNotFound, "what is too old is forgotten")
	_, _, err = b.ListAt(ctx, b.sc, "studios", 3)
	require.NoError(t, err)
	var rows int
	require.NoError(t, admin(t, b.node.Config().ConnString()).QueryRow(ctx, "SELECT count(*) FROM list_row").Scan(&rows))
	require.Equal(t, lists.MaxRows+4, rows, "and so are its rows: those of k9 until version 2 are gone")
	_, x, err := b.ListTable(ctx, b.sc, "studios")
	require.NoError(t, err)
	require.Len(t, x.Rows, lists.MaxRows)
	require.Equal(t, "k9", x.Rows[9].Key)
	require.Equal(t, int64(-2), x.Rows[9].Fields["n"])
}

func TestAWorkspaceHasListsOfItsOwn(t *testing.T) {
	t.Parallel()
	b := open(t)
	ctx := within(t, time.Minute)
	_, err := b.AddList(ctx, b.sc, List{Name: "duty"}, tableFrom(t, "short", "wren"), "created")
	require.NoError(t, err)
	other, err := b.CreateOwner(context.Background(), "Elsewhere", "jo@elsewhere.example", "Jo", "a password to test")
	require.NoError(t, err)
	_, err = b.List(ctx, other, "duty")
	require.ErrorIs(t, err, ErrNotFound)
	_, _, err = b.ChangeList(ctx, other, "duty", edit(lists.Change{Key: "wren", Remove: true}))
	require.ErrorIs(t, err, ErrNotFound)
	_, _, err = b.CurrentList(ctx, uuid.New(), "duty", 0)
	require.ErrorIs(t, err, ErrNotFound)
	all, err := b.Lists(ctx, other)
	require.NoError(t, err)
	require.Empty(t, all)
	for i := range MaxLists {
		_, err := b.AddList(ctx, other, List{Name: fmt.Sprint("l", i)}, tableFrom(t, "short"), "created")
		require.NoError(t, err)
	}
	_, err = b.AddList(ctx, other, List{Name: "more"}, tableFrom(t, "short"), "created")
	require.ErrorIs(t, err, ErrFull)
}
