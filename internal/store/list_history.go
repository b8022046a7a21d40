package store

import (
	"context"
	"encoding/json"
	"errors"

	"github.com/jackc/pgx/v5"

	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/lists"
)

// writeDifference ends the rows that are not so any more, and writes those that are.
func writeDifference(ctx context.Context, tx pgx.Tx, sc Scope, l List, rows []lists.Row, d lists.Difference) error {
	if d.Moved || d.Between { // the places of all are others
		if _, err := tx.Exec(ctx, "UPDATE list_row SET until = $2 WHERE list_id = $1 AND until IS NULL", l.ID, l.Version); err != nil {
			return err
		}
		return writeRows(ctx, tx, sc, l, rows, 0)
	}
	ended := append(append([]string{}, d.Changed...), d.Removed...)
	ends, err := tx.Query(ctx, "UPDATE list_row SET until = $2 WHERE list_id = $1 AND until IS NULL AND key = ANY($3) RETURNING key, place", l.ID, l.Version, ended)
	if err != nil {
		return err
	}
	places := map[string]int{}
	var key string
	var place int
	if _, err := pgx.ForEachRow(ends, []any{&key, &place}, func() error { places[key] = place; return nil }); err != nil {
		return err
	}
	var last int
	if err := tx.QueryRow(ctx, "SELECT coalesce(max(place), 0) FROM list_row WHERE list_id = $1", l.ID).Scan(&last); err != nil {
		return err
	}
	added := map[string]bool{}
	for _, k := range d.Added {
		added[k] = true
	}
	// A row that was added stands after those that were there: else it was moved.
	var fresh, changed []lists.Row
	for _, r := range rows {
		switch _, was := places[r.Key]; {
		case added[r.Key]:
			fresh = append(fresh, r)
		case was:
			changed = append(changed, r)
		}
	}
	if err := insertRows(ctx, tx, sc, l, changed, func(i int) int { return places[changed[i].Key] }); err != nil {
		return err
	}
	return writeRows(ctx, tx, sc, l, fresh, last)
}

// writeRows writes rows of the list's version, one after the other after a place.
func writeRows(ctx context.Context, tx pgx.Tx, sc Scope, l List, rows []lists.Row, after int) error {
	return insertRows(ctx, tx, sc, l, rows, func(i int) int { return after + i + 1 })
}

func insertRows(ctx context.Context, tx pgx.Tx, sc Scope, l List, rows []lists.Row, place func(i int) int) error {
	if len(rows) == 0 {
		return nil
	}
	keys, places, fields := make([]string, len(rows)), make([]int, len(rows)), make([]string, len(rows))
	for i, r := range rows {
		b, err := item.Encode(r.Fields)
		if err != nil {
			return err
		}
		keys[i], places[i], fields[i] = r.Key, place(i), string(b)
	}
	_, err := tx.Exec(ctx, "INSERT INTO list_row (workspace_id, list_id, since, key, place, fields) SELECT $1, $2, $3, * FROM unnest($4::text[], $5::int[], $6::text[])",
		sc.workspace, l.ID, l.Version, keys, places, fields)
	return err
}

// noteChange notes a change, and forgets the oldest ones with the rows that only they
// tell of.
func noteChange(ctx context.Context, tx pgx.Tx, sc Scope, l List, what string) error {
	columns, err := json.Marshal(l.Columns)
	if err != nil {
		return err
	}
	oldest := l.Version - MaxListChanges // of which nothing is told any more
	b := &pgx.Batch{}
	b.Queue("INSERT INTO list_change (workspace_id, list_id, version, changed_by, what, columns) VALUES ($1, $2, $3, $4, $5, $6)", sc.workspace, l.ID, l.Version, l.ChangedBy, what, columns)
	b.Queue("DELETE FROM list_change WHERE list_id = $1 AND version <= $2", l.ID, oldest)
	b.Queue("DELETE FROM list_row WHERE list_id = $1 AND until <= $2", l.ID, oldest)
	return tx.SendBatch(ctx, b).Close()
}

// ListChanges gives the changes of a list, newest first, from before a version; 0 for
// the newest.
func (s *Store) ListChanges(ctx context.Context, sc Scope, name string, before, limit int) (out []ListChange, err error) {
	err = s.within(ctx, sc, func(tx pgx.Tx) error {
		l, err := listOf(ctx, tx, name, "")
		if err != nil {
			return err
		}
		rows, err := tx.Query(ctx, "SELECT version, at, changed_by, what FROM list_change WHERE list_id = $1 AND ($2 = 0 OR version < $2) ORDER BY version DESC LIMIT $3", l.ID, before, limit)
		if err != nil {
			return err
		}
		out, err = pgx.CollectRows(rows, pgx.RowToStructByPos[ListChange])
		return err
	})
	return out, err
}

// ListAt gives the contents of a list after one of its changes, and before it; nil
// before the first. ErrNotFound: nothing is known of that version.
func (s *Store) ListAt(ctx context.Context, sc Scope, name string, version int) (before, after *lists.Table, err error) {
	err = s.within(ctx, sc, func(tx pgx.Tx) error {
		l, err := listOf(ctx, tx, name, "")
		if err != nil {
			return err
		}
		if after, err = earlierTable(ctx, tx, l, version); err != nil {
			return err
		}
		before, err = earlierTable(ctx, tx, l, version-1)
		if errors.Is(err, ErrNotFound) {
			before, err = nil, nil
		}
		return err
	})
	return before, after, err
}

// earlierTable reads the contents after a change that is still known.
func earlierTable(ctx context.Context, tx pgx.Tx, l List, version int) (*lists.Table, error) {
	at := l
	if err := tx.QueryRow(ctx, "SELECT columns FROM list_change WHERE list_id = $1 AND version = $2", l.ID, version).Scan(&at.Columns); err != nil {
		if errors.Is(err, pgx.ErrNoRows) {
			return nil, ErrNotFound
		}
		return nil, err
	}
	return tableOf(ctx, tx, at, version)
}
