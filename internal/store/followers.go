package store

import (
	"context"
	"encoding/json"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"youngtrellis/internal/core/engine"
)

// Follow is after which other workflow one starts, and in which states a pass of that
// has ended.
type Follow struct {
	Source uuid.UUID
	States []string
}

// setFollows makes these what a workflow follows.
func setFollows(ctx context.Context, tx pgx.Tx, w Workflow, list []Follow) error {
	_, err := tx.Exec(ctx, "DELETE FROM follower WHERE workflow_id = $1", w.ID)
	for _, f := range list {
		if err == nil {
			_, err = tx.Exec(ctx, "INSERT INTO follower (workspace_id, source_id, workflow_id, states) VALUES (nullif(current_setting('trellis.workspace', true), '')::uuid, $1, $2, $3)", f.Source, w.ID, f.States)
		}
	}
	return err
}

// Followers lists the names of the workflows that start after one.
func (s *Store) Followers(ctx context.Context, sc Scope, source uuid.UUID) (out []string, err error) {
	err = s.within(ctx, sc, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, "SELECT w.name FROM follower f JOIN workflow w ON w.workspace_id = f.workspace_id AND w.id = f.workflow_id WHERE f.source_id = $1 ORDER BY w.name", source)
		if err != nil {
			return err
		}
		out, err = pgx.CollectRows(rows, pgx.RowTo[string])
		return err
	})
	return out, err
}

// Outcome is a pass that has ended, and a workflow that is to start after it.
type Outcome struct {
	Workspace, Workflow uuid.UUID // of what is to start
	Live                int       // its revision
	Name, Title         string    // of the workflow whose pass it was
	Run                 uuid.UUID
	Pass                int
	State, Message      string
	Counts              engine.Counts
	Began, Ended        time.Time
	Hops                int // of the run that is to start
}

const claimOutcomesSQL = `SELECT o.workspace_id, o.workflow_id, w.live, s.name, s.title, o.run_id, o.pass, o.state, o.message, o.counts, o.began, o.ended, o.hops
	FROM outcome o LEFT JOIN workflow w ON w.workspace_id = o.workspace_id AND w.id = o.workflow_id AND w.state = 'live' LEFT JOIN workflow s ON s.workspace_id = o.workspace_id AND s.id = o.source_id
	ORDER BY o.ended LIMIT $1 FOR UPDATE OF o SKIP LOCKED`

// ClaimOutcomes claims outcomes for as long as work takes, and forgets those that it
// gives: their starts are durable. Those whose follower is not there any more are
// forgotten too. It gives how many were claimed; nobody else claims the same meanwhile.
func (s *Store) ClaimOutcomes(ctx context.Context, most int, work func([]Outcome) []Outcome) (claimed int, err error) {
	err = pgx.BeginFunc(ctx, s.node, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, "SET LOCAL idle_in_transaction_session_timeout = '"+claimIdle+"'"); err != nil {
			return err
		}
		rows, err := tx.Query(ctx, claimOutcomesSQL, most)
		if err != nil {
			return err
		}
		var list, done []Outcome
		for rows.Next() {
			var o Outcome
			var live *int
			var name, title *string
			var counts []byte
			if err := rows.Scan(&o.Workspace, &o.Workflow, &live, &name, &title, &o.Run, &o.Pass, &o.State, &o.Message, &counts, &o.Began, &o.Ended, &o.Hops); err != nil {
				rows.Close()
				return err
			}
			claimed++
			if live == nil || name == nil {
				done = append(done, o)
				continue
			}
			o.Live, o.Name, o.Title = *live, *name, *title
			if counts != nil {
				_ = json.Unmarshal(counts, &o.Counts) // what cannot be read counts nothing
			}
			list = append(list, o)
		}
		if err := rows.Err(); err != nil {
			return err
		}
		if len(list) > 0 {
			done = append(done, work(list)...)
		}
		var workspace, workflow, run [][16]byte
		var pass []int32
		for _, o := range done {
			workspace, workflow, run, pass = append(workspace, o.Workspace), append(workflow, o.Workflow), append(run, o.Run), append(pass, int32(o.Pass))
		}
		_, err = tx.Exec(ctx, `DELETE FROM outcome o USING unnest($1::uuid[], $2::uuid[], $3::uuid[], $4::int[]) AS d(workspace_id, workflow_id, run_id, pass)
			WHERE o.workspace_id = d.workspace_id AND o.workflow_id = d.workflow_id AND o.run_id = d.run_id AND o.pass = d.pass`, workspace, workflow, run, pass)
		return err
	})
	return claimed, unavailable(err)
}
