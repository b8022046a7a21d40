package store

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/lists"
)

// List is what is known of a workspace list beside its rows.
type List struct {
	ID        uuid.UUID
	Name      string
	Title     string
	About     string
	Columns   []lists.Column
	Version   int // counts the changes, from 1
	Rows      int
	Changed   time.Time
	ChangedBy string
}

// Bounds of what is kept of lists.
const (
	MaxLists       = 200 // of a workspace
	MaxListChanges = 500 // of a list; of older ones nothing is known
)

const listColumns = "id, name, title, about, columns, version, rows, changed, changed_by"

// Lists gives those of a workspace, by name.
func (s *Store) Lists(ctx context.Context, sc Scope) (out []List, err error) {
	err = s.within(ctx, sc, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, "SELECT "+listColumns+" FROM list ORDER BY name")
		if err != nil {
			return err
		}
		out, err = pgx.CollectRows(rows, pgx.RowToStructByPos[List])
		return err
	})
	return out, err
}

// ListNames are those of a workspace's lists.
func (s *Store) ListNames(ctx context.Context, workspace uuid.UUID) (out []string, err error) {
	all, err := s.Lists(ctx, s.forWorkspace(workspace))
	for _, l := range all {
		out = append(out, l.Name)
	}
	return out, err
}

// List finds one by its name. ErrNotFound: there is none.
func (s *Store) List(ctx context.Context, sc Scope, name string) (out List, err error) {
	err = s.within(ctx, sc, func(tx pgx.Tx) error {
		out, err = listOf(ctx, tx, name, "")
		return err
	})
	return out, err
}

func listOf(ctx context.Context, tx pgx.Tx, name, lock string) (List, error) {
	rows, err := tx.Query(ctx, "SELECT "+listColumns+" FROM list WHERE name = $1 "+lock, name)
	if err != nil {
		return List{}, err
	}
	return pgx.CollectExactlyOneRow(rows, pgx.RowToStructByPos[List])
}

// ListTable gives a list with its rows as they stand.
func (s *Store) ListTable(ctx context.Context, sc Scope, name string) (l List, t *lists.Table, err error) {
	err = s.within(ctx, sc, func(tx pgx.Tx) error {
		if l, err = listOf(ctx, tx, name, ""); err != nil {
			return err
		}
		t, err = tableOf(ctx, tx, l, l.Version) // whatever changes between the two readings
		return err
	})
	return l, t, err
}

// CurrentList gives a list with its rows for a run; one of the version that is known
// already is given without them.
func (s *Store) CurrentList(ctx context.Context, workspace uuid.UUID, name string, known int) (l List, t *lists.Table, err error) {
	sc := s.forWorkspace(workspace)
	if known > 0 {
		if l, err = s.List(ctx, sc, name); err != nil || l.Version == known {
			return l, nil, err
		}
	}
	return s.ListTable(ctx, sc, name)
}

// tableOf reads the rows of a version.
func tableOf(ctx context.Context, tx pgx.Tx, l List, version int) (*lists.Table, error) {
	rows, err := tx.Query(ctx, "SELECT key, fields FROM list_row WHERE list_id = $1 AND since <= $2 AND (until IS NULL OR until > $2) ORDER BY place", l.ID, version)
	if err != nil {
		return nil, err
	}
	t := &lists.Table{Columns: l.Columns, Rows: make([]lists.Row, 0, l.Rows)}
	t.Rows, err = pgx.AppendRows(t.Rows, rows, scanListRow)
	return t, err
}

func scanListRow(row pgx.CollectableRow) (r lists.Row, err error) {
	var fields string
	if err := row.Scan(&r.Key, &fields); err != nil {
		return r, err
	}
	r.Fields, err = item.DecodeObject([]byte(fields))
	return r, err
}

// AddList makes a list with its first rows. ErrTaken: there is one of this name.
func (s *Store) AddList(ctx context.Context, sc Scope, l List, t *lists.Table, what string) (out List, err error) {
	err = s.within(ctx, sc, func(tx pgx.Tx) error {
		var n int
		if err := tx.QueryRow(ctx, "SELECT count(*) FROM list").Scan(&n); err != nil {
			return err
		}
		if n >= MaxLists {
			return fmt.Errorf("a workspace has at most %d lists: %w", MaxLists, ErrFull)
		}
		out = l
		out.ID, out.Version, out.Columns, out.Rows, out.Changed, out.ChangedBy = NewID(), 1, t.Columns, len(t.Rows), time.Now(), sc.Who()
		tag, err := tx.Exec(ctx, "INSERT INTO list (workspace_id, id, name, title, about, columns, rows, changed_by) VALUES ($1, $2, $3, $4, $5, $6, $7, $8) ON CONFLICT (workspace_id, name) DO NOTHING",
			sc.workspace, out.ID, l.Name, l.Title, l.About, t.Columns, len(t.Rows), out.ChangedBy)
		switch {
		case err != nil:
			return err
		case tag.RowsAffected() == 0:
			return ErrTaken
		}
		if err := writeRows(ctx, tx, sc, out, t.Rows, 0); err != nil {
			return err
		}
		return noteChange(ctx, tx, sc, out, what)
	})
	return out, err
}

// ErrFull says that there are as many as there may be.
var ErrFull = errors.New("there is no room for another")

// ListChange is one of a list's changes.
type ListChange struct {
	Version   int
	At        time.Time
	ChangedBy string
	What      string
}

// Earlier gives the contents of a list after one of its changes. ErrNotFound: nothing
// is known of it.
type Earlier func(version int) (*lists.Table, error)

// Changing works out what becomes of a list: what it is called, its columns and rows.
// What says in words what was done; "" where the rows say it.
type Changing func(l *List, now *lists.Table, earlier Earlier) (then *lists.Table, what string, err error)

// ChangeList changes a list, one change after another. Where the change is no change
// nothing is written. ErrNotFound: there is none.
func (s *Store) ChangeList(ctx context.Context, sc Scope, name string, change Changing) (l List, d lists.Difference, err error) {
	err = s.within(ctx, sc, func(tx pgx.Tx) error {
		if l, err = listOf(ctx, tx, name, "FOR UPDATE"); err != nil {
			return err
		}
		now, err := tableOf(ctx, tx, l, l.Version)
		if err != nil {
			return err
		}
		before := l
		then, what, err := change(&l, now, func(version int) (*lists.Table, error) { return earlierTable(ctx, tx, l, version) })
		if err != nil {
			return err
		}
		d = lists.Between(now.Rows, then.Rows)
		if d.None() && what == "" {
			l = before
			return nil
		}
		if what == "" {
			what = d.String()
		}
		l.Version++
		l.Columns, l.Rows, l.ChangedBy = then.Columns, len(then.Rows), sc.Who()
		err = tx.QueryRow(ctx, "UPDATE list SET title = $2, about = $3, columns = $4, rows = $5, version = $6, changed = now(), changed_by = $7 WHERE id = $1 RETURNING changed",
			l.ID, l.Title, l.About, l.Columns, l.Rows, l.Version, l.ChangedBy).Scan(&l.Changed)
		if err != nil {
			return err
		}
		if err := writeDifference(ctx, tx, sc, l, then.Rows, d); err != nil {
			return err
		}
		return noteChange(ctx, tx, sc, l, what)
	})
	return l, d, err
}

// RemoveList removes a list and its history. ErrNotFound: there is none.
func (s *Store) RemoveList(ctx context.Context, sc Scope, name string) error {
	return s.within(ctx, sc, func(tx pgx.Tx) error {
		tag, err := tx.Exec(ctx, "DELETE FROM list WHERE name = $1", name)
		if err == nil && tag.RowsAffected() == 0 {
			return ErrNotFound
		}
		return err
	})
}
